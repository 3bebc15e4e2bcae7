"""What a base has beside the walls under its outline: level terraces that close its middle, brace its ends, carry its back to a plane
or make it an outline of its own. Each is a region of the plan between rings of the walls and new corners."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import ConvexHull

from .rings import crossed, holds, signed_area

# A hollow smaller than this is none that is worth closing (mm²).
_LEAST_MM2 = 60.0
# A brace: so wide, so far before the ends it joins; nearer than that to an end nothing is carried back.
BRACE_MM, _BEFORE_MM = 6.0, 4.0
_END_MM = 5.0
# What is wider is no arm of a horseshoe; what lacks less to the back is there.
_WIDE_MM, _LEAST_BACK_MM = 25.0, 0.05


@dataclass(frozen=True)
class Footing:
    """rings    : (k, 2) each, those of the walls
    more     : (n, 2) corners that are none of theirs
    terraces : of each region its loops of numbers (of the corners of all rings end to end, then of `more`), outer ones
               counter-clockwise
    """

    rings: tuple[NDArray[np.float64], ...]
    more: NDArray[np.float64]
    terraces: tuple[tuple[NDArray[np.int64], ...], ...] = ()

    @property
    def points(self) -> NDArray[np.float64]:
        return np.vstack([*self.rings, self.more])

    def loops(self) -> list[NDArray[np.int64]]:
        """Of the rings themselves."""
        first = np.cumsum([0, *(len(ring) for ring in self.rings)])
        return [np.arange(a, b) for a, b in itertools.pairwise(first)]

    def foot(self) -> list[NDArray[np.int64]]:
        """The loops that are left round all: where two regions meet, their sides go."""
        after: dict[int, int] = {}
        sides = {(int(a), int(b)) for loop in self._all() for a, b in zip(loop, np.roll(loop, -1), strict=True)}
        for a, b in sides:
            if (b, a) not in sides:
                after[a] = b
        out = []
        while after:
            start, at = next(iter(after.items()))
            loop = [start]
            del after[start]
            while at != start:
                loop.append(at)
                at = after.pop(at)
            out.append(np.array(loop))
        return out

    def _all(self) -> list[NDArray[np.int64]]:
        return [*self.loops(), *(loop for terrace in self.terraces for loop in terrace)]

    def sound(self) -> bool:
        points = self.points
        try:
            feet = [points[loop] for loop in self.foot()]
        except KeyError:  # two regions meet in a corner
            return False
        regions = [[points[loop] for loop in terrace] for terrace in self.terraces]
        if any(crossed(rings).any() for rings in (feet, *regions)):
            return False
        return sum(signed_area(ring) > 0 for ring in feet) == 1

    def with_terrace(self, more: NDArray, *loops: NDArray) -> Footing:
        return Footing(self.rings, np.vstack([self.more, more]), (*self.terraces, loops))


def plain(rings: Sequence[NDArray[np.float64]]) -> Footing:
    return Footing(tuple(rings), np.zeros((0, 2)))


def _outer(footing: Footing) -> tuple[NDArray[np.float64], int]:
    """(the outer ring, the number of its first corner)."""
    number = int(np.argmax([signed_area(ring) for ring in footing.rings]))
    return footing.rings[number], sum(len(ring) for ring in footing.rings[:number])


def _pocket(ring: NDArray[np.float64]) -> tuple[int, int] | None:
    """(first, last) corner of the largest hollow of a ring, between two corners of its hull; last may be beyond the ring's end."""
    hull = np.sort(ConvexHull(ring).vertices)
    pairs = [(int(a), int(b)) for a, b in zip(hull, np.r_[hull[1:], hull[0] + len(ring)], strict=True) if b - a > 2]
    areas = [-signed_area(ring[np.arange(a, b + 1) % len(ring)]) for a, b in pairs]
    best = int(np.argmax(areas)) if areas else -1
    return pairs[best] if areas and areas[best] > _LEAST_MM2 else None


