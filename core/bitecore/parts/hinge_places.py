"""Where hinged backs can stand behind a pair of bodies: one axis behind both, and on it a hinge on the left and one on the right, each
half held by an arm that stands on its mounting face and reaches into the back of its base.

On the bench (mm; x to the patient's left, y back, z up). The sizes are judgements of this house, no published values.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..mesh import GROUP_SCAN, Mesh
from ..ops.heights import heights

# An arm: how far into the body, how far under the scan's surface it ends, how low it may be, how long.
ROOT_MM, UNDER_MM = 2.0, 0.5
_LOWEST_MM, _LONGEST_MM = 3.0, 25.0
# Between arm and knuckle of the other half.
_FREE_MM = 1.0
# How far both hinges stand from the midline, at least.
_ASIDE_MM = 10.0
_CELL_MM, _STEP_MM = 0.25, 0.5
SIDES = ("left", "right")


@dataclass(frozen=True)
class Knuckles:
    """radius_mm, tongue_mm, cheek_mm : of the round ends, and how wide those on the upper and on the lower are
    hole_mm : through all of them, for a pin of its own; 0: they snap
    air_mm  : between tongue and cheeks, on each side
    off_mm  : from the round ends to both bodies, at least
    free_mm : how far down the cheeks are free of one another
    """

    radius_mm: float = 4.0
    tongue_mm: float = 5.0
    cheek_mm: float = 2.2
    hole_mm: float = 1.6
    air_mm: float = 0.15
    off_mm: float = 0.8
    free_mm: float = 5.0

    @property
    def half(self) -> float:
        """Of the lower half's width."""
        return self.tongue_mm / 2 + self.air_mm + self.cheek_mm


@dataclass(frozen=True)
class Hinge:
    """x : its middle; by jaw, lower first: walls : y of the back that its arm reaches into; ends : the height at which its arm ends"""

    x: float
    walls: tuple[float, float]
    ends: tuple[float, float]


@dataclass(frozen=True)
class Backs:
    """axis : (y, z) of it; hinges : by side"""

    axis: tuple[float, float]
    hinges: Mapping[str, Hinge]


@dataclass(frozen=True)
class NoBacks:
    """Why there are none. low : the jaw whose base is too low, by how many mm"""

    why: str
    low: tuple[str, float] | None = None


class _Side:
    """One jaw over the plan. sign : +1 for the lower; -1 for the upper, mirrored in height, so that both are asked alike."""

    def __init__(self, body: Mesh, sign: int, low: NDArray, shape: tuple[int, int]) -> None:
        points = body.vertices_mm * [1, 1, sign]
        self.floor = float(points[:, 2].min())
        lowest, self.highest = heights(points, body.faces, low, shape, _CELL_MM)
        self.there = np.isfinite(lowest)
        self.scan_lowest, _ = heights(points, body.faces[body.groups == GROUP_SCAN], low, shape, _CELL_MM)
        bottom = body.faces[(points[body.faces][:, :, 2] < self.floor + 1e-4).all(1)]
        self.foot = np.isfinite(heights(points, bottom, low, shape, _CELL_MM)[0])

    def back(self, what: NDArray[np.bool_], columns: slice) -> NDArray[np.int64]:
        """(k,) of each column the last cell along y where there is something; -1 where there is none."""
        part = what[columns]
        return np.where(part.any(1), part.shape[1] - 1 - part[:, ::-1].argmax(1), -1)


