"""Where results live: manifests by key, blobs by SHA-256. In memory, in a folder, or behind a server."""

from __future__ import annotations

import hashlib
import json
import os
import re
import tempfile
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any, Protocol

from ..mesh import Mesh
from .model import FileValue, StepResult


@dataclass(frozen=True)
class Manifest:
    """A stored result. values : name to ref; a ref is {"mesh": digest}, {"file": digest, "name"} or {"json": value};
    of a case step with values by piece: {"by_piece": {piece: ref}}. passing : a failure of the surroundings, never kept."""

    key: str
    step: str
    piece: str
    values: dict[str, Any]
    readings: list[dict] = field(default_factory=list)
    flags: list[dict] = field(default_factory=list)
    figure: str = ""
    seconds: float = 0.0
    passing: bool = False

    @property
    def stopped(self) -> bool:
        return any(f["severity"] == "stop" for f in self.flags)

    def as_json(self) -> dict:
        out = asdict(self)
        out.pop("passing")
        return out


class Blobs(Protocol):
    """Bytes by their SHA-256; writing the same twice is harmless."""

    def read(self, digest: str) -> bytes: ...
    def write(self, data: bytes) -> str: ...


class ResultStore(Protocol):
    """Manifests by key, and the blobs they name."""

    @property
    def blobs(self) -> Blobs: ...
    def get(self, key: str) -> Manifest | None: ...
    def put(self, manifest: Manifest) -> None: ...


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


class MemoryStore:
    def __init__(self) -> None:
        self.blobs: Blobs = MemoryBlobs()
        self._manifests: dict[str, Manifest] = {}

    def get(self, key: str) -> Manifest | None:
        return self._manifests.get(key)

    def put(self, manifest: Manifest) -> None:
        self._manifests[manifest.key] = manifest


class FolderStore:
    """blobs/ and results/ under one folder; safe to share between processes."""

    def __init__(self, root: Path, *, durable: bool = True) -> None:
        self._root, self._durable = Path(root), durable
        self.blobs: Blobs = FolderBlobs(self._root / "blobs", durable=durable)

    def get(self, key: str) -> Manifest | None:
        try:
            return Manifest(**json.loads((self._root / "results" / f"{key}.json").read_text()))
        except FileNotFoundError:
            return None

    def put(self, manifest: Manifest) -> None:
        data = json.dumps(manifest.as_json()).encode()
        FolderBlobs.write_as(self._root / "results" / f"{manifest.key}.json", data, durable=self._durable)


def pack(value: Any, blobs: Blobs) -> dict:
    """A value as a ref, its bytes stored. Values keyed by piece are dicts marked ByPiece."""
    if isinstance(value, Mesh):
        return {"mesh": blobs.write(value.to_bytes()), "triangles": value.triangles}
    if isinstance(value, FileValue):
        return {"file": blobs.write(value.data), "name": value.name, "bytes": len(value.data)}
    if isinstance(value, ByPiece):
        return {"by_piece": {piece: pack(v, blobs) for piece, v in value.items()}}
    return {"json": value}


def unpack(ref: Mapping[str, Any] | None, blobs: Blobs) -> Any:
    """The value behind a ref; None stays None."""
    if ref is None:
        return None
    if "mesh" in ref:
        return Mesh.from_bytes(blobs.read(ref["mesh"]))
    if "file" in ref:
        return blobs.read(ref["file"])
    if "by_piece" in ref:
        return {piece: unpack(r, blobs) for piece, r in ref["by_piece"].items()}
    return ref["json"]


class ByPiece(dict):
    """{piece: value} of a case step: a piece step downstream depends on its own entry alone."""


def manifest_of(key: str, step: str, piece: str, result: StepResult, blobs: Blobs, seconds: float) -> Manifest:
    return Manifest(
        key,
        step,
        piece,
        {name: pack(value, blobs) for name, value in result.values.items()},
        [r.as_json() for r in result.readings],
        [f.as_json() for f in result.flags],
        result.figure,
        round(seconds, 3),
    )
