"""OBJ in: vertices (colours after them are read over) and faces, polygons cut into fans.

Lines `v x y z …` and `f a b c …`, indices from 1 or backwards from the last vertex, each with or without /texture/normal
(Wavefront, Advanced Visualizer manual, appendix B1; from memory).
"""

from __future__ import annotations

import re

import numpy as np
from numpy.typing import NDArray

from ..errors import UnreadableFile
from .count import check_count

_FACE = re.compile(rb"^f\s", re.MULTILINE)
_VERTEX = re.compile(rb"^v\s", re.MULTILINE)


def looks(data: bytes) -> bool:
    """Text whose first lines are those of an OBJ."""
    head = data[:4096]
    if b"\0" in head:
        return False
    lines = [line.split(None, 1)[0] for line in head.splitlines() if line.strip() and not line.lstrip().startswith(b"#")]
    known = b"v vn vt f o g s mtllib usemtl l p".split()
    return bool(lines) and all(word in known for word in lines[:-1] or lines) and bool(_VERTEX.search(data[:200_000]))


def read(name: str, data: bytes, limit: int) -> NDArray[np.float64]:
    """(3m, 3) corners. Raises UnreadableFile."""
    try:
        return _read(name, data, limit)
    except UnreadableFile:
        raise
    except (ValueError, IndexError, OverflowError) as error:
        raise UnreadableFile(f"“{name}” is an OBJ that is cut short or damaged. Copy or export it again.", code="truncated-file") from error


def _read(name: str, data: bytes, limit: int) -> NDArray[np.float64]:
    # A backslash at the end of a line carries it on.
    lines = data.replace(b"\r", b"\n").replace(b"\\\n", b" ").split(b"\n")
    at = [line[2:] for line in lines if line[:2] in (b"v ", b"v\t")]
    said = [line[2:] for line in lines if line[:2] in (b"f ", b"f\t")]
    check_count(name, len(said), limit)
    if not at or not said:
        raise UnreadableFile(f"“{name}” holds points without triangles. Export the scan as a surface.", code="no-triangles")
    vertices = _vertices(at)
    faces = _faces(said)
    # Indices count from 1; negative ones backwards from the vertices so far, which for scans are all of them.
    faces = np.where(faces < 0, faces + len(vertices), faces - 1)
    check_count(name, len(faces), limit)
    if len(faces) == 0 or faces.min() < 0 or faces.max() >= len(vertices):
        raise ValueError("index out of range")
    return vertices[faces.ravel()]


def _vertices(lines: list[bytes]) -> NDArray[np.float64]:
    words = b" ".join(lines).split()
    columns, rest = divmod(len(words), len(lines))
    if rest == 0 and columns >= 3 and all(len(line.split()) == columns for line in lines[:: max(len(lines) // 50, 1)]):
        return np.array(words, dtype="S32").astype(np.float64).reshape(-1, columns)[:, :3]
    rows = [line.split()[:3] for line in lines]
    if any(len(row) != 3 for row in rows):
        raise ValueError("a vertex needs three numbers")
    return np.array(rows, dtype="S32").astype(np.float64)


def _faces(lines: list[bytes]) -> NDArray[np.int64]:
    """(m, 3) as written."""
    plain = re.sub(rb"/[^\s]*", b"", b"\n".join(lines))
    words = plain.split()
    if len(words) == 3 * len(lines):
        table = np.array(words, dtype="S16").astype(np.int64).reshape(-1, 3)
        if all(len(line.split()) == 3 for line in lines[:: max(len(lines) // 50, 1)]):
            return table
    out = []
    for line in plain.split(b"\n"):
        ring = np.array(line.split(), dtype="S16").astype(np.int64)
        if len(ring) >= 3:
            n = len(ring) - 2
            out.append(np.stack([np.repeat(ring[0], n), ring[1:-1], ring[2:]], axis=1))
    return np.vstack(out) if out else np.zeros((0, 3), np.int64)