class BackRoom:
    """Both bodies on the bench, asked where hinges can stand. floor, ceiling : their mounting faces"""

    def __init__(self, upper: Mesh, lower: Mesh, sizes: Knuckles) -> None:
        self.sizes = sizes
        both = np.vstack([upper.vertices_mm, lower.vertices_mm])
        self.low = both[:, :2].min(0) - 1.0
        count = np.ceil((both[:, :2].max(0) + 1.0 - self.low) / _CELL_MM) + 1
        shape = (int(count[0]), int(count[1]))
        self.sides = (_Side(lower, 1, self.low, shape), _Side(upper, -1, self.low, shape))
        self.floor, self.ceiling = self.sides[0].floor, -self.sides[1].floor

    def height(self, over_floor_mm: float | None) -> float:
        """Of the axis: as asked, else in the occlusal plane, but so that both halves have room."""
        need = self.sizes.radius_mm + _FREE_MM + _LOWEST_MM
        wanted = 0.0 if over_floor_mm is None else self.floor + over_floor_mm
        least = self.floor + max(need, self.sizes.free_mm + _LOWEST_MM)
        return float(np.clip(wanted, least, max(self.ceiling - need, least)))

    def find(self, over_floor_mm: float | None = None) -> Backs | NoBacks:
        """On each side where both arms are shortest."""
        high = self.height(over_floor_mm)
        if high + self.sizes.radius_mm + _FREE_MM + _LOWEST_MM > self.ceiling + 1e-9:
            return NoBacks("the models are too low together for a hinge")
        chosen: dict[str, tuple[float, float]] = {}
        for side in SIDES:
            found = self._shortest(side)
            if found is None:
                return NoBacks(f"on the {side} the two bases have no back that lies behind one another")
            chosen[side] = found
        axis = max(rear for _, rear in chosen.values()) + self.sizes.off_mm + self.sizes.radius_mm
        hinges: dict[str, Hinge] = {}
        for side, (x, _) in chosen.items():
            made = self._hinge(x, axis, high)
            if isinstance(made, NoBacks):
                return NoBacks(f"on the {side} {made.why}", made.low)
            hinges[side] = made
        return Backs((axis, high), hinges)

    def _columns(self, x: float, half: float) -> slice:
        first, last = np.rint((np.array([x - half, x + half]) - self.low[0]) / _CELL_MM).astype(int)
        return slice(max(first, 0), max(last + 1, 0))

    def _y(self, cell: float) -> float:
        return float(self.low[1] + cell * _CELL_MM)

    def _shortest(self, side: str) -> tuple[float, float] | None:
        """(x, y of the rearmost of both bodies there)."""
        widest = self.low[0] + _CELL_MM * self.sides[0].foot.shape[0]
        far = widest if side == "left" else -self.low[0]
        best: tuple[float, float, float] | None = None
        for aside in np.arange(_ASIDE_MM, far, _STEP_MM):
            x = aside if side == "left" else -aside
            columns = self._columns(x, self.sizes.half)
            walls = [s.back(s.foot, columns) for s in self.sides]
            if any(len(w) == 0 or (w < 0).any() for w in walls):
                continue
            rear = max(int(s.back(s.there, columns).max()) for s in self.sides)
            cost = sum(rear - float(w.min()) for w in walls)
            # Farther out is steadier, but for a longer arm.
            if best is None or cost - 0.1 * aside < best[0]:
                best = (cost - 0.1 * aside, float(x), self._y(rear))
        return None if best is None else best[1:]

    def _hinge(self, x: float, axis: float, high: float) -> Hinge | NoBacks:
        walls, ends = [], []
        for number, side in enumerate(self.sides):
            name = ("lower", "upper")[number]
            half = self.sizes.half if number == 0 else self.sizes.tongue_mm / 2
            columns = self._columns(x, half)
            wall = int(side.back(side.foot, columns).min())
            if axis - self._y(wall) > _LONGEST_MM:
                return NoBacks(f"the arm to the {name} would be {axis - self._y(wall):.0f} mm long, more than {_LONGEST_MM:.0f}")
            over = (columns, slice(max(wall - round(ROOT_MM / _CELL_MM) - 1, 0), None))
            knuckle = (high if number == 0 else -high) - self.sizes.radius_mm
            end = min(float(side.scan_lowest[over].min()) - UNDER_MM, knuckle - _FREE_MM)
            other = -self.sides[1 - number].highest[over].max()
            end = min(end, float(other) - UNDER_MM)
            if end - side.floor < _LOWEST_MM:
                missing = _LOWEST_MM - (end - side.floor)
                return NoBacks(
                    f"the arm to the {name} would be only {max(end - side.floor, 0):.1f} mm high; raise the base", (name, missing)
                )
            walls.append(self._y(wall))
            ends.append(end if number == 0 else -end)
        return Hinge(x, (walls[0], walls[1]), (ends[0], ends[1]))
