"""Where resin leaves a hollow body: lying holes through the wall, or upright ones through the floor, at the lowest place of each of
the cavity's parts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..mesh import GROUP_CUT, Mesh, border_loops, face_components
from .clip import clip
from .closest import ClosestPoints
from .heights import heights
from .rings import holds
from .segments import Segment, near_any

_SIDES = 32
# A drain begins so far inside the cavity, give or take, and ends so far outside the body.
_INSIDE_MM, _MEETS_MM, _OUTSIDE_MM = 1.5, 0.3, 1.0
# So many places along it are asked whether something stands there.
_ASKED = 9
# Over a room's lowest place its walls are told so high, and places along them so far apart.
_LOW_MM, _STEP_MM = 0.6, 0.5
# Through more than so many walls no drain is led where there is another place; the outside is told so finely; nearer to it there is none.
_WALLS, _FINE_MM, _LEAST_WAY_MM = 4.0, 0.1, 0.3
_FIRST, _OTHERS = 3, 2
# What is left over a drain at least, and under it where there is a floor; the body's top is told in cells of so much.
_COVER_MM, _COVER_CELL_MM = 0.8, 0.25
# From a drain's edge to a tooth.
_TOOTH_MM = 0.6


@dataclass(frozen=True)
class Drain:
    """name : "1", "2", … of those that found their place by themselves and of those moved from there; else what it was given;
    mesh : a cylinder; at_mm : (3,) where it comes out"""

    name: str
    mesh: Mesh
    at_mm: NDArray[np.float64]


@dataclass(frozen=True)
class Ask:
    """floor_mm : of a body that is closed underneath; down : through the floor, else through the wall
    count    : in the largest room
    put      : by name, where drains shall be (3,); without : names of those that are left out
    off      : lines (from, to) that stand on the wall; seen from above a drain stays clear_mm away from them
    bar      : (k, 3) places of teeth, none of which a drain comes near to
    """

    wall_mm: float
    wide_mm: float
    front: NDArray[np.float64]
    floor_mm: float | None = None
    down: bool = False
    count: int = _FIRST
    put: Mapping[str, NDArray[np.float64]] = field(default_factory=dict)
    without: frozenset[str] = frozenset()
    off: Sequence[Segment] = ()
    clear_mm: float = 0.0
    bar: NDArray[np.float64] | None = None


def drains(body: Mesh, room: Mesh, ask: Ask) -> list[Drain]:
    """Of a body, z up, with this cavity: so many for its largest part, the first in front, the others far apart; two for any other.
    Half-round at the rim where the cavity is open underneath, else resting on the floor, or straight down through it. One that is
    put somewhere is as near to there as can be."""
    bottom = float(body.vertices_mm[:, 2].min())
    parts = _rooms(room)
    finds = _Finds(body, ask, bottom)
    low = [finds.low(part) for part in parts]
    out = []
    for name, at in ask.put.items():
        made = finds.near(at, low, room)
        if made is not None:
            out.append(_made(name, made, ask))
    number = 0
    for k, places in enumerate(low):
        count = _OTHERS if k else ask.count
        names = [str(n) for n in range(number + 1, number + count + 1)]
        number += count
        wanted = [name for name in names if name not in ask.put and name not in ask.without]
        here = [d.at_mm for d in out]
        out += [_made(name, places.one(i), ask) for name, i in zip(wanted, _chosen(places, ask, len(wanted), here), strict=False)]
    return out


def _rooms(room: Mesh) -> list[Mesh]:
    """The parts of a cavity, the largest first."""
    count, label = face_components(room)
    return sorted((room.of_faces(label == k) for k in range(count)), key=lambda part: -part.triangles)


def rooms_without_air(room: Mesh, made: Sequence[Drain]) -> list[NDArray[np.float64]]:
    """(3,) of each part of a cavity with fewer than two drains, what of it lies farthest from those: resin leaves through one opening
    as fast as air comes in through another."""
    out = []
    for part in _rooms(room):
        wall = ClosestPoints(part)  # not its corners: on flat walls they stand far apart
        own = [d.at_mm for d in made if (wall.query(d.mesh.vertices_mm, within_mm=_INSIDE_MM + _MEETS_MM).face >= 0).any()]
        if len(own) < 2:
            low = part.vertices_mm[part.vertices_mm[:, 2] < part.vertices_mm[:, 2].min() + _LOW_MM]
            away = np.linalg.norm(low - own[0], axis=1) if own else low[:, 1]
            out.append(low[int(np.argmax(away))])
    return out


class _Finds:
    """Where drains can be led out."""

    def __init__(self, body: Mesh, ask: Ask, bottom: float) -> None:
        self.ask, self.body, self.bottom = ask, body, bottom
        self.teeth = None if ask.bar is None or not len(ask.bar) else cKDTree(ask.bar)
        floor, wide = ask.floor_mm, ask.wide_mm
        self.height = bottom if floor is None else bottom + floor + wide / 2 - 0.1

    def low(self, part: Mesh) -> _Places:
        lowest = float(part.vertices_mm[:, 2].min())
        if self.ask.down:
            return self._down(part, lowest)
        at = max(self.height, lowest + _LOW_MM)
        return self._level(_round_at(part, at))

    def _level(self, low: NDArray) -> _Places:
        """From places of one height (k, 3) the shortest way out: through the wall or, where no wall is near, through a land. It goes by the
        lower half of the drain, for what lies before its mouth dams it up; and as far as the upper half needs."""
        if not len(low):
            return _Places(low, low, np.zeros(0))
        half = self.ask.wide_mm / 4
        heights = {max(float(low[0, 2]) + by, self.bottom + half) for by in (-half, half)}
        around = [_round_at(self.body, height, _FINE_MM)[:, :2] for height in sorted(heights)]
        way, nearest = cKDTree(around[0]).query(low[:, :2])
        level = np.c_[around[0][nearest] - low[:, :2], np.zeros(len(low))] / np.maximum(way, 1e-9)[:, None]
        if len(around) > 1:
            way = np.maximum(way, cKDTree(around[1]).query(low[:, :2])[0])
        places, whole = self._sunk(_Places(low, level, way).of(way > _LEAST_WAY_MM))
        short = places.way < _WALLS * self.ask.wall_mm
        for good in (short & whole, whole, short):
            if len((found := self._allowed(places.of(good))).low):
                return found
        return self._allowed(places)

    def _sunk(self, places: _Places) -> tuple[_Places, NDArray[np.bool_]]:
        """The same, so low that no drain comes out on top of a thin land; and (k,) of which that can be said."""
        half = self.ask.wide_mm / 2
        room = self._over(places) - _COVER_MM - half
        least = self.bottom + (_COVER_MM + half if self.ask.floor_mm is not None else 0.0)
        height = np.minimum(places.low[:, 2], np.maximum(room, least))
        return _Places(np.c_[places.low[:, :2], height], places.level, places.way), height <= room + 1e-9

    def _over(self, places: _Places) -> NDArray[np.float64]:
        """(k,) how high the body's surface lies over each of these ways at least; infinite where there is none."""
        if not len(places.low):
            return np.zeros(0)
        points = self.body.vertices_mm
        above = self.body.faces[points[self.body.faces][:, :, 2].max(1) > places.low[:, 2].max() + _LOW_MM]
        corner, end = points.min(0)[:2], points.max(0)[:2]
        shape = tuple(int(n) for n in np.ceil((end - corner) / _COVER_CELL_MM) + 1)
        top = heights(points, above, corner, (shape[0], shape[1]), _COVER_CELL_MM)[0]
        # At its mouth the edge may be rounded.
        along = np.linspace(0, 1, _ASKED)[:, None] * np.maximum(places.way - _OUTSIDE_MM, 0)
        plan = places.low[:, :2] + places.level[:, :2] * along[..., None]
        i, j = np.moveaxis(np.clip(np.rint((plan - corner) / _COVER_CELL_MM).astype(int), 0, np.array(shape) - 1), -1, 0)
        return np.asarray(top[i, j].min(0))

    def _down(self, part: Mesh, lowest: float) -> _Places:
        """Over the floor, so far from the room's walls that the whole drain ends on it."""
        walls = _round_at(part, lowest + _LOW_MM)
        low, high = walls[:, :2].min(0), walls[:, :2].max(0)
        grid = np.stack(np.meshgrid(*(np.arange(a, b, _STEP_MM) for a, b in zip(low, high, strict=True)), indexing="ij"), -1).reshape(-1, 2)
        rings = [ring[:, :2] for ring in _rings_at(part, lowest + _LOW_MM)]
        floor = grid[holds(rings, grid)]
        floor = floor[cKDTree(walls[:, :2]).query(floor)[0] > self.ask.wide_mm / 2 + _LOW_MM]
        floor = np.c_[floor, np.full(len(floor), lowest)]
        return self._allowed(_Places(floor, np.tile([0.0, 0.0, -1.0], (len(floor), 1)), floor[:, 2] - self.bottom))

    def _allowed(self, places: _Places) -> _Places:
        places = places.clear_of(self.ask.off, self.ask.clear_mm)
        if self.teeth is None:
            return places
        return places.of(self.teeth.query(places.out)[0] > self.ask.wide_mm / 2 + _TOOTH_MM)

    def near(self, at: NDArray, low: Sequence[_Places], room: Mesh) -> _Places | None:
        """The place for a drain nearest to `at`: low in a room, or where it is asked higher up, at that height."""
        options = [places for places in low if len(places.low)]
        if not self.ask.down and at[2] > self.height + 2 * self.ask.wide_mm:
            options.insert(0, self._level(_round_at(room, float(at[2]))))
        best = [(float(np.linalg.norm(p.out - at, axis=1).min()), k) for k, p in enumerate(options) if len(p.low)]
        if not best:
            return None
        places = options[min(best)[1]]
        return places.one(int(np.linalg.norm(places.out - at, axis=1).argmin()))


