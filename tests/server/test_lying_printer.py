"""A printer is a stranger: whatever it answers, only it is affected. Six ways to lie, beside one printer that works."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from unittest import mock

from django.test import override_settings

from bays import printers
from bays.following import follow, look_at
from bays.heard import MOST_BYTES
from bays.models import Bay, Print
from tests.server.common import post
from tests.server.test_bays import BayCase


class Liar:
    """says : what it writes to the connection for whatever is asked."""

    def __init__(self, says: Callable[[Any], None]) -> None:
        self.says, liar = says, self

        class Handler(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                liar.says(self)

            do_POST = do_GET  # noqa: N815

            def log_message(self, format: str, *args: Any) -> None:
                return

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.server.daemon_threads = True
        self.url = f"http://127.0.0.1:{self.server.server_address[1]}"
        threading.Thread(target=self.server.serve_forever, args=(0.05,), daemon=True).start()

    def close(self) -> None:
        self.server.shutdown()
        self.server.server_close()


def text(body: bytes, status: int = 200) -> Callable[[Any], None]:
    def say(at: Any) -> None:
        at.send_response(status)
        at.send_header("Content-Length", str(len(body)))
        at.end_headers()
        at.wfile.write(body)

    return say


def drips(at: Any) -> None:
    """A byte now and then, for a minute."""
    at.send_response(200)
    at.send_header("Content-Length", "6000")
    at.end_headers()
    for _ in range(600):
        at.wfile.write(b" ")
        at.wfile.flush()
        time.sleep(0.1)


def floods(at: Any) -> None:
    at.send_response(200)
    at.end_headers()
    for _ in range(20_000):
        at.wfile.write(b" " * 100_000)


GOOD = {"format": 1, "name": "Heron", "state": "idle", "fault": "", "says": "", "resin_ml": 100.0, "job": None, "jobs": []}
LIES: dict[str, Callable[[Any], None]] = {
    "no jobs": text(json.dumps({k: v for k, v in GOOD.items() if k != "jobs"}).encode()),
    "not a number": text(json.dumps({**GOOD, "resin_ml": float("nan")}).encode()),
    "a NUL": text(json.dumps({**GOOD, "says": "a\x00b"}).encode()),
    "null jobs": text(json.dumps({**GOOD, "jobs": [None, {"name": None}]}).encode()),
    "a byte now and then": drips,
    "without end": floods,
    "no JSON": text(b"<html>"),
    "all too deep": text(b"[" * 20_000),
}


class LyingTest(BayCase):
    def lie(self, says: Callable[[Any], None]) -> None:
        liar = Liar(says)
        self.addCleanup(liar.close)
        # The liar stands before the one that works.
        connected = override_settings(BENCH_PRINTERS={"heron": liar.url, "wren": self.printer.url})
        connected.enable()
        self.addCleanup(connected.disable)

    def test_whatever_one_says_all_are_shown_and_the_next_is_followed(self) -> None:
        for name, says in LIES.items():
            with self.subTest(name):
                self.lie(says)
                Bay.objects.all().delete()
                begun = time.monotonic()
                follow()
                self.assertLess(time.monotonic() - begun, 8.0)
                shown = self.mira.get("/api/bays")
                self.assertEqual(shown.status_code, 200, shown.content)
                states = {bay["id"]: bay for bay in shown.json()}
                self.assertEqual((states["heron"]["state"], states["wren"]["state"]), ("silent", "idle"))

    def test_an_answer_out_of_form_ends_no_print(self) -> None:
        row = Print.objects.create(
            case=self.work(self.opened()), bay="heron", printer="Heron", name="2612-01_1", state="printing", sha256="0" * 64, layers=9
        )
        self.lie(LIES["no jobs"])
        look_at("heron")
        row.refresh_from_db()
        self.assertEqual(row.state, "printing")
        self.assertIn("answers what it should not", self.mira.get("/api/bays").json()[0]["says"])

    def test_nobody_waits_for_a_printer_with_a_row_locked(self) -> None:
        row = Print.objects.create(
            case=self.work(self.opened()), bay="heron", printer="Heron", name="2612-01_1", state="printing", sha256="0" * 64
        )
        self.lie(drips)
        asked, locked = printers._asked, []

        def seen(*args: Any, **more: Any) -> Any:
            from django.db import connections

            other = connections.create_connection("default")
            try:
                with other.cursor() as cursor:
                    cursor.execute("SET lock_timeout = '200ms'")
                    cursor.execute("SELECT id FROM bays_print WHERE id = %s FOR UPDATE", [row.pk])
            except Exception as error:
                locked.append(error)
            finally:
                other.close()
            return asked(*args, **more)

        # The row of a test is not committed: what counts is that no lock is held when the printer is asked.
        with mock.patch.object(printers, "_asked", side_effect=seen):
            for way in ("pause", "cancel"):
                answer = post(self.mira, f"/api/bays/prints/{row.pk}/{way}")
                self.assertEqual((answer.status_code, answer.json()["code"]), (409, "bay-silent"))
        self.assertEqual(locked, [])

    def test_no_more_than_so_much_is_read(self) -> None:
        self.lie(text(b" " * (MOST_BYTES + 1)))
        with self.assertRaises(printers.OddAnswer):
            printers.status("heron")
