"""Triangle soup to mesh: equal corners become one vertex."""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh


@nb.njit(cache=True)
def _start(bits, i):
    """A number from all bits of a point's coordinates."""
    h = bits[i, 0] * np.uint64(0x9E3779B97F4A7C15)
    h ^= (h >> np.uint64(32)) + bits[i, 1] * np.uint64(0xC2B2AE3D27D4EB4F)
    h ^= (h >> np.uint64(29)) + bits[i, 2] * np.uint64(0x165667B19E3779F9)
    return h ^ (h >> np.uint64(31))


@nb.njit(cache=True)
def _table(n):
    size = 16
    while size < 2 * n:
        size *= 2
    return np.full(size, -1, np.int32), np.uint64(size - 1)


@nb.njit(cache=True)
def _weld(bits, points):
    """Open addressing over the bits of the coordinates; equality is exact."""
    n = points.shape[0]
    table, mask = _table(n)
    first = np.empty(n, np.int32)
    corner = np.empty(n, np.int32)
    count = 0
    for i in range(n):
        j = _start(bits, i) & mask
        while True:
            k = table[j]
            if k < 0:
                table[j] = count
                first[count] = i
                corner[i] = count
                count += 1
                break
            f = first[k]
            if points[f, 0] == points[i, 0] and points[f, 1] == points[i, 1] and points[f, 2] == points[i, 2]:
                corner[i] = k
                break
            j = (j + np.uint64(1)) & mask
    return first[:count], corner


@nb.njit(cache=True)
def _found(asked_bits, asked, bits, points):
    n = points.shape[0]
    table, mask = _table(n)
    for i in range(n):
        j = _start(bits, i) & mask
        while table[j] >= 0:
            j = (j + np.uint64(1)) & mask
        table[j] = i
    out = np.full(asked.shape[0], -1, np.int64)
    for i in range(asked.shape[0]):
        j = _start(asked_bits, i) & mask
        while table[j] >= 0:
            k = table[j]
            if points[k, 0] == asked[i, 0] and points[k, 1] == asked[i, 1] and points[k, 2] == asked[i, 2]:
                out[i] = k
                break
            j = (j + np.uint64(1)) & mask
    return out


def same_place(asked_mm: NDArray[np.float64], among_mm: NDArray[np.float64]) -> NDArray[np.int64]:
    """(k,) for each of (k, 3) points the number of the first of (n, 3) that has the same coordinates to the bit, -1 where none has."""
    asked, among = (np.ascontiguousarray(points, np.float64) + 0.0 for points in (asked_mm, among_mm))
    return _found(asked.view(np.uint64), asked, among.view(np.uint64), among)


@dataclass(frozen=True)
class Welded:
    """kept : (m,) which of the triangles given are left"""

    mesh: Mesh
    kept: NDArray[np.bool_]

    @property
    def degenerate(self) -> int:
        return int((~self.kept).sum())


def weld(points_mm: NDArray[np.float64]) -> Welded:
    """(3m, 3) corners to a mesh; triangles with two equal corners are left out and counted."""
    points = np.ascontiguousarray(points_mm, np.float64) + 0.0  # -0 and +0 are one place
    first, corner = _weld(points.view(np.uint64), points)
    faces = corner.reshape(-1, 3)
    good = (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 2] != faces[:, 0])
    mesh = Mesh.of(points[first], faces[good], source=np.arange(good.sum()))
    return Welded(mesh.of_faces(np.ones(mesh.triangles, bool)) if not good.all() else mesh, good)