@dataclass(frozen=True)
class _Places:
    """Low places of the cavity (k, 3), the way out from each (k, 3), level and of length one, and how far it is (k,)."""

    low: NDArray[np.float64]
    level: NDArray[np.float64]
    way: NDArray[np.float64]

    @property
    def out(self) -> NDArray[np.float64]:
        """(k, 3) where each comes out."""
        return self.low + self.level * self.way[:, None]

    def one(self, number: int) -> _Places:
        return _Places(self.low[[number]], self.level[[number]], self.way[[number]])

    def of(self, keep: NDArray[np.bool_]) -> _Places:
        return _Places(self.low[keep], self.level[keep], self.way[keep])

    def clear_of(self, lines: Sequence[Segment], clear_mm: float) -> _Places:
        """Of those whose whole drain stays clear, from its end in the cavity to that outside."""
        near = np.zeros(len(self.low), bool)
        for share in np.linspace(0, 1, _ASKED):
            along = -_INSIDE_MM + share * (self.way + _INSIDE_MM + _OUTSIDE_MM)
            near |= near_any((self.low + self.level * along[:, None])[:, :2], lines, clear_mm)
        return self.of(~near)


def _rings_at(room: Mesh, height: float) -> list[NDArray[np.float64]]:
    """(k, 3) each: what a level plane cuts of a room."""
    cut = clip(room, room.vertices_mm[:, 2] - height).mesh
    return [cut.vertices_mm[loop] for loop in border_loops(cut)]


