"""OBJ in: vertices, colours after them where there are any, and faces, polygons cut into fans.

Lines `v x y z …` and `f a b c …`, indices from 1 or backwards from the last vertex, each with or without /texture/normal
(Wavefront, Advanced Visualizer manual, appendix B1; from memory).
"""

from __future__ import annotations

import re

import numba as nb
import numpy as np
from numpy.typing import NDArray

from ..errors import UnreadableFile
from .count import check_count, check_points
from .numbers import BAD, LATER, decimal, read_later, whole

_VERTEX_LINE = re.compile(rb"^v[ \t]+([^\r\n]*)", re.MULTILINE)
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


def face_colours(data: bytes) -> NDArray[np.uint8] | None:
    """(m, 3) of each triangle in the order of `read`, the mean of its corners; None unless every vertex has six numbers, the last three
    from 0 to 1. Of a file that was read."""
    data = _joined(data)
    first = _VERTEX_LINE.search(data)
    if first is None or len(first.group(1).split()) != 6:
        return None
    rows = [line.split() for line in _VERTEX_LINE.findall(data)]
    if {len(row) for row in rows} != {6}:
        return None
    colours = np.array(rows)[:, 3:].astype(np.float64)
    if not (colours.min() >= 0 and colours.max() <= 1):
        return None
    text = np.frombuffer(data, np.uint8)
    points, triangles = _counted(text)
    vertices, faces = np.empty((points, 3)), np.empty((triangles, 3), np.int64)
    _filled(text, vertices, faces, np.empty((3 * points, 3), np.int64))
    faces = np.where(faces < 0, faces + len(vertices), faces - 1)
    return np.rint(255.0 * colours[faces].mean(1)).astype(np.uint8)


def _joined(data: bytes) -> bytes:
    """A backslash at the end of a line carries it on."""
    return data.replace(b"\\\r\n", b"   ").replace(b"\\\n", b"  ") if b"\\" in data else data


def _read(name: str, data: bytes, limit: int) -> NDArray[np.float64]:
    text = np.frombuffer(_joined(data), np.uint8)
    points, triangles = _counted(text)
    check_count(name, triangles, limit)
    check_points(name, points, limit)
    if not points or not triangles:
        raise UnreadableFile(f"“{name}” holds points without triangles. Export the scan as a surface.", code="no-triangles")
    vertices, faces = np.empty((points, 3)), np.empty((triangles, 3), np.int64)
    spans = np.empty((3 * points, 3), np.int64)
    later = _filled(text, vertices, faces, spans)
    if later < 0:
        raise ValueError("a vertex needs three numbers, a face whole ones")
    read_later(text, spans[:later], vertices)
    # Indices count from 1; negative ones backwards from the vertices so far, which for scans are all of them.
    faces = np.where(faces < 0, faces + len(vertices), faces - 1)
    if faces.min() < 0 or faces.max() >= len(vertices):
        raise ValueError("index out of range")
    return vertices[faces.ravel()]


@nb.njit(cache=True)
def _kind(text, at, end):
    """v or f where such a line begins at `at`, else 0."""
    known = at + 1 < end and (text[at] == 118 or text[at] == 102) and (text[at + 1] == 32 or text[at + 1] == 9)
    return text[at] if known else 0


@nb.njit(cache=True)
def _line_end(text, at, end):
    while at < end and text[at] != 10 and text[at] != 13:
        at += 1
    return at


@nb.njit(cache=True)
def _counted(text):
    """(vertices, triangles) that the lines promise."""
    at, end, points, triangles = 0, len(text), 0, 0
    while at < end:
        kind, stop = _kind(text, at, end), _line_end(text, at, end)
        points += kind == 118
        if kind == 102:
            corners, before = 0, True
            for i in range(at + 1, stop):
                blank = text[i] <= 32
                corners += before and not blank
                before = blank
            triangles += max(corners - 2, 0)
        at = stop + 1
    return points, triangles


@nb.njit(cache=True)
def _filled(text, vertices, faces, spans):
    """Fill both; how many numbers are left for later, or -1 where a line is not as it should be."""
    at, end, points, triangles, later = 0, len(text), 0, 0, 0
    while at < end:
        kind, stop = _kind(text, at, end), _line_end(text, at, end)
        at += 1
        if kind == 118:
            for k in range(3):
                while at < stop and text[at] <= 32:
                    at += 1
                begin = at
                vertices[points, k], at, how = decimal(text, at, stop)
                if how == BAD or (at < stop and text[at] > 32):
                    return -1
                if how == LATER:
                    spans[later, 0], spans[later, 1], spans[later, 2] = 3 * points + k, begin, at
                    later += 1
            points += 1
        elif kind == 102:
            corner, first, last = 0, 0, 0
            while True:
                while at < stop and text[at] <= 32:
                    at += 1
                if at >= stop:
                    break
                index, at, good = whole(text, at, stop)
                if not good or (at < stop and text[at] > 32 and text[at] != 47):
                    return -1
                while at < stop and text[at] > 32:  # /texture/normal
                    at += 1
                if corner == 0:
                    first = index
                elif corner >= 2:
                    faces[triangles, 0], faces[triangles, 1], faces[triangles, 2] = first, last, index
                    triangles += 1
                last = index
                corner += 1
        at = stop + 1
    return later
