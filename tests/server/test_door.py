"""The outermost door: bodies beyond what is accepted, and accidents before Django has made a request of what came."""

from __future__ import annotations

import asyncio
import errno
import json
from typing import Any

from django.test import TransactionTestCase

from config.door import Door
from tests.server.common import clear_state, people
from tests.server.test_cases import limited


class DoorTest(TransactionTestCase):
    def setUp(self) -> None:
        clear_state()
        people()

    def asked(self, inside: Any, path: str, parts: list[bytes], length: int | None = None) -> tuple[int, dict, int]:
        """(status, what was said, how many bytes were taken in)."""
        taken, out = 0, []

        async def receive() -> dict:
            nonlocal taken
            part = parts.pop(0) if parts else b""
            taken += len(part)
            return {"type": "http.request", "body": part, "more_body": bool(parts)}

        async def send(message: dict) -> None:
            out.append(message)

        headers = [(b"host", b"localhost")] + ([(b"content-length", str(length).encode())] if length is not None else [])
        scope = {
            "type": "http", "method": "POST", "path": path, "raw_path": path.encode(), "query_string": b"", "headers": headers,
            "scheme": "http", "server": ("localhost", 80), "client": ("127.0.0.1", 1), "http_version": "1.1", "root_path": "",
        }  # fmt: skip
        asyncio.run(Door(inside)(scope, receive, send))
        return out[0]["status"], json.loads(out[1]["body"]), taken

    @staticmethod
    async def eats(scope: dict, receive: Any, send: Any) -> None:
        while (await receive())["more_body"]:
            pass
        await send({"type": "http.response.start", "status": 200, "headers": []})
        await send({"type": "http.response.body", "body": b"{}"})

    def test_a_body_that_says_it_is_too_large_is_not_taken_in(self) -> None:
        status, said, taken = self.asked(self.eats, "/api/cases/drop", [b"x" * 1000] * 9, 10**12)
        self.assertEqual((status, said["code"], taken), (413, "too-large", 0))
        self.assertIn("302 MB", said["message"])

    def test_one_that_does_not_say_so_is_cut_where_the_limit_is(self) -> None:
        with limited(drop_bytes=100_000):
            status, said, taken = self.asked(self.eats, "/api/cases/2611-01/drop", [b"x" * 50_000] * 900)
        self.assertEqual((status, said["code"]), (413, "too-large"))
        self.assertLess(taken, 2_300_000)

    def test_anything_else_may_be_far_smaller(self) -> None:
        status, _, taken = self.asked(self.eats, "/api/cases/2611-01/settings", [b"x" * 1_000_000] * 60)
        self.assertEqual((status, taken), (413, 9_000_000))
        self.assertEqual(self.asked(self.eats, "/api/cases/2611-01/settings", [b"x" * 1_000_000] * 7)[0], 200)

    def test_accidents_on_the_way_in_are_said(self) -> None:
        for error, status, code in ((OSError(errno.ENOSPC, ""), 507, "disk-full"), (RuntimeError("Pellathorn"), 500, "accident")):

            async def breaks(scope: dict, receive: Any, send: Any, error: Exception = error) -> None:
                raise error

            got, said, _ = self.asked(breaks, "/api/cases/drop", [])
            self.assertEqual((got, said["code"]), (status, code))
            self.assertNotIn("Pellathorn", said["message"])
