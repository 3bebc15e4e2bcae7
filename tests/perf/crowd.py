"""Many cases at once: what a colleague feels of twenty in the queue, and how soon a case of 120 scans answers."""

from __future__ import annotations

import argparse
import contextlib
import json
import os
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from .table import Row


def rows(upper: bytes, lower: bytes, args: argparse.Namespace) -> Iterator[Row]:
    from launch import testing

    with testing._surroundings() as env, tempfile.TemporaryDirectory() as name:
        for jaw, data in (("u", upper), ("l", lower)):
            (Path(name) / f"{jaw}.stl").write_bytes(data)
        command = [sys.executable, "-m", "tests.perf.crowd", name, str(args.runs)]
        done = subprocess.run(command, env={**os.environ, **env}, capture_output=True, text=True, check=False)
        if done.returncode:
            raise RuntimeError(done.stderr[-3000:])
        for row in json.loads(done.stdout.splitlines()[-1]):
            if args.only in row["name"]:
                yield Row(**row)


def measure(folder: Path, runs: int) -> list[dict]:
    import django

    django.setup()
    from django.core.management import call_command

    from tests.browser.harness import Application
    from tests.server.common import people

    call_command("migrate", verbosity=0)
    call_command("flush", verbosity=0, interactive=False)
    people()
    app = Application()
    try:
        app.start_web()
        app.start_worker()
        return _crowd(app.address, folder, runs)
    finally:
        app.stop()


def _crowd(address: str, folder: Path, runs: int) -> list[dict]:
    from .stage import _changed

    mira, tove = Caller(address, "mira"), Caller(address, "tove")
    number = mira.drop([folder / "u.stl", folder / "l.stl"])
    mira.opened(number)
    mira.wait(number)
    alone = [mira.changed(number, 3 + i / 100) for i in range(runs)]
    for i in range(20):
        tove.drop([_changed(folder / f"{jaw}.stl", i + 1) for jaw in ("u", "l")])
    crowded = [mira.changed(number, 4 + i / 100) for i in range(runs)]
    waiting = tove.call("GET", "/api/health")["waiting"]
    ratio = statistics.median(crowded) / statistics.median(alone)
    note = f"{ratio:.2f} times as long ({min(crowded):.1f} to {max(crowded):.1f} s); {waiting} cases still waited at the end"
    mira.away = True
    out = [
        {"name": "crowd: a changed base, alone", "ms": statistics.median(alone) * 1000},
        {
            "name": "crowd: a changed base, 20 cases queued", "ms": statistics.median(crowded) * 1000,
            "reach_ms": statistics.median(alone) * 1500, "note": note,
        },
    ]  # fmt: skip
    return out + _many(tove, folder)


def _many(who: Caller, folder: Path) -> list[dict]:
    """A ZIP of 120 scans of 10,000 triangles, and the case asked for while it is worked out."""
    import io
    import zipfile

    from bitecore.files import stl
    from tests.shapes import jaws, turn

    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for i in range(120):
            archive.writestr(f"{i}.stl", stl.write_binary(jaws(21)[i % 2].moved(turn(i))))
    path = folder / "many.zip"
    path.write_bytes(out.getvalue())
    start = time.perf_counter()
    number = who.drop([path])
    taken = time.perf_counter() - start
    answers = []
    for _ in range(40):
        start = time.perf_counter()
        who.call("GET", f"/api/cases/{number}")
        answers.append(time.perf_counter() - start)
        time.sleep(0.25)
    note = f"slowest of 40 {max(answers) * 1000:.0f} ms; the drop itself {taken:.1f} s"
    return [{"name": "crowd: a case of 120 scans answers", "ms": statistics.median(answers) * 1000, "reach_ms": 1000, "note": note}]


class Caller:
    """One browser's worth of calls."""

    def __init__(self, address: str, name: str) -> None:
        import urllib.request
        from http.cookiejar import CookieJar

        self.address, self.jar, self.away = address, CookieJar(), False
        self.web = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self.jar))
        self.call("GET", "/api/me")
        self.call("POST", "/api/sign-in", {"name": name, "password": "plaster-and-light"})

    def call(self, way: str, path: str, body: Any = None, *, kind: str = "application/json") -> Any:
        import urllib.request

        data = body if isinstance(body, bytes) or body is None else json.dumps(body).encode()
        token = next((c.value for c in self.jar if c.name == "csrftoken"), "") or ""
        headers = {"Content-Type": kind, "X-CSRFToken": token}
        with self.web.open(urllib.request.Request(self.address + path, data, headers, method=way), timeout=120) as answer:
            return json.loads(answer.read())

    def drop(self, files: list[Path]) -> str:
        body = b"".join(
            f'--x\r\nContent-Disposition: form-data; name="files"; filename="{f.name}"\r\n\r\n'.encode() + f.read_bytes() + b"\r\n"
            for f in files
        )
        return self.call("POST", "/api/cases/drop", body + b"--x--\r\n", kind="multipart/form-data; boundary=x")["number"]

    def opened(self, number: str) -> None:
        """The case is open in this browser, which says so now and then."""

        def here() -> None:
            while not self.away:
                with contextlib.suppress(OSError):
                    self.call("POST", f"/api/cases/{number}/here", {})
                time.sleep(8)

        threading.Thread(target=here, daemon=True).start()

    def wait(self, number: str) -> None:
        while True:
            states = {n["step"]: n["state"] for n in self.call("GET", f"/api/cases/{number}")["nodes"]}
            if states.get("plate") in ("done", "look"):
                return
            time.sleep(0.03)

    def changed(self, number: str, value: float) -> float:
        """Seconds from a changed thickness to the plate that follows from it."""
        base = self.call("GET", f"/api/cases/{number}")["revision"]
        start = time.perf_counter()
        self.call("POST", f"/api/cases/{number}/settings", {"base": base, "step": "base", "values": {"thickness_mm": value}})
        self.wait(number)
        return time.perf_counter() - start


if __name__ == "__main__":
    with contextlib.redirect_stdout(sys.stderr):
        found = measure(Path(sys.argv[1]), int(sys.argv[2]))
    print(json.dumps(found))
