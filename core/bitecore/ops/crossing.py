"""Where a surface goes through itself: folds and tags. Triangle against triangle on a grid of cells.

Two triangles cross when an edge of one goes through the other (Möller and Trumbore 1997). Neighbours that share an edge
are left out; of those that share one corner the opposite edges are tried.
"""

from __future__ import annotations

import numba as nb
import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh

_CELL_OF_EDGE = 2.2


@nb.njit(cache=True, inline="always")
def _through(p, q, a, b, c):
    d0, d1, d2 = q[0] - p[0], q[1] - p[1], q[2] - p[2]
    e0, e1, e2 = b[0] - a[0], b[1] - a[1], b[2] - a[2]
    g0, g1, g2 = c[0] - a[0], c[1] - a[1], c[2] - a[2]
    h0, h1, h2 = d1 * g2 - d2 * g1, d2 * g0 - d0 * g2, d0 * g1 - d1 * g0
    det = e0 * h0 + e1 * h1 + e2 * h2
    size = (e0 * e0 + e1 * e1 + e2 * e2) * (g0 * g0 + g1 * g1 + g2 * g2) * (d0 * d0 + d1 * d1 + d2 * d2)
    # Nearly parallel: lying on each other is no crossing.
    if det * det <= 1e-12 * size:
        return False
    s0, s1, s2 = p[0] - a[0], p[1] - a[1], p[2] - a[2]
    u = (s0 * h0 + s1 * h1 + s2 * h2) / det
    if u < 0.0 or u > 1.0:
        return False
    r0, r1, r2 = s1 * e2 - s2 * e1, s2 * e0 - s0 * e2, s0 * e1 - s1 * e0
    v = (d0 * r0 + d1 * r1 + d2 * r2) / det
    if v < 0.0 or u + v > 1.0:
        return False
    t = (g0 * r0 + g1 * r1 + g2 * r2) / det
    return 0.0 <= t <= 1.0


@nb.njit(cache=True, nogil=True)
def _one_side(v, f, i, j):
    """Does all of triangle j but corners that it shares with i lie clearly on one side of the plane of i? Then they cannot cross."""
    a, b, c = f[i, 0], f[i, 1], f[i, 2]
    e0, e1, e2 = v[b, 0] - v[a, 0], v[b, 1] - v[a, 1], v[b, 2] - v[a, 2]
    g0, g1, g2 = v[c, 0] - v[a, 0], v[c, 1] - v[a, 1], v[c, 2] - v[a, 2]
    n0, n1, n2 = e1 * g2 - e2 * g1, e2 * g0 - e0 * g2, e0 * g1 - e1 * g0
    least = 1e-9 * (abs(n0) + abs(n1) + abs(n2))
    above, below = 0, 0
    for x in range(3):
        k = f[j, x]
        if k in (a, b, c):
            continue
        d = n0 * (v[k, 0] - v[a, 0]) + n1 * (v[k, 1] - v[a, 1]) + n2 * (v[k, 2] - v[a, 2])
        if d > least:
            above += 1
        elif d < -least:
            below += 1
        else:
            return False
    return above == 0 or below == 0


@nb.njit(cache=True, nogil=True)
def _cross(v, f, i, j):
    if _one_side(v, f, i, j) or _one_side(v, f, j, i):
        return False
    shared, si, sj = 0, 0, 0
    for x in range(3):
        for y in range(3):
            if f[i, x] == f[j, y]:
                shared += 1
                si, sj = x, y
    if shared >= 2:
        return False
    # Split corners lie in the same place under other numbers.
    for x in range(3):
        for y in range(3):
            a, b = f[i, x], f[j, y]
            if a != b and v[a, 0] == v[b, 0] and v[a, 1] == v[b, 1] and v[a, 2] == v[b, 2]:
                shared += 1
                si, sj = x, y
    if shared >= 2:
        return False
    a, b, c = v[f[i, 0]], v[f[i, 1]], v[f[i, 2]]
    p, q, r = v[f[j, 0]], v[f[j, 1]], v[f[j, 2]]
    if shared == 1:
        return _through(v[f[i, (si + 1) % 3]], v[f[i, (si + 2) % 3]], p, q, r) or _through(
            v[f[j, (sj + 1) % 3]], v[f[j, (sj + 2) % 3]], a, b, c
        )
    return (
        _through(a, b, p, q, r)
        or _through(b, c, p, q, r)
        or _through(c, a, p, q, r)
        or _through(p, q, a, b, c)
        or _through(q, r, a, b, c)
        or _through(r, p, a, b, c)
    )


