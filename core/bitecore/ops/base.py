"""Carry the border of an open jaw down to a flat plane and close it: a solid whose tooth surface is the scan's.

Walls go down under a smooth outline a little outside the border, straight or drafted; a narrow shelf falls from the border to their
top. Beside them stand terraces (see footing). Where a shelf would cross the surface the walls go down from the border itself.
Before that the surface is cut along a curtain (see freed).
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.spatial import cKDTree

from ..errors import StepFailed
from ..mesh import GROUP_CUT, Mesh, area_mm2, border_loops, check_solid, used_vertices, volume_ml
from ..progress import QUIET, Run
from .border import border_points
from .clip import frame_of, saw_solid
from .crossing import crossing_faces
from .freed import NIBBLES, freed, nibbled
from .outline import outline
from .rings import follow_of
from .shelf import shelf
from .upright import Made, Plan, edge_profile, floor_of, lowest_of, standing
from .walls import crossing_walls
from .weld import same_place

# What was sawn is level to this; a side of its border that is shorter is none.
_LEVEL_MM, _SPECK_MM = 0.01, 1e-3
# How far the shelf falls on its way out from the border (mm a mm): steeper when needed.
_DROPS = (0.7, 2.5)


@dataclass(frozen=True)
class Based:
    """A body on its flat base; heights along `up` from the origin.

    body          : the solid in the frame of the input
    border_cut_mm : the most that was cut back to free the walls
    cut_mm2       : how much of the surface went with it
    highest_mm    : how high that reaches
    clean_walls   : they follow a smooth outline, and not the border itself
    without       : of shape, back, brace, draft and edge what could not be made on this border
    outline       : (k, 2) each, the rings that the walls follow where they begin
    foot, draft   : the rings in the plan where they meet the underside (its edge left out), and what they lean out, mm a mm
    edge_mm       : how high that edge is
    """

    body: Mesh
    floor_mm: float
    lowest_mm: float
    border_cut_mm: float
    cut_mm2: float
    highest_mm: float
    clean_walls: bool
    without: tuple[str, ...] = ()
    outline: tuple[NDArray[np.float64], ...] = ()
    foot: tuple[NDArray[np.float64], ...] = ()
    draft: float = 0.0
    edge_mm: float = 0.0


def base(
    mesh: Mesh, *, up: ArrayLike, plan: Plan | None = None, front: ArrayLike | None = None, origin: ArrayLike = (0, 0, 0), run: Run = QUIET
) -> Based:
    """Close an open jaw whose teeth point along `up` with walls and a flat base under its lowest point.

    Raises StepFailed where no solid can be made.
    """
    rotation, origin = frame_of(up, front), np.asarray(origin, np.float64)
    local = mesh.with_vertices((mesh.vertices_mm - origin) @ rotation.T)
    if not border_loops(local):
        raise StepFailed("The surface has no border to carry down: it is closed already.", code="no-border")
    plan = plan or Plan()
    left, made = _straight(local, plan) or _cleanest(local, rotation, origin, plan, run.part(0.1, 0.8))
    kept = _home_vertices(mesh, local, left, rotation, origin)
    body = left.with_vertices(kept).plus(made.points @ rotation + origin, made.faces, GROUP_CUT)
    check = check_solid(body)
    if not check.ok or volume_ml(body) <= 0:
        raise StepFailed("The base could not be closed on this border. Trim a little more off the border.", code="base-open")
    return Based(
        body, made.floor, lowest_of(left), *_went(local, left), made.clean, made.without,
        outline=made.outline, foot=made.foot, draft=made.draft, edge_mm=made.edge_mm,
    )  # fmt: skip


def _home_vertices(mesh: Mesh, turned: Mesh, local: Mesh, rotation: NDArray, origin: NDArray) -> NDArray[np.float64]:
    """Back in the frame of the input; vertices that did not move are the input's bit for bit."""
    out = local.vertices_mm @ rotation + origin
    at = same_place(local.vertices_mm, turned.vertices_mm)
    out[at >= 0] = mesh.vertices_mm[at[at >= 0]]
    return out


def _from_border(local: Mesh, plan: Plan) -> Made:
    loops = border_loops(local)
    lowest = lowest_of(local)
    asked = [name for name, on in (("draft", plan.draft_deg > 0), ("edge", plan.edge != "sharp"), ("brace", plan.brace)) if on]
    asked += [name for name, on in (("shape", plan.shape != "horseshoe"), ("back", plan.back_mm is not None)) if on]
    made = Made(floor_of(lowest, plan), first=len(local.vertices_mm), clean=False, without=tuple(asked))
    top, follow = np.concatenate(loops).astype(np.int64), follow_of(loops)
    rings = [local.vertices_mm[loop][:, :2] for loop in loops]
    foot = made.add(np.c_[np.vstack(rings), np.full(len(top), made.floor)])
    made.close(np.vstack([np.c_[top[follow], top, foot], np.c_[top[follow], foot, foot[follow]]]))
    made.close(foot[shelf(rings)][:, ::-1])
    made.outline = made.foot = tuple(rings)
    return made