def middle_closed(footing: Footing) -> Footing:
    """With the hollow of the arch and every hole filled; the same where there is none."""
    out = footing
    for loop, ring in zip(footing.loops(), footing.rings, strict=True):
        if signed_area(ring) < 0:
            out = out.with_terrace(np.zeros((0, 2)), loop[::-1])
    ring, first = _outer(footing)
    pocket = _pocket(ring)
    if pocket is None:
        return out
    a, b = pocket
    return out.with_terrace(np.zeros((0, 2)), first + np.r_[a, np.arange(b, a, -1)] % len(ring))


def braced(footing: Footing) -> Footing | None:
    """With a bar between the ends of a horseshoe (the plan's y to the back); None where there are none, or it would not lie free."""
    ring, first = _outer(footing)
    pocket = _pocket(ring)
    if pocket is None:
        return None
    a, b = pocket
    inner = np.arange(a, b + 1)
    y = ring[inner % len(ring), 1]
    deepest = int(np.argmin(y))
    rear = min(y[0], y[-1]) - _BEFORE_MM
    ends = []
    for side in (np.arange(deepest + 1), np.arange(deepest, len(inner))):
        ends.append([int(inner[side[np.abs(y[side] - level).argmin()]]) for level in (rear, rear - BRACE_MM)])
    (p, p_front), (q, q_front) = ends
    if not p < p_front < q_front < q:
        return None
    loop = np.r_[p, np.arange(q, q_front - 1, -1), np.arange(p_front, p, -1)]
    made = footing.with_terrace(np.zeros((0, 2)), first + loop % len(ring))
    return made if made.sound() else None


def carried_back(footing: Footing, back: float) -> Footing:
    """With the ends of the foot carried straight back to y = back where they do not reach it."""
    out = footing
    points = footing.points
    for loop in footing.foot():
        ring = points[loop]
        if signed_area(ring) < 0:
            continue
        for arc in _ends(ring):
            if back - ring[arc, 1].max() < _LEAST_BACK_MM:
                continue
            x, new = ring[arc, 0], len(out.points) + np.arange(2)
            more = np.array([[x[0], back], [x[-1], back]])
            made = out.with_terrace(more, np.r_[loop[arc[0]], new, loop[arc[:0:-1]]])
            if made.sound():
                out = made
    return out


def _ends(ring: NDArray[np.float64]) -> list[NDArray[np.int64]]:
    """Of each rearmost part of a ring, counter-clockwise with y to the back, the corners from where it is widest on the right to where it
    is on the left: of an arm within _END_MM of its own end, of a whole back in all of it."""
    x, y = ring.T
    behind = y > y.max() - 2 * _END_MM
    order = (np.arange(len(ring)) + int(np.argmin(behind))) % len(ring)
    out = []
    for run in np.split(order, np.flatnonzero(np.diff(behind[order].astype(int))) + 1):
        if not behind[run[0]]:
            continue
        near = np.ones(len(run), bool) if np.ptp(x[run]) > _WIDE_MM else y[run] > y[run].max() - _END_MM
        right = int(np.argmax(np.where(near, x[run], -np.inf)))
        left = int(np.argmin(np.where(near, x[run], np.inf)))
        if right < left:
            out.append(run[right : left + 1])
    return out


def on_land(footing: Footing, land: NDArray[np.float64]) -> Footing | None:
    """On an outline of its own (k, 2), counter-clockwise, that holds all rings; None where it does not."""
    if not holds([land], np.vstack(footing.rings)).all():
        return None
    new = len(footing.points) + np.arange(len(land))
    outer = [loop[::-1] for loop, ring in zip(footing.loops(), footing.rings, strict=True) if signed_area(ring) > 0]
    holes = [loop[::-1] for loop, ring in zip(footing.loops(), footing.rings, strict=True) if signed_area(ring) < 0]
    made = footing.with_terrace(land, new, *outer)
    for hole in holes:
        made = made.with_terrace(np.zeros((0, 2)), hole)
    return made if made.sound() else None
