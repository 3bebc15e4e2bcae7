"""What closes a surface under a smooth outline: the shelf from its border, the walls, their terraces, edges and the flat underside."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh, used_vertices
from .footing import Footing, braced, carried_back, middle_closed, on_land, plain
from .outline import Outline
from .rings import crossed, offset
from .shelf import blended, shelf

# A wall is so tall at least, a terrace so thick, and so far under the lowest place of a wall's top.
_LEAST_WALL_MM = 0.3
TERRACE_MM = 1.0
# Of the material under the border's lowest point there is so much at least (common practice, no source).
LEAST_MM = 1.0
# A rounded edge goes in so many steps; an edge takes so much of a wall's height at most.
_ROUND_STEPS, _EDGE_SHARE = 5, 0.6

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
    back_mm      : where the ends reach to, along that y
    """

    thickness_mm: float = 2.0
    floor_mm: float | None = None
    outside_mm: float = 0.25
    shape: Shape = "horseshoe"
    land: NDArray[np.float64] | None = None
    back_mm: float | None = None
    brace: bool = False
    draft_deg: float = 0.0
    edge: Edge = "sharp"
    edge_mm: float = 0.0


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
    terrace = float(top.min()) - _LEAST_WALL_MM
    made = Made(floor_of(lowest_of(local), plan), first=len(local.vertices_mm))
    footing = plain([offset(ring, draft * (float(top.max()) - terrace)) for ring in under.rings])
    inset = plan.edge_mm if plan.edge != "sharp" and plan.shape == "land" else 0.0
    footing, missing = _with_terraces(footing, plan, inset)
    if footing.terraces:
        if plan.floor_mm is None:
            made.floor = min(made.floor, terrace - TERRACE_MM)
        terrace = max(terrace, made.floor + TERRACE_MM)
        top = np.maximum(top, terrace + _LEAST_WALL_MM)
    else:
        top = np.maximum(top, made.floor + _LEAST_WALL_MM)
    made.without = (*without, *missing)
    made.outline = tuple(under.rings)
    upper = _shelf(made, local, loops, under.rings, top, draft)
    _walls(made, _feet(made, footing, upper, (top, terrace), under.rings), draft, plan, inset if footing.terraces else 0.0)
    return made


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
        grown = (on_land(footing, offset(plan.land, more - inset)) for more in _GROWN_MM)
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
    """Rings from which the walls go down: their plans where they are `high`, the numbers of their corners, the least height of these."""

    plans: list[NDArray[np.float64]]
    number: NDArray[np.int64]
    high: float
    least: float


def _feet(made: Made, footing: Footing, upper: NDArray, heights: tuple[NDArray, float], rings: list[NDArray]) -> _Feet:
    """Where there are terraces, walls come down to their level, and go on from round all of it."""
    top, terrace = heights
    if not footing.terraces:
        return _Feet(rings, upper, float(top.max()), float(top.min()))
    number = made.add(np.c_[footing.points, np.full(len(footing.points), terrace)])
    made.wall(upper, number[: len(upper)], footing.loops())
    for region in footing.terraces:
        flat = shelf([footing.points[loop] for loop in region])
        made.close(np.concatenate([number[loop] for loop in region])[flat])
    loops = footing.foot()
    return _Feet([footing.points[loop] for loop in loops], np.concatenate([number[loop] for loop in loops]), terrace, terrace)


def _walls(made: Made, feet: _Feet, draft: float, plan: Plan, inset: float) -> None:
    """inset : by so much a land's flat top is smaller than its walls, for the edge round it."""
    plans, high = feet.plans, feet.high
    asked = plan.edge_mm if plan.edge != "sharp" else 0.0
    edge = min(asked, (feet.least - made.floor) * _EDGE_SHARE * (0.5 if inset else 1.0))
    low = _edge_that_fits([offset(ring, draft * (high - made.floor) + inset) for ring in plans], edge)
    made.without += ("edge",) if asked > 0 and low == 0 else ()
    levels = []
    if inset:
        levels += [(high - fall * edge / inset, inset - back) for fall, back in edge_profile(plan.edge, inset)[1:]]
    levels += [(made.floor + fall, inset - back) for fall, back in edge_profile(plan.edge, low)[::-1]]
    cuts = np.cumsum([len(p) for p in plans])[:-1]
    rows, above = np.split(np.arange(len(feet.number)), cuts), feet.number
    for z, more in levels:
        corners = np.vstack([offset(ring, draft * (high - z) + more) for ring in plans])
        below = made.add(np.c_[corners, np.full(len(corners), z)])
        made.wall(above, below, rows)
        above = below
    made.foot, made.draft, made.edge_mm = tuple(offset(ring, draft * (high - made.floor) + inset) for ring in plans), draft, low
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
