"""Would walls that go straight down from a border cross each other or the surface?"""

from __future__ import annotations

import numba as nb
import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh
from .bins import bins
from .rings import follow_of


@nb.njit(cache=True)
def _cross2(ax, ay, bx, by):
    return ax * by - ay * bx


@nb.njit(cache=True)
def _segments_cross(p, q, r, s):
    """Proper or touching crossing of two plane segments that share no end."""
    d1 = _cross2(q[0] - p[0], q[1] - p[1], r[0] - p[0], r[1] - p[1])
    d2 = _cross2(q[0] - p[0], q[1] - p[1], s[0] - p[0], s[1] - p[1])
    d3 = _cross2(s[0] - r[0], s[1] - r[1], p[0] - r[0], p[1] - r[1])
    d4 = _cross2(s[0] - r[0], s[1] - r[1], q[0] - r[0], q[1] - r[1])
    if d1 == 0.0 and d2 == 0.0:
        axis = 0 if abs(q[0] - p[0]) > abs(q[1] - p[1]) else 1
        return max(min(p[axis], q[axis]), min(r[axis], s[axis])) <= min(max(p[axis], q[axis]), max(r[axis], s[axis]))
    return d1 * d2 <= 0.0 and d3 * d4 <= 0.0


@nb.njit(cache=True)
def _below_wall(p, q, t):
    """Does triangle t (3, 3) reach under the top line p-q (3,) of a wall that goes straight down?"""
    dx, dy = q[0] - p[0], q[1] - p[1]
    length2 = dx * dx + dy * dy
    if length2 < 1e-16:
        return False
    lo, hi, _drop = 2.0, -1.0, 0.0
    # The triangle's trace in the wall's plane: where its edges pass through, as (share along, height under top).
    s_at, z_at, n = np.empty(3), np.empty(3), 0
    for k in range(3):
        a, b = t[k], t[(k + 1) % 3]
        da = _cross2(dx, dy, a[0] - p[0], a[1] - p[1])
        db = _cross2(dx, dy, b[0] - p[0], b[1] - p[1])
        if (da > 0) == (db > 0):
            continue
        w = da / (da - db)
        x, y, z = a[0] + w * (b[0] - a[0]), a[1] + w * (b[1] - a[1]), a[2] + w * (b[2] - a[2])
        s = ((x - p[0]) * dx + (y - p[1]) * dy) / length2
        s_at[n], z_at[n] = s, p[2] + s * (q[2] - p[2]) - z
        n += 1
    if n < 2:
        return False
    # Clip the trace to the wall's width and look whether any of it lies under the top.
    lo, hi = (0, 1) if s_at[0] <= s_at[1] else (1, 0)
    s0, s1, z0, z1 = s_at[lo], s_at[hi], z_at[lo], z_at[hi]
    a, b = max(s0, 1e-3), min(s1, 1 - 1e-3)
    if a > b:
        return False
    span = s1 - s0
    za = z0 + (z1 - z0) * ((a - s0) / span if span > 0 else 0.0)
    zb = z0 + (z1 - z0) * ((b - s0) / span if span > 0 else 0.0)
    return max(za, zb) > 1e-5


@nb.njit(cache=True)
def _bad_walls(top, follow, first_vertex, next_vertex, tri, faces, seg_start, seg_item, tri_start, tri_item, origin, cell, ny):
    """Per wall (border point i to follow[i]) whether it crosses another wall or the surface."""
    n = len(top)
    bad = np.zeros(n, np.bool_)
    for i in range(n):
        p, q = top[i], top[follow[i]]
        if abs(p[0] - q[0]) + abs(p[1] - q[1]) < 1e-6:
            bad[i] = True
            continue
        x0, x1 = int((min(p[0], q[0]) - origin[0]) / cell), int((max(p[0], q[0]) - origin[0]) / cell)
        y0, y1 = int((min(p[1], q[1]) - origin[1]) / cell), int((max(p[1], q[1]) - origin[1]) / cell)
        for cx in range(x0, x1 + 1):
            for cy in range(y0, y1 + 1):
                c = cx * ny + cy
                for k in range(seg_start[c], seg_start[c + 1]):
                    j = seg_item[k]
                    if j == i:
                        continue
                    r, s = top[j], top[follow[j]]
                    if follow[i] == j or follow[j] == i:
                        # Neighbours share an end: bad only when they run back over each other.
                        turn = _cross2(q[0] - p[0], q[1] - p[1], s[0] - r[0], s[1] - r[1])
                        along = (q[0] - p[0]) * (s[0] - r[0]) + (q[1] - p[1]) * (s[1] - r[1])
                        if along < 0 and abs(turn) < 0.05 * -along:
                            bad[i] = True
                    elif _segments_cross(p, q, r, s):
                        bad[i] = True
                if bad[i]:
                    break
                for k in range(tri_start[c], tri_start[c + 1]):
                    f = tri_item[k]
                    shared = False
                    for m in range(3):
                        shared = shared or faces[f, m] == first_vertex[i] or faces[f, m] == next_vertex[i]
                    own = shared and (
                        (faces[f, 0] == first_vertex[i] or faces[f, 1] == first_vertex[i] or faces[f, 2] == first_vertex[i])
                        and (faces[f, 0] == next_vertex[i] or faces[f, 1] == next_vertex[i] or faces[f, 2] == next_vertex[i])
                    )
                    if not own and _below_wall(p, q, tri[f]):
                        bad[i] = True
                        break
            if bad[i]:
                break
    return bad


def crossing_walls(local: Mesh, loops: list[NDArray]) -> NDArray[np.bool_]:
    """Per border point (loops end to end, z up): would its wall, going straight down, cross a wall or the surface?"""
    vertex = np.concatenate(loops)
    follow = follow_of(loops)
    top = np.ascontiguousarray(local.vertices_mm[vertex])
    # No wall meets what lies above every border.
    low = local.vertices_mm[:, 2] <= top[:, 2].max()
    faces = local.faces[low[local.faces].any(1)]
    tri = np.ascontiguousarray(local.vertices_mm[faces])
    cell = 0.6
    origin = local.vertices_mm.min(0)[:2] - 0.5
    count = ((local.vertices_mm.max(0)[:2] - origin) / cell).astype(int) + 2
    nx, ny = int(count[0]), int(count[1])
    low, high = np.minimum(top, top[follow])[:, :2], np.maximum(top, top[follow])[:, :2]
    seg = bins(np.ascontiguousarray(low), np.ascontiguousarray(high), origin, cell, nx, ny)
    a, b, c = tri[:, 0, :2], tri[:, 1, :2], tri[:, 2, :2]
    box = bins(np.minimum(np.minimum(a, b), c), np.maximum(np.maximum(a, b), c), origin, cell, nx, ny)
    return _bad_walls(top, follow, vertex, vertex[follow], tri, faces, *seg, *box, origin, cell, ny)