@nb.njit(cache=True, nogil=True)
def _crossing(v, f, among, low, high, cell_low, cell, order, start, n, mask):
    """Sweep: every triangle among those asked is held against those of its cells, each pair once."""
    out = np.zeros(len(f), np.bool_)
    for i in range(len(f)):
        if not among[i]:
            continue
        x0, y0, z0 = int((low[i, 0] - cell_low[0]) / cell), int((low[i, 1] - cell_low[1]) / cell), int((low[i, 2] - cell_low[2]) / cell)
        x1, y1, z1 = int((high[i, 0] - cell_low[0]) / cell), int((high[i, 1] - cell_low[1]) / cell), int((high[i, 2] - cell_low[2]) / cell)
        for x in range(x0, x1 + 1):
            for y in range(y0, y1 + 1):
                for z in range(z0, z1 + 1):
                    h = ((x * 73856093) ^ (y * 19349663) ^ (z * 83492791)) & mask
                    for k in range(start[h], start[h + 1]):
                        j = order[k]
                        if j == i or (j < i and among[j]) or (out[i] and out[j]):
                            continue
                        if (
                            low[j, 0] > high[i, 0] or high[j, 0] < low[i, 0] or low[j, 1] > high[i, 1]
                            or high[j, 1] < low[i, 1] or low[j, 2] > high[i, 2] or high[j, 2] < low[i, 2]
                        ):  # fmt: skip
                            continue
                        # A pair meets in several cells; it is tried in the one where both boxes begin.
                        if (
                            int((max(low[i, 0], low[j, 0]) - cell_low[0]) / cell) != x
                            or int((max(low[i, 1], low[j, 1]) - cell_low[1]) / cell) != y
                            or int((max(low[i, 2], low[j, 2]) - cell_low[2]) / cell) != z
                        ):
                            continue
                        if _cross(v, f, i, j):
                            out[i] = True
                            out[j] = True
    return out


@nb.njit(cache=True, nogil=True)
def _hashed(low, high, cell_low, cell, mask):
    start = np.zeros(mask + 2, np.int64)
    slot = np.zeros(mask + 1, np.int64)
    order = np.empty(0, np.int32)
    for turn in range(2):
        for i in range(len(low)):
            for x in range(int((low[i, 0] - cell_low[0]) / cell), int((high[i, 0] - cell_low[0]) / cell) + 1):
                for y in range(int((low[i, 1] - cell_low[1]) / cell), int((high[i, 1] - cell_low[1]) / cell) + 1):
                    for z in range(int((low[i, 2] - cell_low[2]) / cell), int((high[i, 2] - cell_low[2]) / cell) + 1):
                        h = ((x * 73856093) ^ (y * 19349663) ^ (z * 83492791)) & mask
                        if turn == 0:
                            start[h + 1] += 1
                        else:
                            order[slot[h]] = i
                            slot[h] += 1
        if turn == 0:
            for h in range(mask + 1):
                start[h + 1] += start[h]
            slot[:] = start[:-1]
            order = np.empty(start[-1], np.int32)
    return order, start


@nb.njit(cache=True, nogil=True)
def _boxes(v, f):
    low, high = np.empty((len(f), 3)), np.empty((len(f), 3))
    for i in range(len(f)):
        for x in range(3):
            a, b, c = v[f[i, 0], x], v[f[i, 1], x], v[f[i, 2], x]
            low[i, x], high[i, x] = min(a, b, c), max(a, b, c)
    return low, high


def crossing_faces(mesh: Mesh, *, among: NDArray[np.bool_] | None = None) -> NDArray[np.bool_]:
    """(m,) which triangles go through another one of the same mesh. among : (m,) of each such pair one is of these."""
    if mesh.triangles < 2 or (among is not None and not among.any()):
        return np.zeros(mesh.triangles, bool)
    faces = mesh.faces
    low, high = _boxes(mesh.vertices_mm, faces)
    asked = np.ones(len(faces), bool) if among is None else among
    # What lies beyond all of those has no part in it.
    near = (low <= high[asked].max(0)).all(1) & (high >= low[asked].min(0)).all(1)
    out = np.zeros(len(faces), bool)
    out[near] = _found(mesh.vertices_mm, faces[near], asked[near], low[near], high[near])
    return out


def _found(points: NDArray, faces: NDArray, asked: NDArray, low: NDArray, high: NDArray) -> NDArray[np.bool_]:
    wide = np.maximum(np.maximum(high[:, 0] - low[:, 0], high[:, 1] - low[:, 1]), high[:, 2] - low[:, 2])
    cell = max(float(np.median(wide)) * _CELL_OF_EDGE, float(wide.max()) / 60, 1e-6)
    size = 1 << int(np.ceil(np.log2(max(len(faces), 16))))
    origin = low.min(0) - 1e-3
    order, start = _hashed(low, high, origin, cell, size - 1)
    return _crossing(points, faces, asked, low, high, origin, cell, order, start, size, size - 1)
