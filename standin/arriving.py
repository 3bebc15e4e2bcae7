"""A file on its way in: what has come of it stays where the connection breaks or the power goes, and the rest goes on from there
(partial PUT with Content-Range, RFC 9110 14.5; the hash of the whole by Repr-Digest, RFC 9530)."""

from __future__ import annotations

import base64
import binascii
import hashlib
import re
import threading
from dataclasses import dataclass
from email.message import Message
from pathlib import Path
from typing import Any, BinaryIO

from .machine import Refused

_MOST_BYTES = 2_000_000_000
# Parts of files that were given up do not fill the disk: the oldest go.
_MOST_PARTS = 4
_READ = 1 << 20


@dataclass(frozen=True)
class Coming:
    """The bytes from begin up to end of a file of so many, whose hash is sha256."""

    sha256: str
    begin: int
    end: int
    size: int


def asked_for(headers: Message) -> Coming:
    """What the headers of a PUT say. Raises Refused."""
    length = int(headers.get("Content-Length") or -1)
    begin, end, size = 0, length, length
    if said := headers.get("Content-Range"):
        found = re.fullmatch(r"bytes (\d+)-(\d+)/(\d+)", said.strip())
        if not found:
            raise Refused("invalid", "Content-Range is written bytes FIRST-LAST/ALL.", 400)
        begin, end, size = int(found[1]), int(found[2]) + 1, int(found[3])
        if end - begin != length or end != size:
            raise Refused("invalid", "A part goes to the end of its file, and is as long as Content-Length says.", 400)
    if not 0 < length <= size <= _MOST_BYTES:
        raise Refused("no-length", "A file comes with its length, up to 2 GB.", 411)
    return Coming(_digest(headers), begin, end, size)


def _digest(headers: Message) -> str:
    """Of the whole file; where it comes in one piece the hash of what is sent says it too."""
    said = headers.get("Repr-Digest") or ("" if headers.get("Content-Range") else headers.get("Content-Digest", ""))
    found = re.search(r"sha-256=:([^:]+):", said or "")
    try:
        raw = base64.b64decode(found[1], validate=True) if found else b""
    except binascii.Error:
        raw = b""
    if len(raw) != 32:
        raise Refused("no-digest", "A file comes with the SHA-256 of all of it (Repr-Digest).", 400)
    return raw.hex()


class Parts:
    """Files of which not all has come, by the hash they will have."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.lock = folder, threading.Lock()
        self._newest: dict[str, object] = {}
        for left in folder.glob("*.come"):
            left.unlink(missing_ok=True)

    def told(self, sha256: str) -> dict[str, Any]:
        path = self._path(sha256)
        if not path.exists():
            raise Refused("no-part", "Nothing of this file is here.", 404)
        return {"sha256": sha256, "bytes": path.stat().st_size}

    def begun(self, came: Coming) -> Part:
        """Open for what comes. A newer connection of the same file takes it over from an older one that hangs."""
        with self.lock:
            path = self._path(came.sha256)
            there = path.stat().st_size if path.exists() else 0
            if came.begin and there != came.begin:
                raise Refused("other-part", f"{there} bytes of this file are here: what comes has to begin there.", 409)
            if not came.begin:
                self._make_room()
            out = path.open("r+b" if came.begin else "wb")
            out.seek(came.begin)
            mine = self._newest[came.sha256] = object()
            return Part(self, came.sha256, path, out, mine)

    def newest(self, sha256: str, one: object) -> bool:
        return self._newest.get(sha256) is one

    def _make_room(self) -> None:
        parts = sorted(self.folder.glob("*.part"), key=lambda p: p.stat().st_mtime)
        for old in parts[: max(len(parts) - _MOST_PARTS + 1, 0)]:
            old.unlink(missing_ok=True)

    def _path(self, sha256: str) -> Path:
        return self.folder / f"{sha256}.part"


@dataclass
class Part:
    """A file that is being written."""

    of: Parts
    sha256: str
    path: Path
    out: BinaryIO
    mine: object

    def add(self, piece: bytes) -> None:
        with self.of.lock:
            if not self.of.newest(self.sha256, self.mine):
                raise ConnectionAbortedError
            self.out.write(piece)
            self.out.flush()

    def whole(self) -> Path:
        """Where it lies, once all has come, under a name of its own. Raises Refused where it is not what was sent: then nothing is kept."""
        self.out.close()
        digest = hashlib.sha256()
        with self.path.open("rb") as came:
            while piece := came.read(_READ):
                digest.update(piece)
        with self.of.lock:
            if not self.of.newest(self.sha256, self.mine):
                raise ConnectionAbortedError
            if digest.hexdigest() != self.sha256:
                self.path.unlink(missing_ok=True)
                raise Refused("not-what-was-sent", "What arrived is not what was sent: its hash is another.", 422)
            return self.path.replace(self.path.with_suffix(".come"))
