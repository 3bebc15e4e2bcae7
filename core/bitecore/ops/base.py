"""Carry the border of an open jaw down to a flat plane and close it: a solid whose tooth surface is the scan's.

Walls go straight down, under a smooth outline a little outside the border; a narrow shelf falls from the border to their top. Where
that would cross the surface they go down from the border itself. Before that the surface is cut along a curtain: the graph of a smooth
height over the plan that lies on or above the border everywhere and falls away from it steeply. What is kept lies above the
graph and its border on it; so a wall under the border can meet neither the surface (all of it is above the graph)
nor another wall (a graph holds one height for each place in the plan, so the border's plan does not cross itself).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.spatial import cKDTree

from ..errors import StepFailed
from ..mesh import GROUP_CUT, Mesh, area_mm2, border_loops, check_solid, used_vertices, volume_ml
from ..progress import QUIET, Run
from .border import border_points
from .clip import frame_of
from .crossing import crossing_faces
from .curtain import above_curtain
from .mend import largest_piece
from .outline import Outline, outline
from .shelf import shelf
from .walls import crossing_walls, follow_of

# (how steeply the curtain falls away from the border, how far its top is rounded in mm): gentler when needed.
_CURTAINS = ((10.0, 0.3), (6.0, 0.3), (3.0, 0.45), (1.2, 1.2))

# Where walls would still cross, so much of the surface around the place goes, so many times, before a gentler curtain is tried:
# on 80 jaws of the trial's second set this left more of the surface than gentler curtains at once, and something of every jaw.
_NIBBLE_MM, _NIBBLES = 0.7, 8

# How far the shelf falls on its way out from the border (mm a mm): steeper when needed. A wall is so tall at least.
_DROPS = (1.0, 2.5)
_LEAST_WALL_MM = 0.3


@dataclass(frozen=True)
class Based:
    """A body on its flat base.

    body          : the solid in the frame of the input
    border_cut_mm : the most that was cut back to free the walls
    cut_mm2       : how much of the surface went with it
    highest_mm    : how high that reaches
    clean_walls   : they follow a smooth outline, and not the border itself
    """

    body: Mesh
    floor_mm: float
    lowest_mm: float
    border_cut_mm: float
    cut_mm2: float
    highest_mm: float
    clean_walls: bool


def base(mesh: Mesh, *, up: ArrayLike, thickness_mm: float, run: Run = QUIET) -> Based:
    """Close an open jaw whose teeth point along `up` with walls and a flat base under its lowest point.

    Heights are along `up` from the origin of the frame. Raises StepFailed where no solid can be made.
    """
    rotation = frame_of(up)
    local = mesh.with_vertices(mesh.vertices_mm @ rotation.T)
    if not border_loops(local):
        raise StepFailed("The surface has no border to carry down: it is closed already.", code="no-border")
    return _closed(mesh, local, rotation, thickness_mm, run)


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


def _closed(mesh: Mesh, before: Mesh, rotation: NDArray, thickness_mm: float, run: Run) -> Based:
    local, made, clean = _cleanest(before, rotation, thickness_mm, run.part(0.1, 0.8))
    floor = _floor(local, thickness_mm)
    kept = _home_vertices(mesh, local, rotation)
    body = local.with_vertices(kept).plus(made.points @ rotation, made.faces, GROUP_CUT)
    check = check_solid(body)
    if not check.ok or volume_ml(body) <= 0:
        raise StepFailed("The base could not be closed on this border. Trim a little more off the border.", code="base-open")
    return Based(body, floor, floor + thickness_mm, *_went(before, local), clean_walls=clean)


@dataclass(frozen=True)
class _Made:
    """points : (k, 3) after those of the surface; faces : of both."""

    points: NDArray[np.float64]
    faces: NDArray[np.int64]


def _from_border(local: Mesh, loops: list[NDArray], floor: float) -> _Made:
    top, follow = np.concatenate(loops).astype(np.int64), follow_of(loops)
    foot = len(local.vertices_mm) + np.arange(len(top))
    rings = [local.vertices_mm[loop][:, :2] for loop in loops]
    wall = np.vstack([np.c_[top[follow], top, foot], np.c_[top[follow], foot, foot[follow]]])
    return _Made(np.c_[np.vstack(rings), np.full(len(top), floor)], np.vstack([wall, foot[shelf(rings)][:, ::-1]]))


def _cleanest(local: Mesh, rotation: NDArray, thickness_mm: float, run: Run) -> tuple[Mesh, _Made, bool]:
    """(the surface above its curtain, what closes it so that it crosses itself no more than before, whether its walls follow an
    outline). Where the shelf meets folds that a scan brought to its border, the surface around goes; and where that does not help,
    walls go down from the border itself."""
    freed = first = _freed(local, rotation, run)
    for _ in range(_NIBBLES):
        found = _with_shelf(freed, thickness_mm)
        if isinstance(found, _Made):
            return freed, found, True
        less = _nibbled(freed, found) if len(found) else None
        if less is None:
            break
        try:
            freed = _freed(less, rotation, run)
        except StepFailed:
            break
    return first, _from_border(first, border_loops(first), _floor(first, thickness_mm)), False


def _floor(local: Mesh, thickness_mm: float) -> float:
    return float(local.vertices_mm[used_vertices(local)][:, 2].min()) - thickness_mm


def _with_shelf(local: Mesh, thickness_mm: float) -> _Made | NDArray[np.float64]:
    """Shelf, walls under the outline and floor; or (k, 3) where these would cross the surface."""
    loops = border_loops(local)
    under = outline([local.vertices_mm[loop][:, :2] for loop in loops])
    if under is None:
        return np.zeros((0, 3))
    before = crossing_faces(local)
    places = np.zeros((0, 3))
    for drop in _DROPS:
        made = _shelved(local, loops, under, _floor(local, thickness_mm), drop)
        whole = local.plus(made.points, made.faces, GROUP_CUT)
        crossed = crossing_faces(whole)
        crossed[: len(before)] &= ~before
        if not crossed.any():
            return made
        places = whole.vertices_mm[np.unique(whole.faces[crossed])]
    return places


def _shelved(local: Mesh, loops: list[NDArray], under: Outline, floor: float, drop: float) -> _Made:
    border = np.concatenate(loops).astype(np.int64)
    plan = np.vstack(under.rings)
    height = np.maximum(np.concatenate(under.tops(local.vertices_mm[border], drop=drop)), floor + _LEAST_WALL_MM)
    first = len(local.vertices_mm)
    edge = first + np.arange(len(plan))
    foot = edge + len(plan)
    follow = follow_of(under.rings)
    # The border runs with the surface's faces, so against the shelf's.
    backwards = [loop[::-1].astype(np.int64) for loop in loops]
    number = np.concatenate([edge, *backwards])
    ledge = number[shelf([*under.rings, *(local.vertices_mm[loop][:, :2] for loop in backwards)])]
    wall = np.vstack([np.c_[edge[follow], edge, foot], np.c_[edge[follow], foot, foot[follow]]])
    points = np.vstack([np.c_[plan, height], np.c_[plan, np.full(len(plan), floor)]])
    return _Made(points, np.vstack([ledge, wall, foot[shelf(under.rings)][:, ::-1]]))


def _went(before: Mesh, left: Mesh) -> tuple[float, float, float]:
    """(how far the border was cut back in mm, mm² of the surface that went, how high that reaches)."""
    start, end = border_points(before), border_points(left)
    far = float(cKDTree(start).query(end)[0].max())
    used = before.vertices_mm[used_vertices(before)]
    gone = used[cKDTree(left.vertices_mm[used_vertices(left)]).query(used, distance_upper_bound=0.01)[0] > 0.01]
    return far, max(area_mm2(before) - area_mm2(left), 0.0), float(gone[:, 2].max(initial=end[:, 2].min()))
