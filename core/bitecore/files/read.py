"""From bytes to a triangle soup: which format, within the limits, and a sentence where it cannot be used."""

from __future__ import annotations

import hashlib
import io
import lzma
import stat
import struct
import zipfile
import zlib
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import PurePosixPath

import numpy as np
from numpy.typing import NDArray

from ..errors import UnreadableFile
from ..limits import Limits
from . import glb_read, obj, ply, stl, threemf_read
from .colours import face_colours

READABLE = (".stl", ".ply", ".obj", ".3mf", ".glb")
_ZIP = (b"PK\x03\x04", b"PK\x05\x06")
_MOST_MEMBERS = 20_000
# What Python's zipfile raises, somewhere inside, for archives that are damaged, locked or of an unknown kind.
_BROKEN = (
    zipfile.BadZipFile, zlib.error, lzma.LZMAError, struct.error, EOFError, NotImplementedError, RuntimeError, OSError,
    ValueError, KeyError, IndexError, OverflowError,
)  # fmt: skip


@dataclass(frozen=True)
class SourceFile:
    """One file as it was handed over. name : its base name, or its path inside the ZIP."""

    name: str
    data: bytes
    sha256: str = field(default="")

    @classmethod
    def of(cls, name: str, data: bytes) -> SourceFile:
        return cls(name, data, hashlib.sha256(data).hexdigest())


@dataclass(frozen=True)
class ReadMesh:
    """A scan as its file says it, before it is welded.

    points      : (3m, 3) float64, three corners per triangle in file units
    dropped_nan : triangles left out
    colours     : (m, 3) uint8 red, green, blue of each triangle, None where the file has none
    """

    points: NDArray[np.float64]
    form: str
    dropped_nan: int
    colours: NDArray[np.uint8] | None = None

    @property
    def triangles(self) -> int:
        return len(self.points) // 3


def read_mesh(name: str, data: bytes, limits: Limits | None = None) -> ReadMesh:
    """Read one scan. Raises UnreadableFile with a sentence that names the file, the trouble and the way out."""
    limits = limits or Limits()
    if not data:
        raise UnreadableFile(f"“{name}” is empty. Export the scan again.", code="empty-file")
    kind = sniff(data)
    if kind is None:
        raise UnreadableFile(
            f"“{name}” is not a scan that can be read here: inside it is none of STL, PLY, OBJ, 3MF and GLB, "
            "whatever its name says. Export the scan as one of these.",
            code="not-a-scan",
        )
    points = _READERS[kind](name, data, limits.triangles)
    return _without_nan(name, points, kind, face_colours(data, kind))


_READERS = {
    "stl-ascii": stl.read_ascii,
    "stl": stl.read_binary,
    "ply": ply.read,
    "obj": obj.read,
    "3mf": threemf_read.read,
    "glb": glb_read.read,
}


def sniff(data: bytes) -> str | None:
    """The format by content: a key of _READERS or None. A binary STL may begin with “solid”."""
    if data[:4] in (b"ply\n", b"ply\r"):
        return "ply"
    if glb_read.looks(data):
        return "glb"
    if data[:4] in _ZIP and threemf_read.looks(data):
        return "3mf"
    if stl.size_fits(data):
        return "stl"
    if stl.looks_ascii(data):
        return "stl-ascii"
    if obj.looks(data):
        return "obj"
    if stl.looks_binary(data):
        return "stl"
    return None


def _without_nan(name: str, points: NDArray, form: str, colours: NDArray[np.uint8] | None) -> ReadMesh:
    # Beyond a kilometre nothing is a scan in any unit: such numbers are garbage like NaN.
    bad = ~(np.abs(points) < 1e6).all(1)
    dropped = 0
    if bad.any():
        lost = bad.reshape(-1, 3).any(1)
        dropped = int(lost.sum())
        points = points[np.repeat(~lost, 3)]
        colours = None if colours is None else colours[~lost]
    if len(points) == 0:
        why = "every triangle in it has a vertex that is not a number" if dropped else "it holds no triangles"
        raise UnreadableFile(f"“{name}” cannot be used: {why}. Export the scan again.", code="no-triangles")
    if not _any_area(points):
        raise UnreadableFile(f"“{name}” cannot be used: none of its triangles has an area. Export the scan again.", code="no-triangles")
    return ReadMesh(np.ascontiguousarray(points, np.float64), form, dropped, colours)


