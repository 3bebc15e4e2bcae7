"""Where pins can stand beside a pair of bodies: each pin's post outside of both, held by a strut on each.

All is looked up in grids over the plan of the bench (mm; x to the patient's left, y back, z up), so one place takes less than a
millisecond. The sizes are judgements of this house, no published values.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from ..mesh import GROUP_SCAN, Mesh
from ..ops.heights import heights

# Of a post, and the air between it and both bodies.
POST_MM, AIR_MM = 3.0, 0.8
# A strut: how wide, how far into the body, how far under the scan's surface it ends, how low and how long it may be.
STRUT_MM, ROOT_MM, UNDER_MM = 4.0, 2.0, 0.5
_LOWEST_MM, _LONGEST_MM = 3.0, 12.0
# What stands free over its strut, in widths of the post.
_SLENDER = 4.0
# From a strut to the other jaw.
_CLEAR_MM = 0.3
# How far pins go down, and what two of them are apart at least.
DEEP_MM, APART_MM = 6.0, 14.0
# Under the seat there is so much post at least, over it so much.
_UNDER_SEAT_MM, _OVER_SEAT_MM = 10.0, 4.0
_CELL_MM, _MARGIN_MM = 0.2, 16.0
# A pin that cannot stand where it was put is moved by so much at most.
_NEAR_MM, _NEAR_STEP_MM = 8.0, 0.5
_AROUND = np.stack(np.meshgrid(*[np.arange(-_NEAR_MM, _NEAR_MM + 0.1, _NEAR_STEP_MM)] * 2, indexing="ij"), -1).reshape(-1, 2)
_AROUND = _AROUND[np.argsort(np.hypot(*_AROUND.T), kind="stable")]
_AROUND = _AROUND[np.hypot(*_AROUND.T) <= _NEAR_MM]
ZONES = ("back left", "back right", "side left", "side right")


@dataclass(frozen=True)
class Place:
    """One pin: x, y on the bench; for lower and upper the height at which the strut ends, its length outside of the body, and (2,)
    where it meets the wall."""

    at: NDArray[np.float64]
    ends: tuple[float, float]
    long: tuple[float, float]
    wall: tuple[NDArray[np.float64], NDArray[np.float64]]

    @property
    def cost(self) -> float:
        return sum(self.long)


@dataclass(frozen=True)
class No:
    """Why no pin can stand in a place. low : the jaw whose base is too low there, by how many mm"""

    why: str
    low: tuple[str, float] | None = None


class _Side:
    """One jaw over the plan. sign : +1 for the lower, whose mounting face is below; -1 for the upper, mirrored in height, so that
    both are asked alike."""

    def __init__(self, body: Mesh, sign: int, low: NDArray, shape: tuple[int, int]) -> None:
        points = body.vertices_mm * [1, 1, sign]
        self.floor = float(points[:, 2].min())
        lowest, highest = heights(points, body.faces, low, shape, _CELL_MM)
        self.there, self.highest = np.isfinite(lowest), highest
        self.scan_lowest, _ = heights(points, body.faces[body.groups == GROUP_SCAN], low, shape, _CELL_MM)
        bottom = body.faces[(points[body.faces][:, :, 2] < self.floor + 1e-4).all(1)]
        foot = np.isfinite(heights(points, bottom, low, shape, _CELL_MM)[0])
        self.foot_off, self.nearest = ndimage.distance_transform_edt(~foot, return_indices=True)


class Room:
    """Both bodies on the bench, asked where pins can stand.

    seat : the height at which the posts of both meet
    """

    def __init__(self, upper: Mesh, lower: Mesh) -> None:
        both = np.vstack([upper.vertices_mm, lower.vertices_mm])
        self.low = both[:, :2].min(0) - _MARGIN_MM
        count = np.ceil((both[:, :2].max(0) + _MARGIN_MM - self.low) / _CELL_MM) + 1
        shape = (int(count[0]), int(count[1]))
        self.lower, self.upper = _Side(lower, 1, self.low, shape), _Side(upper, -1, self.low, shape)
        self.off = ndimage.distance_transform_edt(~(self.lower.there | self.upper.there)) * _CELL_MM
        self.back = float(both[:, 1].max())
        self.front = float(both[:, 1].min())
        self.floor, self.ceiling = self.lower.floor, -self.upper.floor
        self.seat = float(np.clip(0.0, self.floor + _UNDER_SEAT_MM, max(self.ceiling - _OVER_SEAT_MM, self.floor + _UNDER_SEAT_MM)))

    def cell(self, at: NDArray) -> NDArray[np.int64]:
        return np.rint((np.asarray(at, float) - self.low) / _CELL_MM).astype(int)

    def ask(self, at: NDArray) -> Place | No:
        i, j = self.cell(at)
        if not (0 <= i < self.off.shape[0] and 0 <= j < self.off.shape[1]):
            return No("it is too far from both models")
        if self.off[i, j] < POST_MM + AIR_MM:
            return No("its post would touch a model")
        if self.ceiling - self.seat < _OVER_SEAT_MM:
            return No("the models are too low together for a sleeve")
        ends, long, walls = [], [], []
        for side, other, seat, name in ((self.lower, self.upper, self.seat, "lower"), (self.upper, self.lower, -self.seat, "upper")):
            length = float(side.foot_off[i, j]) * _CELL_MM
            if length > _LONGEST_MM:
                return No(f"its strut to the {name} would be {length:.0f} mm long, more than {_LONGEST_MM:.0f}")
            root = side.nearest[:, i, j]
            cells = self._run(np.array([i, j]), root, length)
            under = (cells[:, 0], cells[:, 1])
            end = min(float(side.scan_lowest[under].min()) - UNDER_MM, seat - 1.0)
            if end - side.floor < _LOWEST_MM:
                why = f"its strut to the {name} would be only {max(end - side.floor, 0):.1f} mm high; raise the base"
                return No(why, (name, _LOWEST_MM - (end - side.floor)))
            free = seat - end + (DEEP_MM if side is self.upper else 0.0)
            if free > _SLENDER * 2 * POST_MM:
                return No(f"its post on the {name} would stand {free:.0f} mm free")
            # In the other's heights, mirrored: the nearest of it over the strut.
            if -other.highest[under].max() < end + _CLEAR_MM:
                return No(f"its strut to the {name} would meet the other model")
            ends.append(end if side is self.lower else -end)
            long.append(length)
            walls.append(root * _CELL_MM + self.low)
        return Place(np.asarray(at, float), (ends[0], ends[1]), (long[0], long[1]), (walls[0], walls[1]))

    def near(self, at: NDArray, others: Sequence[NDArray] = ()) -> tuple[Place | None, str]:
        """The place nearest to `at` where a pin can stand, within reach and apart from others; (None, why not right there)."""
        why = ""
        for off in _AROUND:
            found = self.ask(np.asarray(at, float)[:2] + off)
            if isinstance(found, Place) and any(np.hypot(*(found.at - o)) < 2 * POST_MM + 1.0 for o in others):
                found = No("it would run into another pin")
            if isinstance(found, Place):
                return found, why
            why = why or found.why
        return None, why

    def _run(self, start: NDArray, root: NDArray, length: float) -> NDArray[np.int64]:
        """(k, 2) cells under a strut, from the post's middle to the end of its root."""
        way = root - start
        way = way / max(float(np.hypot(*way)), 1e-9)
        along = np.arange(0.0, length + ROOT_MM + 0.3, _CELL_MM * 0.7) / _CELL_MM
        across = np.arange(-STRUT_MM / 2 - 0.1, STRUT_MM / 2 + 0.2, _CELL_MM * 0.7) / _CELL_MM
        cells = start + along[:, None, None] * way + across[None, :, None] * np.array([-way[1], way[0]])
        cells = np.rint(cells).astype(int).reshape(-1, 2)
        return cells[((cells >= 0) & (cells < self.off.shape)).all(1)]

    def by_itself(self, wanted: Sequence[str], taken: Sequence[NDArray]) -> tuple[dict[str, Place], dict[str, No]]:
        """({zone: place}, {zone: why there is none, for most of its places; where only a base is too low, the least that is
        missing}): in every zone that is wanted the place with the shortest struts, apart from all that are taken."""
        ring = np.argwhere(np.abs(self.off - (POST_MM + AIR_MM + 0.2)) < 0.75 * _CELL_MM)[::3] * _CELL_MM + self.low
        asked = {zone: [self.ask(at) for at in ring if self._in(zone, at)] for zone in wanted}
        out: dict[str, Place] = {}
        why: dict[str, No] = {}
        for zone in wanted:
            others = [*taken, *(p.at for p in out.values())]
            free = [p for p in asked[zone] if isinstance(p, Place) and all(np.hypot(*(p.at - o)) >= APART_MM for o in others)]
            if free:
                out[zone] = min(free, key=lambda p: (p.cost, tuple(p.at)))
            else:
                why[zone] = _mostly([n for n in asked[zone] if isinstance(n, No)])
        return out, why

    def _in(self, zone: str, at: NDArray) -> bool:
        where, side = zone.split()
        x = at[0] if side == "left" else -at[0]
        if where == "back":
            return bool(x > 8 and at[1] > self.back - 4)
        middle = 0.5 * (self.front + self.back)
        return bool(x > 12 and self.front + 10 < at[1] < max(self.back - 14, middle))


def _mostly(asked: Sequence[No]) -> No:
    if not asked:
        return No("there is no place beside the models")
    low = min((n.low for n in asked if n.low), key=lambda low: low[1], default=None)
    return No(Counter(n.why.split(";")[0] for n in asked).most_common(1)[0][0], low)
