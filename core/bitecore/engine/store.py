"""Where results live: manifests by key, blobs by SHA-256. In memory, in a folder, or behind a server."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any, Protocol

from ..blobs import Blobs, FolderBlobs, MemoryBlobs
from .gives import pack
from .model import StepResult


@dataclass(frozen=True)
class Manifest:
    """A stored result.

    piece   : the address it was made for
    values  : name to ref (see gives.pack)
    seconds : it took
    passing : a failure of the surroundings, never kept
    """

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


class ResultStore(Protocol):
    """Manifests by key, and the blobs they name."""

    @property
    def blobs(self) -> Blobs: ...
    def get(self, key: str) -> Manifest | None: ...
    def put(self, manifest: Manifest) -> None: ...


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
