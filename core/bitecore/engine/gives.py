"""What a step gives, by type; and values as references to blobs, there and back."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import TypeAdapter
from typing_extensions import TypedDict

from ..blobs import Blobs, is_digest
from ..mesh import Mesh


@dataclass(frozen=True)
class FileValue:
    """A file a step gives out, by the digest of its bytes once stored."""

    name: str
    data: bytes


@dataclass(frozen=True)
class Solid:
    """One closed solid for the assembly, in the jaw's home.

    op   : add, cut, split, part: a body by itself, or join: added to one part alone
    name : what it is; of split, part and join the part it makes (cut-k3)
    """

    op: Literal["add", "cut", "split", "part", "join"]
    mesh: Mesh
    name: str = ""


class Reserve(TypedDict):
    """A place the cavity keeps off, in the jaw's home (mm): all that lies within radius_mm of the line from one end to the
    other."""

    name: str
    from_mm: list[float]
    to_mm: list[float]
    radius_mm: float


class Solids(list[Solid]):
    """What a step hands to the assembly."""


class Files(list[FileValue]):
    """Files a step gives out."""


class ByPiece(dict):
    """{address: value} of a step that runs once: what comes after it for one piece depends on its own entry alone."""


@dataclass(frozen=True)
class Gives:
    """The type of an output.

    kind     : what it is
    model    : of json, any type pydantic can check
    by_piece : one for each address
    """

    kind: Literal["mesh", "files", "solids", "reserves", "json"]
    model: Any = None
    by_piece: bool = False

    def check(self, value: Any) -> None:
        """Raises TypeError (or pydantic's ValidationError) for a value of another type."""
        if self.by_piece:
            if not isinstance(value, ByPiece):
                raise TypeError("not a value for each piece")
            for one in value.values():
                Gives(self.kind, self.model).check(one)
        elif self.kind == "json":
            TypeAdapter(self.model).validate_python(value)
        elif self.kind == "reserves":
            TypeAdapter(list[Reserve]).validate_python(value)
        elif not isinstance(value, {"mesh": Mesh, "files": Files, "solids": Solids}[self.kind]):
            raise TypeError(f"not of type {self.kind}")


MESH, FILES, SOLIDS, RESERVES = Gives("mesh"), Gives("files"), Gives("solids"), Gives("reserves")


def json_of(model: Any) -> Gives:
    """A JSON value of this type: a TypedDict, or anything else pydantic can check."""
    return Gives("json", model)


def by_piece(gives: Gives) -> Gives:
    """One for each address, in a ByPiece."""
    return Gives(gives.kind, gives.model, by_piece=True)


def pack(value: Any, blobs: Blobs) -> dict:
    """A value as a ref, its bytes stored: {"mesh": digest, "triangles"}, {"files": [{"file": digest, "name", "bytes"}]},
    {"solids": [{"op", "name", "mesh", "triangles"}]}, {"by_piece": {address: ref}} or {"json": value}."""
    if isinstance(value, Mesh):
        return {"mesh": blobs.write(value.to_bytes()), "triangles": value.triangles}
    if isinstance(value, Files):
        return {"files": [{"file": blobs.write(f.data), "name": f.name, "bytes": len(f.data)} for f in value]}
    if isinstance(value, Solids):
        return {"solids": [{"op": s.op, "name": s.name, **pack(s.mesh, blobs)} for s in value]}
    if isinstance(value, ByPiece):
        return {"by_piece": {piece: pack(v, blobs) for piece, v in value.items()}}
    return {"json": _plain(value)}


def _plain(value: Any) -> Any:
    """As a database gives it back, so that the key of what follows is the same before and after: never -0, names as text, lists."""
    if isinstance(value, float):
        return value + 0.0
    if isinstance(value, Mapping):
        return {str(name): _plain(v) for name, v in value.items()}
    return [_plain(v) for v in value] if isinstance(value, list | tuple) else value


def unpack(ref: Mapping[str, Any] | None, blobs: Blobs) -> Any:
    """The value behind a ref; None stays None."""
    if ref is None:
        return None
    if "mesh" in ref:
        return Mesh.from_bytes(blobs.read(ref["mesh"]))
    if "file" in ref:
        return blobs.read(ref["file"])
    if "files" in ref:
        return Files(FileValue(f["name"], blobs.read(f["file"])) for f in ref["files"])
    if "solids" in ref:
        return Solids(Solid(s["op"], unpack(s, blobs), s["name"]) for s in ref["solids"])
    if "by_piece" in ref:
        return {piece: unpack(r, blobs) for piece, r in ref["by_piece"].items()}
    if "from_each" in ref:
        return {step: unpack(r, blobs) for step, r in ref["from_each"].items()}
    return ref["json"]


def holds_anything(ref: Mapping[str, Any] | None) -> bool:
    """Of what is gathered: is there a solid or a reserve in it?"""
    return bool(ref and (ref.get("solids") or ref.get("json") or any(holds_anything(r) for r in ref.get("from_each", {}).values())))


def digests_in(value: Any) -> Iterator[str]:
    """Every blob that a ref, refs in a mapping, or settings name."""
    if isinstance(value, Mapping):
        yield from (value[kind] for kind in ("mesh", "file", "points") if is_digest(value.get(kind)))
        for key, inner in value.items():
            if key != "json":
                yield from digests_in(inner)
    elif isinstance(value, list | tuple):
        for inner in value:
            yield from digests_in(inner)


class Packed(TypedDict):
    """A list of points that is kept as a blob: its digest, and how many they are."""

    points: str
    count: int


# So finely are drawn points kept; a scanner's own noise is some micrometres (common practice, no source).
_UM = 1000.0


def packed_points(points_mm: Any) -> bytes:
    """(k, 3) points in mm as a blob: int32 µm, little-endian."""
    um = np.rint(np.asarray(points_mm, np.float64).reshape(-1, 3) * _UM)
    return um.clip(-(2**31), 2**31 - 1).astype("<i4").tobytes()


def unpacked_points(data: bytes) -> NDArray[np.float64]:
    """(k, 3) mm from a blob of points. Raises ValueError for bytes that are none."""
    if not data or len(data) % 12:
        raise ValueError("not a list of points")
    return np.frombuffer(data, "<i4").reshape(-1, 3) / _UM
