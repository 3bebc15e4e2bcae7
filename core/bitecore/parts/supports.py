"""What a raised body stands on: a pillar under every tip, feet on one raft. Sizes are judgements of this house, no published values."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache

import manifold3d
import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from scipy.spatial import Delaunay, QhullError

from ..mesh import GROUP_CUT, Mesh
from ..ops.heights import heights

# Across a tip where it touches, how far into the body it goes, and over what length it widens to its pillar.
TIP_MM, INTO_MM, _CONE_MM = 0.4, 0.15, 2.0
# Across a pillar at least, and how many times its width one may be tall: by itself, and held from two sides by braces up to its middle.
_PILLAR_MM, _SLENDER, _SLENDER_BRACED = 1.0, 14.0, 28.0
# Two braces hold from two sides where the sine between them is more than this.
_TWO_SIDES = 0.4
# Taller than this a pillar is braced: bars so wide go up by 45° to a pillar beside it, which is no nearer and no farther than that, one
# every so much of height.
BRACED_MM, _BRACE_MM, _BRACE_NEAR_MM, _BRACE_FAR_MM, _BRACE_EVERY_MM = 14.0, 0.9, 2.0, 12.0, 10.0
_FOOT_MM, RAFT_MM, _BAR_MM, _LINK_MM = 3.0, 0.8, 2.0, 14.0
# A raft's outline is so even, and its triangles are no longer.
_EVEN_MM, _LONG_MM = 0.02, 12.0
# Two rafts that are joined go so far into one another.
_PAST_MM = 0.5
# From a pillar's axis to the body; ways down that lean are tried in so many directions.
_CLEAR_MM, _WAYS, _CELL_MM = 1.0, 24, 0.25
# Few sides, for every triangle has to be united with the others; their sections are as large as those of a round pillar.
_SIDES, _BRACE_SIDES = 8, 6
# So much of how far a layer may hang freely lies between a tip and what it has to hold.
DENSE = {"few": 1.0, "more": 0.7, "many": 0.5}


@dataclass(frozen=True)
class Sizes:
    """tip_mm, foot_mm : across a tip where it touches, and a foot on the plate; raft : feet stand on one, else on the plate"""

    tip_mm: float = TIP_MM
    foot_mm: float = _FOOT_MM
    raft: bool = True


USUAL = Sizes()


@dataclass(frozen=True)
class Supports:
    """mesh : pillars and raft on the plate, one closed solid (of many parts without a raft), None where there is no tip; stands : (k,)
    which tips have a way down to the plate"""

    mesh: Mesh | None
    stands: NDArray[np.bool_]


def supports(body: Mesh, tips: NDArray[np.float64], joins: NDArray[np.float64] | None = None, sizes: Sizes = USUAL) -> Supports:
    """body : on the plate, raised; tips : (k, 3) mm where it is to be held, from below; joins : (j, 2) where its raft meets another's"""
    below = _Below(body)
    ways = [below.way_down(tip) for tip in tips]
    stands = np.array([foot is not None for foot in ways], bool)
    feet = [foot for foot in ways if foot is not None]
    if not feet:
        return Supports(None, stands)
    links = _neighbours(np.array(feet))
    braces, firm = _braces(below, tips[stands], np.array(feet), links)
    parts = [_pillar(tip, foot, sizes, is_firm) for tip, foot, is_firm in zip(tips[stands], feet, firm, strict=True)] + braces
    under = _raft(np.array(feet), links, np.zeros((0, 2)) if joins is None else joins, sizes)
    solid = manifold3d.Manifold.batch_boolean([*parts, under], manifold3d.OpType.Add)
    out = solid.to_mesh64()
    faces = np.asarray(out.tri_verts).astype(np.int64)
    return Supports(Mesh.of(np.asarray(out.vert_properties)[:, :3], faces, np.full(len(faces), GROUP_CUT, np.uint8)), stands)


class _Below:
    """How far down it is free under every place: the lowest of the body around it."""

    def __init__(self, body: Mesh) -> None:
        self.low = body.vertices_mm[:, :2].min(0) - 2 * _CLEAR_MM
        shape = np.ceil((body.vertices_mm[:, :2].max(0) + 2 * _CLEAR_MM - self.low) / _CELL_MM).astype(int) + 1
        lowest, _ = heights(body.vertices_mm, body.faces, self.low, (int(shape[0]), int(shape[1])), _CELL_MM)
        reach = int(np.ceil(_CLEAR_MM / _CELL_MM))
        i, j = np.meshgrid(np.arange(-reach, reach + 1), np.arange(-reach, reach + 1), indexing="ij")
        self.around = ndimage.minimum_filter(lowest, footprint=np.hypot(i, j) <= _CLEAR_MM / _CELL_MM, mode="constant", cval=np.inf)
        self.right_there = lowest

    def free(self, points: NDArray[np.float64], field: NDArray[np.float64]) -> bool:
        cells = np.rint((points[:, :2] - self.low) / _CELL_MM).astype(int)
        inside = ((cells >= 0) & (cells < field.shape)).all(1)
        at = cells[inside]
        return bool((field[at[:, 0], at[:, 1]] > points[inside, 2]).all())

    def way_down(self, tip: NDArray[np.float64]) -> NDArray[np.float64] | None:
        """(2,) where its foot stands: straight under it, or as near as a pillar that leans by 45° at most can reach."""
        if tip[2] <= RAFT_MM:
            return None
        z = np.arange(max(tip[2] - _CONE_MM, 0.0), 0.0, -_CELL_MM)
        near = np.c_[np.repeat(tip[None, :2], 2, 0), [tip[2] - 0.4, tip[2] - _CONE_MM / 2]]
        if not self.free(near, self.right_there):
            return None
        if self.free(np.c_[np.repeat(tip[None, :2], len(z), 0), z], self.around):
            return tip[:2].copy()
        angle = np.arange(_WAYS) / _WAYS * 2 * np.pi
        for lean in np.arange(0.2, 1.01, 0.2):
            for way in np.stack([np.cos(angle), np.sin(angle)], 1):
                points = np.c_[tip[:2] + way * ((tip[2] - z) * lean)[:, None], z]
                if self.free(points, self.around):
                    return tip[:2] + way * tip[2] * lean
        return None


