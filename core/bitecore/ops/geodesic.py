"""Distances over a surface: a front moves on from what is near, through triangles and not only along edges, as in fast marching (Kimmel and
Sethian, Computing geodesic paths on manifolds, 1998), but round as it would be from a point: exact from a point over flat triangles
that it sees, and from a line a little short. Ways along edges alone are up to a sixth too long."""

from __future__ import annotations

import numba as nb
import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh
from .surface_graph import drop, push


@nb.njit(cache=True, nogil=True)
def around(faces, n) -> tuple[np.ndarray, np.ndarray]:
    """start (n + 1,), which (3m,): the faces at each vertex."""
    start = np.zeros(n + 1, np.int64)
    for f in range(len(faces)):
        for k in range(3):
            start[faces[f, k] + 1] += 1
    for i in range(n):
        start[i + 1] += start[i]
    slot, which = start[:-1].copy(), np.empty(3 * len(faces), np.int32)
    for f in range(len(faces)):
        for k in range(3):
            v = faces[f, k]
            which[slot[v]] = f
            slot[v] += 1
    return start, which


@nb.njit(cache=True, inline="always")
def _apart(p, a, b):
    x, y, z = p[a, 0] - p[b, 0], p[a, 1] - p[b, 1], p[a, 2] - p[b, 2]
    return np.sqrt(x * x + y * y + z * z)


@nb.njit(cache=True, nogil=True)
def _through(p, a, b, c, ta, tb):
    """When a front that is at a at ta and at b at tb comes to c. The place it seems to come from lies in the plane of the triangle beyond
    the edge from a to b, ta from the one and tb from the other; the way from there to c counts where it crosses that edge, else the
    ways along the other edges do."""
    to_a, to_b, wide = _apart(p, a, c), _apart(p, b, c), _apart(p, a, b)
    best = min(ta + to_a, tb + to_b)
    if wide <= 0:
        return best
    # In the plane: a at nought, b on the first axis, c above it and the source below.
    sx = (ta * ta - tb * tb + wide * wide) / (2 * wide)
    cx = (to_a * to_a - to_b * to_b + wide * wide) / (2 * wide)
    sy, cy = ta * ta - sx * sx, to_a * to_a - cx * cx
    if sy < 0 or cy <= 0:
        return best
    sy, cy = np.sqrt(sy), np.sqrt(cy)
    crosses = sx + (cx - sx) * sy / (sy + cy) if sy + cy > 0 else sx
    if crosses < 0 or crosses > wide:
        return best
    return min(best, np.sqrt((cx - sx) ** 2 + (cy + sy) ** 2))


@nb.njit(cache=True, nogil=True)
def _marched(p, faces, start, which, first, reach):
    n = len(p)
    away = first.copy()
    keys, items, m = np.empty(24 * len(faces) + n + 16), np.empty(24 * len(faces) + n + 16, np.int32), 0
    for i in range(n):
        if away[i] < reach:
            m = push(keys, items, m, away[i], i)
    while m > 0:
        key, i = keys[0], items[0]
        m = drop(keys, items, m)
        if key > away[i]:
            continue
        for q in range(start[i], start[i + 1]):
            f = which[q]
            for k in range(3):
                c = faces[f, k]
                if c == i or first[c] < reach:
                    continue
                # In an obtuse triangle the third corner is there before the second: it is asked again when that has come.
                b = faces[f, 0] + faces[f, 1] + faces[f, 2] - c - i
                t = _through(p, i, b, c, away[i], away[b]) if away[b] < reach else away[i] + _apart(p, i, c)
                if t < away[c] - 1e-9 and t < reach and m < len(keys):
                    away[c] = t
                    m = push(keys, items, m, t, c)
    return away


def distances(mesh: Mesh, first: NDArray[np.float64], *, reach_mm: float = np.inf, round_mm: float = 0.0) -> NDArray[np.float64]:
    """(n,) mm over the surface from where it begins; infinite where the front does not come within reach. first : (n,) the distance at
    vertices where it begins, infinite elsewhere; round_mm : about the radius of what it begins at, nought for a point."""
    start, which = around(mesh.faces, len(mesh.vertices_mm))
    begun = np.asarray(first, float) + round_mm
    away = _marched(mesh.vertices_mm, mesh.faces, start, which, begun, float(reach_mm) + round_mm) - round_mm
    return np.where(away < reach_mm, away, np.inf)
