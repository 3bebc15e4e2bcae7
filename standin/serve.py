"""A printer over HTTP (docs/printers.md)."""

from __future__ import annotations

import json
import re
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

from .arriving import Parts, asked_for
from .machine import MISHAPS, Machine, Refused
from .plate_file import Unreadable

_NAME = r"([A-Za-z0-9][A-Za-z0-9._-]{0,79})"
_PIECE, _MOST_ASKED = 1 << 16, 10_000


def _no_number(text: str) -> None:
    raise ValueError(text)


class Faults:
    """break_after : of the next file that comes the connection is cut after so many bytes"""

    break_after: int | None = None


class Handler(BaseHTTPRequestHandler):
    machine: Machine
    parts: Parts
    faults: Faults
    protocol_version = "HTTP/1.1"
    # One that begins to speak and stops does not hold a thread for ever.
    timeout = 30

    def parse_request(self) -> bool:
        """One without power says nothing; only what switches it on again is heard."""
        if not super().parse_request():
            return False
        if why := self._foreign():
            self.close_connection = True
            self._say(403, {"code": "foreign", "message": why})
            return False
        if self.machine.off and self.path != "/fault":
            self.close_connection = True
            return False
        return True

    def _foreign(self) -> str:
        """A page of somebody else's in a browser on this machine may not speak to it. Empty: nothing is wrong."""
        host = re.sub(r":\d+$", "", self.headers.get("Host") or "127.0.0.1")
        if host not in ("127.0.0.1", "localhost", "[::1]"):
            return "This printer does not go by that name."
        return "Pages of a browser do not speak to this printer." if self.headers.get("Origin") else ""

    def do_GET(self) -> None:
        if self.path == "/":
            return self._say(200, self.machine.status())
        if found := re.fullmatch(f"/jobs/{_NAME}", self.path):
            return self._do(lambda: self.machine.told(found[1]))
        if found := re.fullmatch("/parts/([0-9a-f]{64})", self.path):
            return self._do(lambda: self.parts.told(found[1]))
        return self._say(404, {"code": "no-such-place", "message": "There is nothing here."})

    def do_PUT(self) -> None:
        found = re.fullmatch(f"/jobs/{_NAME}", self.path)
        if not found:
            self.close_connection = True
            return self._say(404, {"code": "no-such-place", "message": "Files are put to /jobs/NAME."})
        return self._do(lambda: self._receive(found[1]), status=201)

    def do_POST(self) -> None:
        length = self.headers.get("Content-Length") or "0"
        if not length.isdigit() or int(length) > _MOST_ASKED:
            self.close_connection = True
            return self._say(413, {"code": "too-long", "message": "That is too long."})
        if int(length) and (self.headers.get("Content-Type") or "").split(";")[0].strip().lower() != "application/json":
            self.close_connection = True
            return self._say(415, {"code": "no-json", "message": "What is asked comes as application/json."})
        try:
            asked = json.loads(self.rfile.read(int(length)) or b"{}", parse_constant=_no_number)
        except (ValueError, RecursionError):
            return self._say(422, {"code": "invalid", "message": "The body is no JSON."})
        if not isinstance(asked, dict):
            return self._say(422, {"code": "invalid", "message": "The body is no JSON object."})
        if found := re.fullmatch(f"/jobs/{_NAME}/(start|cancel|pause|resume)", self.path):
            return self._do(lambda: self._told_after(found[1], found[2]))
        if self.path == "/fault":
            return self._do(lambda: self._fault(asked))
        if self.path == "/bottle":
            return self._do(lambda: self._fill(asked))
        return self._say(404, {"code": "no-such-place", "message": "There is nothing here."})

    def do_DELETE(self) -> None:
        if found := re.fullmatch(f"/jobs/{_NAME}", self.path):
            return self._do(lambda: self.machine.forget(found[1]))
        return self._say(404, {"code": "no-such-place", "message": "There is nothing here."})

    def _receive(self, name: str) -> dict[str, Any]:
        """What comes is written to its part; a file under its name is a whole one."""
        self.close_connection = True
        came = asked_for(self.headers)
        part = self.parts.begun(came)
        left = came.end - came.begin
        while left > 0:
            until = self.faults.break_after
            sent = came.end - came.begin - left
            if until is not None and sent >= until:
                self.faults.break_after = None
                raise ConnectionAbortedError
            piece = self.rfile.read(min(left, _PIECE, left if until is None else until - sent))
            if not piece:
                raise ConnectionAbortedError
            part.add(piece)
            left -= len(piece)
        path = part.whole()
        try:
            self.machine.take(name, came.sha256, came.size, path)
        finally:
            path.unlink(missing_ok=True)
        self.close_connection = False
        return self.machine.told(name)

    def _told_after(self, name: str, what: str) -> dict[str, Any]:
        if what in ("pause", "resume"):
            self.machine.hold(name, what == "pause")
        else:
            (self.machine.start if what == "start" else self.machine.cancel)(name)
        return self.machine.told(name)

    def _fault(self, asked: dict[str, Any]) -> dict[str, Any]:
        kind = asked.get("kind")
        if kind == "connection":
            self.faults.break_after = int(asked.get("after_bytes", 0))
        elif kind in (*MISHAPS, "power", "none"):
            self.machine.meet(kind if kind in MISHAPS else "", off=kind == "power")
        elif kind == "resin":
            self.machine.fill(0.0)
        else:
            raise Refused("invalid", f"Faults are {', '.join(MISHAPS)}, resin, connection, power and none.", 422)
        return self.machine.status()

    def _fill(self, asked: dict[str, Any]) -> dict[str, Any]:
        self.machine.fill(float(asked.get("ml", 1000.0)))
        return self.machine.status()

    def _do(self, what: Any, *, status: int = 200) -> None:
        try:
            self._say(status, what())
        except Refused as error:
            self._say(error.status, {"code": error.code, "message": error.message})
        except Unreadable as error:
            self._say(422, {"code": "unreadable", "message": str(error)})
        except ConnectionError:
            self.close_connection = True
            self.connection.close()
        except (ValueError, TypeError):
            self._say(422, {"code": "invalid", "message": "A value is no number."})

    def _say(self, status: int, what: dict[str, Any]) -> None:
        data = json.dumps(what).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(data)))
        if self.close_connection:
            self.send_header("Connection", "close")
        self.end_headers()
        self.wfile.write(data)

    def log_message(self, format: str, *args: Any) -> None:
        """Nothing: what it does stands in its status."""


class Server(ThreadingHTTPServer):
    daemon_threads = True
    allow_reuse_address = True

    def handle_error(self, request: Any, client_address: Any) -> None:
        """A connection that ends in the middle is nothing to write home about."""


def server(machine: Machine, port: int) -> Server:
    """Listening on loopback; port 0: any that is free."""
    handler = type("Of", (Handler,), {"machine": machine, "parts": Parts(machine.folder), "faults": Faults()})
    return Server(("127.0.0.1", port), handler)