def _pillar(tip: NDArray[np.float64], foot: NDArray[np.float64], sizes: Sizes, firm: bool) -> manifold3d.Manifold:
    """From its foot in the raft to the tip in the body, through rings. firm : braces hold it"""
    top = np.array([tip[0], tip[1], tip[2] + INTO_MM])
    way = np.append(foot, 0.0) - tip
    length = float(np.linalg.norm(way))
    cone = min(_CONE_MM, 0.5 * length)
    neck = tip + way / max(length, 1e-9) * cone
    wide = max(_PILLAR_MM, sizes.tip_mm, length / (_SLENDER_BRACED if firm else _SLENDER))
    base = np.append(foot, RAFT_MM / 2)
    # It goes on narrowing in the body: where it touches it is as wide as asked.
    inside = max(sizes.tip_mm - (wide - sizes.tip_mm) / cone * INTO_MM, 0.5 * sizes.tip_mm)
    return _through([_ring(base, max(wide, sizes.foot_mm / 2)), _ring(neck, wide), _ring(tip, sizes.tip_mm), _ring(top, inside)])


def _through(rings: list[NDArray[np.float64]]) -> manifold3d.Manifold:
    """The solid through rings of as many corners each, the lowest first, closed at both ends."""
    return manifold3d.Manifold(manifold3d.Mesh64(np.vstack(rings), _skin(len(rings), len(rings[0]))))


@cache
def _skin(levels: int, sides: int) -> NDArray[np.uint64]:
    k = np.arange(sides)
    low, high = k, sides + (k + 1) % sides
    skin = np.vstack([np.stack([low, high - sides, high], 1), np.stack([low, high, sides + k], 1)])
    lid = np.stack([np.zeros(sides - 2, int), k[1:-1], k[2:]], 1)
    walls = [skin + sides * level for level in range(levels - 1)]
    return np.vstack([*walls, lid[:, ::-1], lid + sides * (levels - 1)]).astype(np.uint64)


def _braces(
    below: _Below, tips: NDArray[np.float64], feet: NDArray[np.float64], links: list[tuple[int, int]]
) -> tuple[list[manifold3d.Manifold], NDArray[np.bool_]]:
    """(bars, (k,) which pillars they hold) between neighbours of which one is slender: to and fro from the raft up to where the lower one
    narrows to its tip, as far as they keep off the body. Each rises by 45°, so that every layer of it lies on the one before."""
    slender = np.linalg.norm(tips - np.c_[feet, np.zeros(len(feet))], axis=1) > BRACED_MM
    out, held = [], [list[NDArray[np.float64]]() for _ in feet]
    tops, on = tips.tolist(), feet.tolist()
    # The nearest first, and none more than it takes: bars have to be cut off again.
    for a, b in sorted(links, key=lambda p: float(np.hypot(*(feet[p[0]] - feet[p[1]])))):
        asked = [k for k in (a, b) if slender[k] and not _firm(held[k])]
        bars, highest = _bars(below, tops, on, a, b) if asked else ([], 0.0)
        if not any(highest >= tips[k][2] / 2 for k in asked):
            continue
        out += [_through([_ring(end, _BRACE_MM, _BRACE_SIDES) for end in ends]) for ends in bars]
        for k, other in ((a, b), (b, a)):
            if highest >= tips[k][2] / 2:
                way = feet[other] - feet[k]
                held[k].append(way / np.hypot(*way))
    return out, np.array([_firm(ways) for ways in held], bool)


def _firm(ways: list[NDArray[np.float64]]) -> bool:
    """Is what is held along these directions held from two sides?"""
    return any(abs(u[0] * v[1] - u[1] * v[0]) > _TWO_SIDES for u in ways for v in ways)


