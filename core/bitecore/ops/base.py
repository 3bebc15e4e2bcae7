"""Carry the border of an open jaw down to a flat plane and close it: a solid whose tooth surface is the scan's.

Walls go straight down from the border. Before that the surface is cut along a curtain: the graph of a smooth height
over the plan that lies on or above the border everywhere and falls away from it steeply. What is kept lies above the
graph and its border on it; so a wall under the border can meet neither the surface (all of it is above the graph)
nor another wall (a graph holds one height for each place in the plan, so the border's plan does not cross itself).
"""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.spatial import cKDTree

from ..errors import StepFailed
from ..mesh import GROUP_CUT, Mesh, area_mm2, border_loops, check_solid, used_vertices, volume_ml
from ..progress import QUIET, Run
from .border import border_points
from .clip import frame_of, triangulate
from .curtain import above_curtain
from .mend import largest_piece

# (how steeply the curtain falls away from the border, how far its top is rounded in mm): gentler when needed.
_CURTAINS = ((10.0, 0.3), (6.0, 0.3), (3.0, 0.45), (1.2, 1.2))

# Where walls would still cross, so much of the surface around the place goes, so many times, before a gentler curtain is tried:
# on 80 jaws of the trial's second set this left more of the surface than gentler curtains at once, and something of every jaw.
_NIBBLE_MM, _NIBBLES = 0.7, 8


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
    follow = _follow(loops)
    top = np.ascontiguousarray(local.vertices_mm[vertex])
    tri = np.ascontiguousarray(local.vertices_mm[local.faces])
    cell = 0.6
    origin = local.vertices_mm.min(0)[:2] - 0.5
    count = ((local.vertices_mm.max(0)[:2] - origin) / cell).astype(int) + 2
    nx, ny = int(count[0]), int(count[1])
    low, high = np.minimum(top, top[follow])[:, :2], np.maximum(top, top[follow])[:, :2]
    seg = _bins(np.ascontiguousarray(low), np.ascontiguousarray(high), origin, cell, nx, ny)
    a, b, c = tri[:, 0, :2], tri[:, 1, :2], tri[:, 2, :2]
    box = _bins(np.minimum(np.minimum(a, b), c), np.maximum(np.maximum(a, b), c), origin, cell, nx, ny)
    return _bad_walls(top, follow, vertex, vertex[follow], tri, local.faces, *seg, *box, origin, cell, ny)


def _follow(loops: list[NDArray]) -> NDArray[np.int64]:
    return np.concatenate([np.roll(np.arange(len(p)), -1) + o for p, o in zip(loops, _offsets(loops), strict=True)])


def _offsets(loops: list[NDArray]) -> list[int]:
    return [0, *np.cumsum([len(p) for p in loops]).tolist()][:-1]


@dataclass(frozen=True)
class Based:
    """A body on its flat base.

    body          : the solid in the frame of the input
    border_cut_mm : the most that was cut back to free the walls
    cut_mm2       : how much of the surface went with it
    highest_mm    : how high that reaches
    """

    body: Mesh
    floor_mm: float
    lowest_mm: float
    border_cut_mm: float
    cut_mm2: float
    highest_mm: float


def base(mesh: Mesh, *, up: ArrayLike, thickness_mm: float, run: Run = QUIET) -> Based:
    """Close an open jaw whose teeth point along `up` with walls and a flat base under its lowest point.

    Heights are along `up` from the origin of the frame. Raises StepFailed where no solid can be made.
    """
    rotation = frame_of(up)
    local = mesh.with_vertices(mesh.vertices_mm @ rotation.T)
    if not border_loops(local):
        raise StepFailed("The surface has no border to carry down: it is closed already.", code="no-border")
    freed = _freed(local, rotation, run.part(0.1, 0.7))
    return _closed(mesh, local, freed, rotation, thickness_mm, run)


def _freed(local: Mesh, rotation: NDArray, run: Run) -> Mesh:
    """What lies above the first curtain under whose border walls can go straight down."""
    crossed = border_points(local)
    for attempt, (slope, round_mm) in enumerate(_CURTAINS):
        left = local
        for nibble in range(_NIBBLES):
            run.tick((attempt + nibble / _NIBBLES) / len(_CURTAINS), "walls")
            freed, crossed = _cut_back(left, slope, round_mm)
            if not len(crossed):
                return freed
            less = _nibbled(left, crossed)
            if less is None:
                break
            left = less
    raise StepFailed(
        "The border folds over itself here, and no wall can go down from it. Trim more off at this place.",
        code="border-folds",
        point_mm=crossed[0] @ rotation,
        radius_mm=2.0,
    )


def _cut_back(local: Mesh, slope: float, round_mm: float) -> tuple[Mesh, NDArray[np.float64]]:
    """(what lies above this curtain, (k, 3) where walls under its border would cross), the border evened where that will do."""
    tried = []
    for even in (True, False):
        freed = above_curtain(local, slope=slope, round_mm=round_mm, even=even)
        if freed.triangles == 0:
            raise StepFailed("Nothing is left of the surface once its border is cut back.", code="nothing-left")
        loops = border_loops(freed)
        bad = crossing_walls(freed, loops)
        tried.append((freed, freed.vertices_mm[np.concatenate(loops)[bad]]))
        if not bad.any():
            break
    return min(tried, key=lambda each: len(each[1]))


def _nibbled(local: Mesh, at: NDArray[np.float64]) -> Mesh | None:
    """Without the surface around these places; None where that takes nothing or all."""
    near = cKDTree(at).query(local.vertices_mm, distance_upper_bound=_NIBBLE_MM)[0] < _NIBBLE_MM
    kept = ~near[local.faces].any(1)
    return None if kept.all() or not kept.any() else largest_piece(local.of_faces(kept))


def _home_vertices(mesh: Mesh, local: Mesh, rotation: NDArray) -> NDArray[np.float64]:
    """Back in the frame of the input; vertices that did not move are the input's bit for bit."""
    out = local.vertices_mm @ rotation
    turned = np.ascontiguousarray(mesh.vertices_mm @ rotation.T)
    width = np.dtype((np.void, 24))
    known = turned.view(width).ravel()
    order = np.argsort(known, kind="stable")
    asked = np.ascontiguousarray(local.vertices_mm).view(width).ravel()
    at = np.minimum(np.searchsorted(known, asked, sorter=order), len(order) - 1)
    same = known[order[at]] == asked
    out[same] = mesh.vertices_mm[order[at[same]]]
    return out


def _closed(mesh: Mesh, before: Mesh, local: Mesh, rotation: NDArray, thickness_mm: float, run: Run) -> Based:
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
    body = local.with_vertices(kept).plus(feet, np.vstack([wall, floor_faces]), GROUP_CUT)
    check = check_solid(body)
    if not check.ok or volume_ml(body) <= 0:
        raise StepFailed("The base could not be closed on this border. Trim a little more off the border.", code="base-open")
    return Based(body, floor, lowest, *_went(before, local))


def _went(before: Mesh, left: Mesh) -> tuple[float, float, float]:
    """(how far the border was cut back in mm, mm² of the surface that went, how high that reaches)."""
    start, end = border_points(before), border_points(left)
    far = float(cKDTree(start).query(end)[0].max())
    used = before.vertices_mm[used_vertices(before)]
    gone = used[cKDTree(left.vertices_mm[used_vertices(left)]).query(used, distance_upper_bound=0.01)[0] > 0.01]
    return far, max(area_mm2(before) - area_mm2(left), 0.0), float(gone[:, 2].max(initial=end[:, 2].min()))
