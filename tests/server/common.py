"""People, files and short ways for the server's tests."""

from __future__ import annotations

import json
import shutil
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from accounts.services import ensure_people
from bitecore.files import stl
from bitecore.mesh import Mesh
from tests.shapes import light_jaws as jaws

PEOPLE = [
    ("mira", "Mira", "Tallow", "technician", "plaster-and-light"),
    ("tove", "Tove", "Ashgrove", "lead", "plaster-and-light"),
]


def people() -> None:
    ensure_people(PEOPLE)


def delete(browser: Client, path: str) -> Any:
    return browser.delete(path, headers={"X-CSRFToken": browser.cookies["csrftoken"].value})


def client(name: str) -> Client:
    """A signed-in browser that has to show its CSRF token as a real one does."""
    out = Client(enforce_csrf_checks=True)
    token = out.get("/api/me").json()["csrf"]
    answer = out.post("/api/sign-in", {"name": name, "password": "plaster-and-light"}, "application/json", headers={"X-CSRFToken": token})
    assert answer.status_code == 200, answer.content
    return out


def post(who: Client, path: str, body: Any = None) -> Any:
    """POST JSON with the CSRF token."""
    token = who.cookies["csrftoken"].value
    return who.post(path, json.dumps(body or {}), "application/json", headers={"X-CSRFToken": token})


def yes(who: Client, number: str, base: int, steps: list[str]) -> Any:
    """Say yes to steps as a person does: to each of their doubts by itself first."""
    found = who.get(f"/api/cases/{number}/doubts").json()
    ids = [d["id"] for d in found["doubts"] if d["step"] in steps and not d["at"]]
    if ids:
        answer = post(who, f"/api/cases/{number}/doubts", {"base": found["revision"], "doubts": ids})
        assert answer.status_code == 200, answer.content
    return post(who, f"/api/cases/{number}/accept", {"base": base, "steps": steps})


def drop(who: Client, *files: tuple[str, bytes], to: str = "/api/cases/drop", name: str = "") -> Any:
    """name : what the sender calls this drop."""
    uploads = [SimpleUploadedFile(name, data) for name, data in files]
    return who.post(to, {"files": uploads}, headers={"X-CSRFToken": who.cookies["csrftoken"].value, "X-Drop": name})


def scan(mesh: Mesh) -> bytes:
    return stl.write_binary(mesh)


def pair() -> tuple[tuple[str, bytes], tuple[str, bytes]]:
    upper, lower = jaws(3)
    return ("a.stl", scan(upper)), ("b.stl", scan(lower))


def clear_state() -> None:
    """Blobs and views of the test before."""
    for root in (settings.BLOB_ROOT, settings.VIEW_ROOT):
        assert "bench-test-" in str(root), "tests run through ./bench test"
        shutil.rmtree(Path(root), ignore_errors=True)


def until(true: Callable[[], bool], *, seconds: float = 120.0) -> None:
    """Wait for what another process does. Raises AssertionError where it is not done in time."""
    end = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < end, "it was not done in time"
        time.sleep(0.05)
