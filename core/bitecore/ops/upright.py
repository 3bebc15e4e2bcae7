"""What closes a surface under a smooth outline: the shelf from its border, the walls, their terraces, edges and the flat underside."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh, used_vertices
from .footing import Footing, braced, carried_back, middle_closed, on_land, plain
from .outline import Outline
from .rings import crossed, finer, offset
from .shelf import blended, shelf
from .terrace import carried_out, gentle

# A wall is so tall at least, a terrace so thick, and so far under the lowest place of a wall's top.
_LEAST_WALL_MM = 0.3
TERRACE_MM = 1.0
# Of the material under the border's lowest point there is so much at least (common practice, no source).
LEAST_MM = 1.0
# A rounded edge goes in so many steps; an edge takes so much of a wall's height at most.
_ROUND_STEPS, _EDGE_SHARE = 5, 0.6

# Corners along the sides of a land, and the sides of triangles on its top.
_SIDE_MM = 1.2
# A land that does not hold the walls is made so much larger.
_GROWN_MM = (0.0, 0.5, 1.0, 2.0, 4.0)

Shape = Literal["horseshoe", "closed", "land"]
Edge = Literal["sharp", "bevelled", "rounded"]


@dataclass(frozen=True)
class Plan:
    """What base shall be made; lengths in mm.

    thickness_mm : under the border's lowest point
    floor_mm     : or where its flat underside lies, along `up` from the origin
    outside_mm   : from the border to the outline of the walls, at least
    shape        : walls alone; with the middle closed; or on an outline of its own, `land` (k, 2), counter-clockwise seen against
                   `up`, x and y as in frame_of(up, front)
    rises        : a land's top is as high as the border near it allows, and follows it gently; else level, as low as all of it asks
    back_mm      : where the ends reach to, along that y
    straight     : of a model that was sawn open, plain walls go on where its own walls were
    """

    thickness_mm: float = 2.0
    floor_mm: float | None = None
    outside_mm: float = 0.25
    shape: Shape = "horseshoe"
    land: NDArray[np.float64] | None = None
    rises: bool = False
    back_mm: float | None = None
    brace: bool = False
    draft_deg: float = 0.0
    edge: Edge = "sharp"
    edge_mm: float = 0.0
    straight: bool = False


@dataclass
class Made:
    """What closes a surface. points : (k, 3) after those of the surface; faces : of both; the rest as in Based"""

    floor: float
    points: NDArray[np.float64] = field(default_factory=lambda: np.zeros((0, 3)))
    faces: NDArray[np.int64] = field(default_factory=lambda: np.zeros((0, 3), np.int64))
    clean: bool = True
    without: tuple[str, ...] = ()
    outline: tuple[NDArray[np.float64], ...] = ()
    foot: tuple[NDArray[np.float64], ...] = ()
    draft: float = 0.0
    edge_mm: float = 0.0
    first: int = 0

    def add(self, points: NDArray) -> NDArray[np.int64]:
        """Their numbers."""
        number = self.first + len(self.points) + np.arange(len(points))
        self.points = np.vstack([self.points, points])
        return number

    def close(self, faces: NDArray) -> None:
        self.faces = np.vstack([self.faces, faces])

    def wall(self, upper: NDArray, lower: NDArray, loops: list[NDArray]) -> None:
        """Between two rows of corners, each loop of which is a ring."""
        for loop in loops:
            a, b, c, d = upper[loop], np.roll(upper[loop], -1), lower[loop], np.roll(lower[loop], -1)
            self.close(np.vstack([np.c_[b, a, c], np.c_[b, c, d]]))


def lowest_of(local: Mesh) -> float:
    return float(local.vertices_mm[used_vertices(local)][:, 2].min())


def floor_of(lowest: float, plan: Plan) -> float:
    return lowest - plan.thickness_mm if plan.floor_mm is None else min(plan.floor_mm, lowest - LEAST_MM)


def standing(local: Mesh, loops: list[NDArray], under: Outline, plan: Plan, drop: float) -> Made:
    border = np.concatenate(loops).astype(np.int64)
    top = np.concatenate(under.tops(local.vertices_mm[border], drop=drop))
    draft, without = _draft(under.rings, top, plan)
    made = Made(floor_of(lowest_of(local), plan), first=len(local.vertices_mm))
    rises = plan.rises and plan.shape == "land"
    terrace = (gentle(under.rings, top) if rises else np.full(len(top), top.min())) - _LEAST_WALL_MM
    footing = plain(_moved(under.rings, draft * (float(top.max()) - terrace)))
    inset = plan.edge_mm if plan.edge != "sharp" and plan.shape == "land" else 0.0
    footing, missing = _with_terraces(footing, plan, inset)
    if footing.terraces:
        if plan.floor_mm is None:
            made.floor = min(made.floor, float(terrace.min()) - TERRACE_MM)
        terrace = np.maximum(terrace, made.floor + TERRACE_MM)
    top = np.maximum(top, (terrace if footing.terraces else made.floor) + _LEAST_WALL_MM)
    made.without = (*without, *missing)
    made.outline = tuple(under.rings)
    upper = _shelf(made, local, loops, under.rings, top, draft)
    feet = _on_terraces(made, footing, upper, terrace, draft) if footing.terraces else _straight(upper, top, under.rings)
    _walls(made, feet, draft, plan, inset if footing.terraces else 0.0)
    return made


def _moved(rings: list[NDArray], by: NDArray) -> list[NDArray[np.float64]]:
    """Each corner carried out by so much of its own."""
    return [offset(ring, each) for ring, each in zip(rings, np.split(by, np.cumsum([len(r) for r in rings])[:-1]), strict=True)]


def _draft(rings: list[NDArray], top: NDArray, plan: Plan) -> tuple[float, tuple[str, ...]]:
    """(how far walls go out, mm a mm, less where they would run into each other; ("draft",) where none is left)."""
    deep = float(top.max()) - (float(top.min()) - max(plan.thickness_mm, 3.0) if plan.floor_mm is None else plan.floor_mm)
    draft = float(np.tan(np.radians(plan.draft_deg)))
    for _ in range(4):
        if draft == 0 or not crossed([offset(ring, draft * deep) for ring in rings]).any():
            return draft, ()
        draft *= 0.5
    return 0.0, ("draft",)


def _with_terraces(footing: Footing, plan: Plan, inset: float) -> tuple[Footing, tuple[str, ...]]:
    without: list[str] = []

    def took(made: Footing | None, name: str) -> Footing:
        if made is None or not made.sound():
            without.append(name)
            return footing
        return made

    if plan.shape == "closed":
        footing = took(middle_closed(footing), "shape")
    elif plan.shape == "land" and plan.land is not None:
        grown = (on_land(footing, finer(offset(plan.land, more - inset), _SIDE_MM)) for more in _GROWN_MM)
        return took(next((made for made in grown if made is not None), None), "shape"), tuple(without)
    elif plan.brace:
        footing = took(braced(footing), "brace")
    if plan.back_mm is not None:
        footing = took(carried_back(footing, plan.back_mm), "back")
    return footing, tuple(without)


def _shelf(made: Made, local: Mesh, loops: list[NDArray], rings: list[NDArray], top: NDArray, draft: float) -> NDArray[np.int64]:
    """From the border to where the walls begin; the numbers of these corners."""
    out = np.split((top.max() - top) * draft, np.cumsum([len(r) for r in rings])[:-1])
    plan = [offset(ring, by) for ring, by in zip(rings, out, strict=True)]
    corners = np.c_[np.vstack(plan), top]
    upper = made.add(corners)
    # The border runs with the surface's faces, so against the shelf's.
    backwards = [loop[::-1].astype(np.int64) for loop in loops]
    outer = np.split(corners, np.cumsum([len(r) for r in rings])[:-1])
    blend = blended([*outer, *(local.vertices_mm[loop] for loop in backwards)])
    number = np.concatenate([upper, *backwards, made.add(blend.more)])
    made.close(number[blend.faces])
    return upper


@dataclass(frozen=True)
class _Feet:
    """Rings from which the walls go down: their plans where these are at `at`, the numbers of their corners, the heights of these."""

    plans: list[NDArray[np.float64]]
    number: NDArray[np.int64]
    at: float
    heights: NDArray[np.float64]


def _straight(upper: NDArray, top: NDArray, rings: list[NDArray]) -> _Feet:
    return _Feet(rings, upper, float(top.max()), top)


def _on_terraces(made: Made, footing: Footing, upper: NDArray, terrace: NDArray, draft: float) -> _Feet:
    """Walls come down to their terraces, and go on from round all of it. terrace : (n,) its height at the corners of the rings; where it
    goes on to corners of its own, it is there as high as near the rings."""
    points, at = footing.points, float(terrace.min())
    own = len(terrace)
    heights = np.r_[terrace, np.full(len(points) - own, at)]
    loops = footing.foot()
    plans = [points[loop] for loop in loops]
    if np.ptp(terrace) > 0:
        for loop in loops:
            heights[loop] = carried_out(points[loop], points[:own], terrace)
            points[loop] = offset(points[loop], draft * (at - heights[loop]))
    number = made.add(np.c_[points, heights])
    made.wall(upper, number[:own], footing.loops())
    for region in footing.terraces:
        blend = blended([np.c_[points, heights][loop] for loop in region], long_mm=_SIDE_MM)
        made.close(np.concatenate([*(number[loop] for loop in region), made.add(blend.more)])[blend.faces])
    order = np.concatenate(loops)
    return _Feet(plans, number[order], at, heights[order])


def _walls(made: Made, feet: _Feet, draft: float, plan: Plan, inset: float) -> None:
    """inset : by so much a land's top is smaller than its walls, for the edge round it."""
    asked = plan.edge_mm if plan.edge != "sharp" else 0.0
    edge = min(asked, (float(feet.heights.min()) - made.floor) * _EDGE_SHARE * (0.5 if inset else 1.0))
    foot = [offset(ring, draft * (feet.at - made.floor) + inset) for ring in feet.plans]
    low = _edge_that_fits(foot, edge)
    made.without += ("edge",) if asked > 0 and low == 0 else ()
    levels = []
    if inset:
        levels += [(feet.heights - fall * edge / inset, inset - back) for fall, back in edge_profile(plan.edge, inset)[1:]]
    levels += [(np.full(len(feet.number), made.floor + fall), inset - back) for fall, back in edge_profile(plan.edge, low)[::-1]]
    cuts = np.cumsum([len(p) for p in feet.plans])[:-1]
    rows, above = np.split(np.arange(len(feet.number)), cuts), feet.number
    for z, more in levels:
        corners = np.vstack(_moved(feet.plans, draft * (feet.at - z) + more))
        below = made.add(np.c_[corners, z])
        made.wall(above, below, rows)
        above = below
    made.foot, made.draft, made.edge_mm = tuple(foot), draft, low
    flat = np.split(made.points[above - made.first][:, :2], cuts)
    made.close(above[shelf(flat)][:, ::-1])


def edge_profile(kind: Edge, size: float) -> list[tuple[float, float]]:
    """Of an edge (from the flat face, into the wall): (away from the flat face, back from the wall's plane) or, at a top edge, (down,
    out from where the flat face ends)."""
    if size <= 0:
        return [(0.0, 0.0)]
    if kind == "bevelled":
        return [(0.0, size), (size, 0.0)]
    angle = np.linspace(0, np.pi / 2, _ROUND_STEPS + 1)
    return [(size * (1 - float(np.cos(a))), size * (1 - float(np.sin(a)))) for a in angle]


def _edge_that_fits(plans: list[NDArray], edge: float) -> float:
    for _ in range(4):
        if edge == 0 or not crossed([offset(ring, -edge) for ring in plans]).any():
            return edge
        edge *= 0.5
    return 0.0
