"""Carry the border of an open jaw down to a flat plane and close it: a solid whose tooth surface is the scan's.

Walls go straight down from the border; where a wall would cross the surface or another wall, the border is cut
back a little there and the wall tried again, so the solid never crosses itself.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import ArrayLike, NDArray

from ..errors import StepFailed
from ..mesh import GROUP_CUT, Mesh, border_loops, check_solid, used_vertices, volume_ml
from ..progress import QUIET, Run
from .border import cut_strip, smooth_border
from .clip import frame_of, triangulate

_ATTEMPTS = 10


@nb.njit(cache=True)
def _cross2(ax, ay, bx, by):
    return ax * by - ay * bx


@nb.njit(cache=True)
def _bins(low, high, origin, cell, nx, ny):
    start = np.zeros(nx * ny + 1, np.int64)
    for pass_two in range(2):
        if pass_two:
            total = 0
            for i in range(nx * ny + 1):
                n = start[i]
                start[i] = total
                total += n
            item = np.empty(total, np.int64)
            slot = start[:-1].copy()
        for k in range(len(low)):
            for i in range(int((low[k, 0] - origin[0]) / cell), int((high[k, 0] - origin[0]) / cell) + 1):
                for j in range(int((low[k, 1] - origin[1]) / cell), int((high[k, 1] - origin[1]) / cell) + 1):
                    c = i * ny + j
                    if pass_two:
                        item[slot[c]] = k
                        slot[c] += 1
                    else:
                        start[c] += 1
    return start, item


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
    lo, hi, drop = 2.0, -1.0, 0.0
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
    follow = _follow(loops)
    top = np.ascontiguousarray(local.vertices_mm[vertex])
    tri = np.ascontiguousarray(local.vertices_mm[local.faces])
    cell = 0.6
    origin = local.vertices_mm.min(0)[:2] - 0.5
    count = ((local.vertices_mm.max(0)[:2] - origin) / cell).astype(int) + 2
    nx, ny = int(count[0]), int(count[1])
    low, high = np.minimum(top, top[follow])[:, :2], np.maximum(top, top[follow])[:, :2]
    seg = _bins(np.ascontiguousarray(low), np.ascontiguousarray(high), origin, cell, nx, ny)
    box = _bins(np.ascontiguousarray(tri.min(1)[:, :2]), np.ascontiguousarray(tri.max(1)[:, :2]), origin, cell, nx, ny)
    return _bad_walls(top, follow, vertex, vertex[follow], tri, local.faces, *seg, *box, origin, cell, ny)


def _follow(loops: list[NDArray]) -> NDArray[np.int64]:
    return np.concatenate([np.roll(np.arange(len(p)), -1) + o for p, o in zip(loops, _offsets(loops), strict=True)])


def _straightened(local: Mesh, loops: list[NDArray], bad: NDArray, window: int) -> Mesh:
    """Where the border climbs a flank its plan wavers over itself: lay those stretches evenly along their chord.

    Only the plan position of border points moves, by at most 0.6 mm, which is inside what counts as the cut.
    """
    vertices = local.vertices_mm.copy()
    for loop, offset in zip(loops, _offsets(loops), strict=True):
        n = len(loop)
        mark = bad[offset : offset + n]
        if not mark.any():
            continue
        wide = np.zeros(n, bool)
        for shift in range(-window, window + 2):
            wide |= np.roll(mark, shift)
        plan = vertices[loop, :2].copy()
        start = plan.copy()
        for _ in range(4 * window * window):
            plan[wide] = (0.5 * (np.roll(plan, 1, axis=0) + np.roll(plan, -1, axis=0)))[wide]
        move = plan - start
        length = np.linalg.norm(move, axis=1, keepdims=True)
        vertices[loop, :2] = start + move * np.minimum(1.0, 0.6 / np.maximum(length, 1e-12))
    return Mesh.of(vertices, local.faces, local.groups)


def _offsets(loops: list[NDArray]) -> list[int]:
    return [0, *np.cumsum([len(p) for p in loops]).tolist()][:-1]


@dataclass(frozen=True)
class Based:
    """body : the solid in the frame of the input; border_cut_mm : the most that was cut back to free the walls."""

    body: Mesh
    floor_mm: float
    lowest_mm: float
    border_cut_mm: float
    places_cut: int


def base(mesh: Mesh, *, up: ArrayLike, thickness_mm: float, run: Run = QUIET) -> Based:
    """Close an open jaw whose teeth point along `up` with walls and a flat base under its lowest point.

    Heights are along `up` from the origin of the frame. Raises StepFailed where no solid can be made.
    """
    rotation = frame_of(up)
    local = Mesh.of(mesh.vertices_mm @ rotation.T, mesh.faces, mesh.groups)
    cut, radius, places = 0.0, 0.5, 0
    for attempt in range(_ATTEMPTS):
        run.tick(0.1 + 0.6 * attempt / _ATTEMPTS, "walls")
        loops = border_loops(local)
        if not loops:
            raise StepFailed("The surface has no border to carry down: it is closed already.", code="no-border")
        bad = crossing_walls(local, loops)
        if not bad.any():
            break
        straight = _freed(local, loops, bad)
        if straight is not None:
            local = straight
            break
        where = local.vertices_mm[np.concatenate(loops)[bad]]
        places = max(places, len(where))
        cut, radius = max(cut, radius), radius * 1.2
        local = smooth_border(cut_strip(local, where, radius_mm=radius / 1.2), rounds=6)
        if local.triangles == 0:
            raise StepFailed("Nothing is left of the surface once its border is cut back.", code="nothing-left")
    else:
        raise StepFailed(
            "The border folds over itself here, and no wall can go down from it. Trim more off at this place.",
            code="border-folds",
            point_mm=where[0] @ rotation,
            radius_mm=2.0,
        )
    return _closed(mesh, local, rotation, thickness_mm, run, (cut, places))


def _freed(local: Mesh, loops: list[NDArray], bad: NDArray) -> Mesh | None:
    """The mesh with its wavering border stretches straightened, or None where that does not free the walls."""
    for window in (2, 5, 10, 18, 30):
        local = _straightened(local, loops, bad, window)
        bad = crossing_walls(local, loops)
        if not bad.any():
            return local
    return None


def _home_vertices(mesh: Mesh, local: Mesh, rotation: NDArray) -> NDArray[np.float64]:
    """Back in the frame of the input; vertices that did not move are the input's bit for bit."""
    if len(mesh.vertices_mm) != len(local.vertices_mm):
        return local.vertices_mm @ rotation
    still = (mesh.vertices_mm @ rotation.T == local.vertices_mm).all(1)
    return np.where(still[:, None], mesh.vertices_mm, local.vertices_mm @ rotation)