def _round_at(room: Mesh, height: float, step_mm: float = _STEP_MM) -> NDArray[np.float64]:
    """(k, 3) places along those, so far apart."""
    out = [np.zeros((0, 3))]
    for ring in _rings_at(room, height):
        run = np.r_[0, np.cumsum(np.linalg.norm(np.roll(ring, -1, axis=0) - ring, axis=1))]
        at = np.arange(0, run[-1], step_mm)
        closed = np.vstack([ring, ring[:1]])
        out.append(np.stack([np.interp(at, run, closed[:, axis]) for axis in range(3)], axis=1))
    return np.vstack(out)


def _chosen(places: _Places, ask: Ask, count: int, here: Sequence[NDArray]) -> list[int]:
    """Numbers of so many places, far from each other and from what is there already."""
    low = places.low
    taken = list(here)
    out: list[int] = []
    while len(out) < count and len(low):
        if not taken:
            number = int((low[:, :2] @ ask.front[:2]).argmax())
        else:
            away = np.min([np.linalg.norm(places.out - at, axis=1) for at in taken], axis=0)
            number = int(away.argmax())
            if away[number] < 4 * ask.wide_mm:
                break
        out.append(number)
        taken.append(places.out[number])
    return out


def _made(name: str, place: _Places, ask: Ask) -> Drain:
    return Drain(name, _cylinder(place.low[0], place.level[0], float(place.way[0]), ask.wide_mm / 2), place.out[0])


def _cylinder(start: NDArray, way: NDArray, length: float, radius: float) -> Mesh:
    """Along `way` (of length one, level or straight down), from inside the cavity to outside the body."""
    level = abs(way[2]) < 0.5
    side = np.array([-way[1], way[0], 0.0]) if level else np.array([1.0, 0.0, 0.0])
    up = np.array([0.0, 0.0, 1.0]) if level else np.array([0.0, 1.0, 0.0])
    # Turned by half a side: no edge lies in the floor's plane.
    angle = (np.arange(_SIDES) + 0.5) / _SIDES * 2 * np.pi
    ring = radius * (np.cos(angle)[:, None] * side + np.sin(angle)[:, None] * up)
    near, far = start - way * _INSIDE_MM, start + way * (length + _OUTSIDE_MM)
    points = np.vstack([near + ring, far + ring, near, far])
    i, j = np.arange(_SIDES), (np.arange(_SIDES) + 1) % _SIDES
    a, b = 2 * _SIDES, 2 * _SIDES + 1
    faces = np.vstack([
        np.c_[i, j, j + _SIDES], np.c_[i, j + _SIDES, i + _SIDES], np.c_[np.full(_SIDES, a), j, i],
        np.c_[np.full(_SIDES, b), i + _SIDES, j + _SIDES],
    ])  # fmt: skip
    made = Mesh.of(points, faces, np.full(len(faces), GROUP_CUT, np.uint8))
    a, b, c = (points[faces[:, k]] for k in range(3))
    outward = np.einsum("ij,ij->i", a - start, np.cross(b - start, c - start)).sum() > 0
    return made if outward else made.turned_inside_out()
