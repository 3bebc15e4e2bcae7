"""Bytes by their SHA-256, in memory or in a folder."""

from __future__ import annotations

import hashlib
import os
import re
import tempfile
from pathlib import Path
from typing import Protocol


class Blobs(Protocol):
    """Writing the same twice is harmless."""

    def read(self, digest: str) -> bytes: ...
    def write(self, data: bytes) -> str: ...


def is_digest(text: object) -> bool:
    return isinstance(text, str) and re.fullmatch(r"[0-9a-f]{64}", text) is not None


class MemoryBlobs:
    def __init__(self) -> None:
        self._data: dict[str, bytes] = {}

    def read(self, digest: str) -> bytes:
        return self._data[digest]

    def write(self, data: bytes) -> str:
        digest = hashlib.sha256(data).hexdigest()
        self._data[digest] = data
        return digest


class FolderBlobs:
    """root/ab/abcdef…: written to a temporary name, flushed, renamed, so that no half blob ever has its name.

    durable : flushed to the disk itself before the name is given; a folder that is thrown away need not be.
    """

    def __init__(self, root: Path, *, durable: bool = True) -> None:
        self.root, self.durable = Path(root), durable

    def path(self, digest: str) -> Path:
        """Raises ValueError for what is no digest: a reference to a blob is never the name of a file."""
        if not is_digest(digest):
            raise ValueError("a reference to a blob is a SHA-256 in lower-case hexadecimal")
        return self.root / digest[:2] / digest

    def read(self, digest: str) -> bytes:
        return self.path(digest).read_bytes()

    def write(self, data: bytes, digest: str | None = None) -> str:
        """digest : where the caller has worked it out already."""
        digest = digest or hashlib.sha256(data).hexdigest()
        self.write_as(self.path(digest), data, durable=self.durable)
        return digest

    @staticmethod
    def write_as(path: Path, data: bytes, *, durable: bool = True) -> None:
        if path.exists():
            return
        path.parent.mkdir(parents=True, exist_ok=True)
        with tempfile.NamedTemporaryFile(dir=path.parent, delete=False) as out:
            try:
                out.write(data)
                out.flush()
                if durable:
                    os.fsync(out.fileno())
                os.replace(out.name, path)
            except BaseException:
                os.unlink(out.name)
                raise