def _bars(
    below: _Below, tips: Sequence[Sequence[float]], feet: Sequence[Sequence[float]], a: int, b: int
) -> tuple[list[tuple[NDArray[np.float64], NDArray[np.float64]]], float]:
    """(the ends of each, how far up the highest goes) to and fro between two pillars."""
    out, start, (near, far) = [], RAFT_MM + 1.0, (a, b)
    top = min(tips[a][2], tips[b][2]) - _CONE_MM
    while (ends := _brace(tips, feet, near, far, start)) is not None and ends[1][2] <= top:
        if below.free(np.linspace(*ends, 24), below.around):
            out.append(ends)
        start, (near, far) = max(float(ends[1][2]), start + _BRACE_EVERY_MM), (far, near)
    return out, max((float(high[2]) for _, high in out), default=0.0)


def _brace(
    tips: Sequence[Sequence[float]], feet: Sequence[Sequence[float]], low: int, high: int, start: float
) -> tuple[NDArray[np.float64], NDArray[np.float64]] | None:
    """Its ends on the axes of two pillars, the lower at a height; None where they are too near or too far from each other."""
    (bx, by), rise = _along(tips[low], feet[low], start), 0.0
    for _ in range(4):  # pillars lean a little: how far it goes is how far it rises
        ex, ey = _along(tips[high], feet[high], start + rise)
        rise = math.hypot(ex - bx, ey - by)
    if not _BRACE_NEAR_MM <= rise <= _BRACE_FAR_MM:
        return None
    return np.array([bx, by, start]), np.array([*_along(tips[high], feet[high], start + rise), start + rise])


def _along(tip: Sequence[float], foot: Sequence[float], z: float) -> tuple[float, float]:
    """Where a pillar's axis is at a height."""
    share = z / tip[2]
    return foot[0] + (tip[0] - foot[0]) * share, foot[1] + (tip[1] - foot[1]) * share


def _ring(middle: NDArray[np.float64], wide: float, sides: int = _SIDES) -> NDArray[np.float64]:
    """Of the same area as a circle so wide."""
    return middle + _circle(sides) * (wide / 2)


@cache
def _circle(sides: int) -> NDArray[np.float64]:
    angle = (np.arange(sides) + 0.5) / sides * 2 * np.pi
    far = math.sqrt(math.pi / (sides / 2 * math.sin(2 * math.pi / sides)))
    return np.stack([np.cos(angle), np.sin(angle), np.zeros(sides)], 1) * far


def _raft(feet: NDArray[np.float64], links: list[tuple[int, int]], joins: NDArray[np.float64], sizes: Sizes) -> manifold3d.Manifold:
    """Discs under the feet and, of a raft, bars between neighbours and one past each place where it meets another's; its sides lean
    outwards, so that a scraper gets under it."""
    angle = np.arange(24) / 24 * 2 * np.pi
    disc = np.stack([np.cos(angle), np.sin(angle)], 1)
    shapes = [manifold3d.CrossSection([foot + disc * sizes.foot_mm / 2]) for foot in feet]
    for a, b in links if sizes.raft else ():
        ends = np.vstack([feet[a] + disc * _BAR_MM / 2, feet[b] + disc * _BAR_MM / 2])
        shapes.append(manifold3d.CrossSection.hull_points(ends))
    for at in joins if sizes.raft else ():
        foot = feet[int(np.hypot(*(feet - at).T).argmin())]
        way = (at - foot) / max(float(np.hypot(*(at - foot))), 1e-9)
        ends = np.vstack([foot + disc * _BAR_MM / 2, at + way * _PAST_MM + disc * _BAR_MM / 2])
        shapes.append(manifold3d.CrossSection.hull_points(ends))
    flat = manifold3d.CrossSection.batch_boolean(shapes, manifold3d.OpType.Add).simplify(_EVEN_MM)
    lower = flat.extrude(RAFT_MM / 2)
    wider = flat.offset(0.4, manifold3d.JoinType.Round, 2.0, 24).simplify(_EVEN_MM)
    upper = wider.extrude(RAFT_MM / 2 + 0.01).translate([0, 0, RAFT_MM / 2 - 0.01])
    # Long triangles lie across hundreds of pillars, and uniting them costs as much.
    return (lower + upper).refine_to_length(_LONG_MM)


def _neighbours(feet: NDArray[np.float64]) -> list[tuple[int, int]]:
    """Feet that are linked: those next to each other (Delaunay), and the shortest links that hold all together."""
    if len(feet) < 2:
        return []
    try:
        triangles = Delaunay(feet).simplices if len(feet) > 3 else np.zeros((0, 3), int)
    except QhullError:
        triangles = np.zeros((0, 3), int)
    pairs = {tuple(sorted((int(t[k]), int(t[k - 1])))) for t in triangles for k in range(3)}
    if not pairs:
        pairs = {(a, b) for a in range(len(feet)) for b in range(a + 1, len(feet))}
    ranked = sorted(pairs, key=lambda p: float(np.hypot(*(feet[p[0]] - feet[p[1]]))))
    parent = list(range(len(feet)))

    def root(a: int) -> int:
        while parent[a] != a:
            a = parent[a]
        return a

    out = []
    for a, b in ranked:
        joins = root(a) != root(b)
        if joins:
            parent[root(a)] = root(b)
        if joins or np.hypot(*(feet[a] - feet[b])) < _LINK_MM:
            out.append((a, b))
    return out