def _straight(local: Mesh, plan: Plan) -> tuple[Mesh, Made] | None:
    """Straight down from a border in one level, where nothing but plain walls is asked and none would cross anything."""
    plain = plan.shape == "horseshoe" and plan.back_mm is None and not (plan.brace or plan.draft_deg or plan.edge != "sharp")
    border = border_points(local)[:, 2]
    if not (plan.straight and plain) or np.ptp(border) > _LEVEL_MM:
        return None
    left = _without_specks(local)
    if crossing_walls(left, border_loops(left)).any():
        return None
    return left, replace(_from_border(left, plan), clean=True)


def _without_specks(local: Mesh) -> Mesh:
    """A saw that passes a corner by a hair leaves sides of next to no length in the border: their ends become one."""
    whose = np.arange(len(local.vertices_mm))
    for loop in border_loops(local):
        ends = local.vertices_mm[loop]
        short = np.linalg.norm(np.roll(ends, -1, axis=0) - ends, axis=1) < _SPECK_MM
        for start, end in zip(loop[short], np.roll(loop, -1)[short], strict=True):
            whose[end] = whose[start]
    faces = whose[local.faces]
    kept = (faces != np.roll(faces, 1, axis=1)).all(1)
    return local if kept.all() else Mesh.of(local.vertices_mm, faces, local.groups, local.source).of_faces(kept)


def _cleanest(local: Mesh, rotation: NDArray, origin: NDArray, plan: Plan, run: Run) -> tuple[Mesh, Made]:
    """(the surface above its curtain, what closes it so that it crosses itself no more than before). Where the shelf meets folds that
    a scan brought to its border, the surface around goes; and where that does not help, walls go down from the border itself."""
    left = first = _freed(local, rotation, origin, run)
    for _ in range(NIBBLES):
        found = _under_outline(left, plan)
        if isinstance(found, Made):
            return left, found
        less = nibbled(left, found) if len(found) else None
        if less is None:
            break
        try:
            left = _freed(less, rotation, origin, run)
        except StepFailed:
            break
    if plan.draft_deg > 0:
        # Drafted walls begin farther out, and meet more of what hangs over.
        upright, made = _cleanest(local, rotation, origin, replace(plan, draft_deg=0.0), run)
        made.without += ("draft",)
        return upright, made
    return first, _from_border(first, plan)


def _freed(local: Mesh, rotation: NDArray, origin: NDArray, run: Run) -> Mesh:
    try:
        return freed(local, run)
    except StepFailed as failed:
        if failed.point_mm is not None:
            failed.point_mm = (np.asarray(failed.point_mm) @ rotation + origin).tolist()
        raise


def _under_outline(local: Mesh, plan: Plan) -> Made | NDArray[np.float64]:
    """Shelf, walls, terraces and floor; or (k, 3) where these would cross the surface."""
    loops = border_loops(local)
    under = outline([local.vertices_mm[loop][:, :2] for loop in loops], gap_mm=plan.outside_mm)
    if under is None:
        return np.zeros((0, 3))
    places = np.zeros((0, 3))
    # A land that rises meets what hangs over sooner than one that lies low.
    for drop, rises in ((drop, rises) for rises in ((True, False) if plan.rises else (False,)) for drop in _DROPS):
        made = standing(local, loops, under, replace(plan, rises=rises), drop)
        whole = local.plus(made.points, made.faces, GROUP_CUT)
        cross = crossing_faces(whole, among=np.arange(whole.triangles) >= local.triangles)
        if not cross.any():
            return made
        places = whole.vertices_mm[np.unique(whole.faces[cross])]
    return places


def edged(body: Mesh, *, out: ArrayLike, up: ArrayLike, at: ArrayLike, plan: Plan) -> Mesh:
    """With the straight edge through `at`, between a flat back that looks along `out` and the flat underside, as the plan's others."""
    size = plan.edge_mm if plan.edge != "sharp" else 0.0
    if size <= 0:
        return body
    out, up, at = (np.asarray(v, np.float64) for v in (out, up, at))
    corners = edge_profile(plan.edge, size)
    for (a_up, a_in), (b_up, b_in) in itertools.pairwise(corners):
        # Each chord of the edge's profile is a plane that takes off what lies beyond.
        chord = (b_up - a_up) * up - (b_in - a_in) * out
        inward = np.cross(np.cross(up, out), chord)
        inward *= np.sign(inward @ (up - out))
        body = saw_solid(body, point_mm=at + a_up * up - a_in * out, keep_towards=inward)
    return body


def _went(before: Mesh, left: Mesh) -> tuple[float, float, float]:
    """(how far the border was cut back in mm, mm² of the surface that went, how high that reaches)."""
    start, end = border_points(before), border_points(left)
    far = float(cKDTree(start).query(end)[0].max())
    used = before.vertices_mm[used_vertices(before)]
    gone = used[cKDTree(left.vertices_mm[used_vertices(left)]).query(used, distance_upper_bound=0.01)[0] > 0.01]
    return far, max(area_mm2(before) - area_mm2(left), 0.0), float(gone[:, 2].max(initial=end[:, 2].min()))
