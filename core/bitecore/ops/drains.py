"""Where resin leaves a hollow body: lying holes through the wall, at the lowest place of each of the cavity's parts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..mesh import GROUP_CUT, Mesh, face_components
from .closest import ClosestPoints
from .segments import Segment, near_any

_SIDES = 32
# A drain begins so far inside the cavity and ends so far outside the body.
_INSIDE_MM, _OUTSIDE_MM = 1.5, 1.0
# So many places along it are asked whether something stands there.
_ASKED = 9
# What of the cavity counts as its lowest place.
_LOW_MM = 0.6
# Through more than so many walls no drain is led: the place lies badly.
_WALLS = 4.0
_FIRST, _OTHERS = 3, 2


@dataclass(frozen=True)
class Drain:
    """mesh : a lying cylinder; at_mm : (3,) where it comes out"""

    mesh: Mesh
    at_mm: NDArray[np.float64]


def drains(
    body: Mesh,
    room: Mesh,
    *,
    wall_mm: float,
    wide_mm: float,
    floor_mm: float | None,
    front: NDArray,
    off: Sequence[Segment] = (),
    clear_mm: float = 0.0,
) -> list[Drain]:
    """Through the wall of a body, z up, around its cavity: three for the largest part of that, the first in front, the others far
    apart; two for any other. Half-round at the rim where the cavity is open underneath (floor_mm None), else resting on the floor.

    off : lines (from, to) that stand on the wall; seen from above a drain stays clear_mm away from them
    """
    bottom = float(body.vertices_mm[:, 2].min())
    height = bottom if floor_mm is None else bottom + floor_mm + wide_mm / 2 - 0.1
    sides = body.of_faces(~(body.vertices_mm[body.faces][:, :, 2] < bottom + 1e-6).all(1))
    skin = ClosestPoints(sides)
    count, label = face_components(room)
    parts = sorted((room.of_faces(label == k) for k in range(count)), key=lambda part: -part.triangles)
    out: list[Drain] = []
    for number, part in enumerate(parts):
        places = _low_places(part, skin, height, wall_mm).clear_of(off, clear_mm)
        out += _chosen(places, wide_mm, front, _OTHERS if number else _FIRST)
    return out


@dataclass(frozen=True)
class _Places:
    """Low places of the cavity (k, 3), the way out from each (k, 3), level and of length one, and how far it is (k,)."""

    low: NDArray[np.float64]
    level: NDArray[np.float64]
    way: NDArray[np.float64]

    def of(self, keep: NDArray[np.bool_]) -> _Places:
        return _Places(self.low[keep], self.level[keep], self.way[keep])

    def clear_of(self, lines: Sequence[Segment], clear_mm: float) -> _Places:
        """Of those whose whole drain stays clear, from its end in the cavity to that outside."""
        near = np.zeros(len(self.low), bool)
        for share in np.linspace(0, 1, _ASKED):
            along = -_INSIDE_MM + share * (self.way + _INSIDE_MM + _OUTSIDE_MM)
            near |= near_any((self.low + self.level * along[:, None])[:, :2], lines, clear_mm)
        return self.of(~near)


def _low_places(part: Mesh, skin: ClosestPoints, height: float, wall_mm: float) -> _Places:
    points = part.vertices_mm
    low = points[np.abs(points[:, 2] - max(height, points[:, 2].min())) < _LOW_MM]
    low = np.c_[low[:, :2], np.full(len(low), height)]
    hits = skin.query(low, within_mm=_WALLS * wall_mm)
    level = hits.point_mm - low
    level[:, 2] = 0
    way = np.linalg.norm(level, axis=1)
    return _Places(low, level / np.maximum(way, 1e-9)[:, None], way).of((hits.face >= 0) & (way > 0.3))


def _chosen(places: _Places, wide_mm: float, front: NDArray, count: int) -> list[Drain]:
    low, level, way = places.low, places.level, places.way
    taken: list[int] = []
    while len(taken) < count and len(low):
        if not taken:
            taken.append(int((low[:, :2] @ front[:2]).argmax()))
            continue
        away = np.min([np.linalg.norm(low - low[k], axis=1) for k in taken], axis=0)
        if away.max() < 4 * wide_mm:
            break
        taken.append(int(away.argmax()))
    return [Drain(_cylinder(low[k], level[k], way[k], wide_mm / 2), low[k] + level[k] * way[k]) for k in taken]


def _cylinder(start: NDArray, way: NDArray, length: float, radius: float) -> Mesh:
    """Lying along `way` (level, of length one), from inside the cavity to outside the body."""
    side = np.array([-way[1], way[0], 0.0])
    # Turned by half a side: no edge lies in the floor's plane.
    angle = (np.arange(_SIDES) + 0.5) / _SIDES * 2 * np.pi
    ring = radius * (np.cos(angle)[:, None] * side + np.sin(angle)[:, None] * [0.0, 0.0, 1.0])
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