def _any_area(points: NDArray) -> bool:
    """Is there a triangle with three different corners? Mostly the first few tell."""
    corner = points.reshape(-1, 3, 3)
    for part in (corner[:1000], corner[1000:]):
        differ = [(part[:, a] != part[:, b]).any(1) for a, b in ((0, 1), (1, 2), (2, 0))]
        if (differ[0] & differ[1] & differ[2]).any():
            return True
    return False


def unpack(name: str, data: bytes, limits: Limits | None = None, *, ignored: list[str] | None = None) -> Iterator[SourceFile]:
    """The file itself, or the scans inside a ZIP; what else lies in it is named in `ignored`. Raises UnreadableFile for
    a ZIP that is damaged or unsafe."""
    limits = limits or Limits()
    if data[:4] not in _ZIP or threemf_read.looks(data):
        yield SourceFile.of(name, data)
        return
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            if len(archive.infolist()) > _MOST_MEMBERS:
                text = f"“{name}” holds more than {_MOST_MEMBERS:,} files. Pack only the scans."
                raise UnreadableFile(text, code="zip-too-many")
            members = [m for m in archive.infolist() if _wanted(m)]
            if ignored is not None:
                ignored += [m.filename for m in archive.infolist() if not m.is_dir() and not _wanted(m)]
            _check_archive(name, members, limits)
            for member in members:
                yield SourceFile.of(member.filename, _member(name, archive, member))
    except _BROKEN as error:
        raise UnreadableFile(
            f"“{name}” is a ZIP that cannot be opened: it is damaged or locked with a password. Pack it again.",
            code="bad-zip",
        ) from error


def _wanted(member: zipfile.ZipInfo) -> bool:
    path = PurePosixPath(member.filename.replace("\\", "/"))
    junk = any(part.startswith((".", "__MACOSX")) and part != ".." for part in path.parts)
    return not member.is_dir() and not junk and path.suffix.lower() in READABLE


def _check_archive(name: str, members: list[zipfile.ZipInfo], limits: Limits) -> None:
    if not members:
        raise UnreadableFile(f"“{name}” holds no STL, PLY, OBJ, 3MF or GLB file.", code="zip-without-scans")
    if len(members) > limits.files:
        raise UnreadableFile(f"“{name}” holds {len(members)} scans; up to {limits.files} are accepted.", code="zip-too-many")
    if sum(m.file_size for m in members) > limits.drop_bytes:
        raise UnreadableFile(
            f"“{name}” unpacks to more than {limits.drop_bytes // 1_000_000} MB. Send fewer scans at once.",
            code="zip-too-large",
        )
    for member in members:
        path = PurePosixPath(member.filename.replace("\\", "/"))
        link = stat.S_ISLNK(member.external_attr >> 16)
        if path.is_absolute() or ".." in path.parts or ":" in path.parts[0] or link:
            raise UnreadableFile(
                f"“{name}” holds a file whose path leads out of the ZIP ({member.filename}). It is not opened.",
                code="zip-path",
            )


def _member(name: str, archive: zipfile.ZipFile, member: zipfile.ZipInfo) -> bytes:
    with archive.open(member) as stream:
        # One byte more than declared shows a member that lies about its size.
        data = stream.read(member.file_size + 1)
    if len(data) != member.file_size:
        raise UnreadableFile(f"“{name}” is a ZIP whose sizes do not agree. Pack it again.", code="bad-zip")
    return data
