"""Stand-in printers for tests: a process as it ships, and one in this process, whose clock a test can turn."""

from __future__ import annotations

import json
import socket
import subprocess
import sys
import tempfile
import threading
import urllib.request
from pathlib import Path
from typing import Any

from standin.machine import Machine
from standin.serve import Handler, server


class Outside:
    """A stand-in as it ships: a process of its own. speed : seconds of printing in one second."""

    def __init__(self, name: str, speed: float) -> None:
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        self._folder = tempfile.TemporaryDirectory()
        self.folder = Path(self._folder.name)
        self.url = f"http://127.0.0.1:{port}"
        self._command = [sys.executable, "-m", "standin", name, "--port", str(port), "--folder", str(self.folder), "--speed", str(speed)]
        self.begin()

    def begin(self) -> None:
        self._process = subprocess.Popen(self._command, cwd=Path(__file__).resolve().parents[1])

    def kill(self) -> None:
        """As a power cut would; its disk stays."""
        self._process.kill()
        self._process.wait()

    def ask(self, path: str, **body: object) -> dict[str, Any]:
        """What a person does at the printer, past the application."""
        data = json.dumps(body).encode() if body else None
        with urllib.request.urlopen(
            urllib.request.Request(f"{self.url}{path}", data, {"Content-Type": "application/json"}), timeout=5
        ) as answer:
            said: dict[str, Any] = json.load(answer)
            return said

    def close(self) -> None:
        self._process.terminate()
        self._process.wait(8)
        self._folder.cleanup()


class Printer:
    """url : where it answers; it prints only as far as `let_pass` says."""

    def __init__(self, name: str = "Wren") -> None:
        self.seconds = 0.0
        self._folder = tempfile.TemporaryDirectory()
        self.machine = self._made(name)
        self.server = server(self.machine, 0)
        self.url = f"http://127.0.0.1:{self.server.server_address[1]}"
        threading.Thread(target=self.server.serve_forever, args=(0.05,), daemon=True).start()

    def _made(self, name: str) -> Machine:
        return Machine(name, Path(self._folder.name), clock=lambda: self.seconds)

    @property
    def folder(self) -> Path:
        return Path(self._folder.name)

    def let_pass(self, seconds: float) -> None:
        self.seconds += seconds

    def break_after(self, count: int | None) -> None:
        """Of the next file the connection is cut after so many bytes."""
        handler: Any = self.server.RequestHandlerClass
        assert issubclass(handler, Handler)
        handler.faults.break_after = count

    def switched_off_and_on(self) -> None:
        """Another process with the same disk."""
        handler: Any = self.server.RequestHandlerClass
        self.machine = handler.machine = self._made(self.machine.name)

    def close(self) -> None:
        self.server.shutdown()
        self.server.server_close()
        self._folder.cleanup()
