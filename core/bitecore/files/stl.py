"""STL in and out.

Binary: 80 bytes of header, a little-endian uint32 count, then 50 bytes a triangle: normal, three corners (float32),
and 16 bits of attribute, which are ignored. ASCII: solid, facet normal, outer loop, three vertex lines, endloop,
endfacet, endsolid (3D Systems, StereoLithography Interface Specification, 1989; from memory).
"""

from __future__ import annotations

import struct

import numba as nb
import numpy as np
from numpy.typing import NDArray

from ..errors import UnreadableFile
from ..mesh import Mesh, face_normals
from .count import check_count
from .numbers import BAD, LATER, decimal, read_later, word

HEADER = 84
# Odd numbers by which three coordinates make one word.
_MIXED = (0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9)
RECORD = np.dtype([("normal", "<f4", 3), ("corner", "<f4", (3, 3)), ("attribute", "<u2")])
_VERTEX, _ENDFACET = np.frombuffer(b"vertex", np.uint8), np.frombuffer(b"endfacet", np.uint8)


def declared(data: bytes) -> int:
    return struct.unpack_from("<I", data, 80)[0] if len(data) >= HEADER else -1


def size_fits(data: bytes) -> bool:
    """The length says binary, even where the header begins with “solid”."""
    return len(data) >= HEADER and len(data) == HEADER + 50 * declared(data)


def looks_ascii(data: bytes) -> bool:
    head = data[:2048].lstrip().lower()
    return head.startswith(b"solid") and (b"facet" in head or b"endsolid" in head)


def looks_binary(data: bytes) -> bool:
    """Long enough for a header, not text, and a count that a scan can have."""
    if len(data) < HEADER:
        return False
    text = sum(32 <= byte < 127 or byte in (9, 10, 13) for byte in data[80:400])
    return text < 0.9 * len(data[80:400]) and 0 < declared(data) < 100_000_000


def read_binary(name: str, data: bytes, limit: int) -> NDArray[np.float64]:
    """(3m, 3) corners. Raises UnreadableFile when cut short or above the limit."""
    count = declared(data)
    check_count(name, count, limit)
    present = (len(data) - HEADER) // 50
    if present < count:
        raise UnreadableFile(
            f"“{name}” is cut short: it announces {count:,} triangles and holds {max(present, 0):,}. Copy or export it again.",
            code="truncated-file",
        )
    record = np.frombuffer(data, RECORD, count, HEADER)
    return record["corner"].reshape(-1, 3).astype(np.float64)


def read_ascii(name: str, data: bytes, limit: int) -> NDArray[np.float64]:
    """(3m, 3) corners. Raises UnreadableFile when the text breaks off or a number cannot be read."""
    text = np.frombuffer(data, np.uint8)
    facets, corners = _counted(text)
    check_count(name, facets, limit)
    if b"endsolid" not in data[-4096:].lower() or corners != 3 * facets:
        raise UnreadableFile(
            f"“{name}” is cut short: the text breaks off before its end. Copy or export it again.",
            code="truncated-file",
        )
    out, spans = np.empty((corners, 3)), np.empty((3 * corners, 3), np.int64)
    try:
        later = _filled(text, out, spans)
        if later < 0:
            raise ValueError("not a number")
        read_later(text, spans[:later], out)
    except ValueError as error:
        raise UnreadableFile(
            f"“{name}” holds something that is not a number where a coordinate belongs. Export the scan again.",
            code="bad-number",
        ) from error
    return out


@nb.njit(cache=True)
def _is(text, begin, end, wanted):
    if end - begin != len(wanted):
        return False
    same = True
    for i in range(len(wanted)):
        same &= (text[begin + i] | 32) == wanted[i]
    return same


@nb.njit(cache=True)
def _counted(text):
    """(how often endfacet, how often vertex stands in it)."""
    at, facets, corners = 0, 0, 0
    while True:
        begin, at = word(text, at)
        if begin == at:
            return facets, corners
        facets += _is(text, begin, at, _ENDFACET)
        corners += _is(text, begin, at, _VERTEX)


@nb.njit(cache=True)
def _filled(text, out, spans):
    """How many numbers are left for later; -1 where one is none."""
    at, row, later = 0, 0, 0
    while row < len(out):
        begin, at = word(text, at)
        if begin == at:
            return -1
        if not _is(text, begin, at, _VERTEX):
            continue
        for k in range(3):
            begin, at = word(text, at)
            out[row, k], stop, how = decimal(text, begin, at)
            if how == BAD or stop != at:
                return -1
            if how == LATER:
                spans[later, 0], spans[later, 1], spans[later, 2] = 3 * row + k, begin, at
                later += 1
        row += 1
    return later


def write_binary(mesh: Mesh, *, title: str = "Bite Bench, mm") -> bytes:
    """Binary STL in mm with unit normals; the header never begins with “solid”."""
    record = np.zeros(mesh.triangles, RECORD)
    record["normal"] = face_normals(mesh)
    record["corner"] = _told_apart(mesh)[mesh.faces]
    header = title.encode("ascii", "replace")[:80].ljust(80, b"\0")
    return header + struct.pack("<I", mesh.triangles) + record.tobytes()


def _told_apart(mesh: Mesh) -> NDArray[np.float32]:
    """(n, 3) corners as they are written. STL tells corners apart by their place alone: two that single precision makes one, and so an
    edge of four faces, go apart by its last bit."""
    written = mesh.vertices_mm.astype(np.float32)
    used = np.unique(mesh.faces)  # what is not used stands nowhere
    places = written[used] + np.float32(0)  # of the two noughts one
    bits = places.view(np.uint32).astype(np.uint64) * np.array(_MIXED, np.uint64)
    if len(np.unique(bits[:, 0] ^ bits[:, 1] ^ bits[:, 2])) == len(used):
        return written
    _, same = np.unique(places, axis=0, return_inverse=True)
    whose = np.full(len(written), -1)
    whose[used] = same.ravel()
    faces = whose[mesh.faces]
    edges = np.sort(np.stack([faces, np.roll(faces, -1, axis=1)], axis=2).reshape(-1, 2), axis=1)
    edge, count = np.unique(edges, axis=0, return_counts=True)
    crowded = np.unique(edge[count > 2])
    # The first of each stays.
    _, first = np.unique(whose[used], return_index=True)
    later = np.setdiff1d(used, used[first])
    later = later[np.isin(whose[later], crowded)]
    written[later] = np.nextafter(written[later], np.float32(np.inf))
    return written


def write_ascii(mesh: Mesh, *, title: str = "bite-bench") -> bytes:
    lines = [f"solid {title}"]
    for normal, corner in zip(face_normals(mesh), mesh.vertices_mm[mesh.faces], strict=True):
        lines.append("facet normal %.7g %.7g %.7g\n outer loop" % tuple(normal))
        lines += ["  vertex %.9g %.9g %.9g" % tuple(p) for p in corner]
        lines.append(" endloop\nendfacet")
    lines.append(f"endsolid {title}\n")
    return "\n".join(lines).encode()