def _closed(
    mesh: Mesh, local: Mesh, rotation: NDArray, thickness_mm: float, run: Run, cut: tuple[float, int]
) -> Based:
    loops = border_loops(local)
    lowest = float(local.vertices_mm[used_vertices(local)][:, 2].min())
    floor = lowest - thickness_mm
    kept = _home_vertices(mesh, local, rotation)
    top, follow = np.concatenate(loops).astype(np.int64), _follow(loops)
    foot = len(kept) + np.arange(len(top))
    wall = np.vstack([np.c_[top[follow], top, foot], np.c_[top[follow], foot, foot[follow]]])
    run.tick(0.8, "floor")
    rings = [local.vertices_mm[loop][:, :2] for loop in loops]
    floor_faces = foot[triangulate(rings)][:, ::-1]
    feet = np.c_[np.vstack(rings), np.full(len(top), floor)] @ rotation
    faces = np.vstack([local.faces, wall, floor_faces])
    groups = np.r_[local.groups, np.full(len(wall) + len(floor_faces), GROUP_CUT, np.uint8)]
    body = Mesh.of(np.vstack([kept, feet]), faces, groups)
    check = check_solid(body)
    if not check.ok or volume_ml(body) <= 0:
        raise StepFailed(
            "The base could not be closed on this border. Trim a little more off the border.", code="base-open"
        )
    return Based(body, floor, lowest, *cut)
