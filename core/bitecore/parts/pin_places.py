"""Where pins can stand beside a pair of bodies: each pin's post outside of both, held by a strut on each.

All is looked up in grids over the plan of the bench (mm; x to the patient's left, y back, z up), so one place takes less than a
millisecond. The sizes are judgements of this house, no published values.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from ..mesh import GROUP_SCAN, Mesh
from ..ops.heights import heights
from . import pin_asked as asking

# A strut: how far into the body, how far under the scan's surface it ends, how low it may be.
ROOT_MM, UNDER_MM = 2.0, 0.5
_LOWEST_MM = 3.0
# What stands free over its strut, in widths of the post.
_SLENDER = 4.0
# From a strut to the other jaw.
_CLEAR_MM = 0.3
# What two of them are apart at least.
APART_MM = 14.0
# Under a pin there is so much post at least, over the seat so much.
_UNDER_PIN_MM, _OVER_SEAT_MM = 4.0, 4.0
_CELL_MM, _MARGIN_MM = 0.2, 16.0
# A pin that cannot stand where it was put is moved by so much at most.
_NEAR_MM, _NEAR_STEP_MM = 8.0, 0.5
_AROUND = np.stack(np.meshgrid(*[np.arange(-_NEAR_MM, _NEAR_MM + 0.1, _NEAR_STEP_MM)] * 2, indexing="ij"), -1).reshape(-1, 2)
_AROUND = _AROUND[np.argsort(np.hypot(*_AROUND.T), kind="stable")]
_AROUND = _AROUND[np.hypot(*_AROUND.T) <= _NEAR_MM]
ZONES = ("back left", "back right", "side left", "side right")


@dataclass(frozen=True)
class Sizes:
    """Of pins and what holds them, in mm.

    post_mm, pin_mm : their diameters
    deep_mm         : how far a pin goes down
    off_mm          : from a post to both bodies, at least
    strut_mm        : how wide a strut is; high_mm : how high it is at most; long_mm : and how long
    seat_mm         : where both posts meet, over the mounting face of the jaw with the sleeves; None: near the occlusal plane
    """

    post_mm: float = 6.0
    pin_mm: float = 3.5
    deep_mm: float = 6.0
    off_mm: float = 0.8
    strut_mm: float = 4.0
    high_mm: float = math.inf
    long_mm: float = 12.0
    seat_mm: float | None = None

    @property
    def radius(self) -> float:
        return self.post_mm / 2


USUAL = Sizes()


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
    """Why no pin can stand in a place. low : the jaw whose base is too low there, by how many mm; free : its post would stand too free"""

    why: str
    low: tuple[str, float] | None = None
    free: bool = False


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
    """Both bodies on the bench, asked where pins can stand: from the upper down into sleeves on the lower. Where the sleeves are on the
    upper, both are given upside down (z to -z), and called by the other's name.

    seat : the height at which the posts of both meet
    """

    def __init__(self, upper: Mesh, lower: Mesh, sizes: Sizes = USUAL, names: tuple[str, str] = ("lower", "upper")) -> None:
        self.sizes, self.names = sizes, names
        both = np.vstack([upper.vertices_mm, lower.vertices_mm])
        self.low = both[:, :2].min(0) - _MARGIN_MM
        count = np.ceil((both[:, :2].max(0) + _MARGIN_MM - self.low) / _CELL_MM) + 1
        shape = (int(count[0]), int(count[1]))
        self.lower, self.upper = _Side(lower, 1, self.low, shape), _Side(upper, -1, self.low, shape)
        self.off = ndimage.distance_transform_edt(~(self.lower.there | self.upper.there)) * _CELL_MM
        self.back = float(both[:, 1].max())
        self.front = float(both[:, 1].min())
        self.floor, self.ceiling = self.lower.floor, -self.upper.floor
        lowest = self.floor + sizes.deep_mm + _UNDER_PIN_MM
        wanted = 0.0 if sizes.seat_mm is None else self.floor + sizes.seat_mm
        self.seat = float(np.clip(wanted, lowest, max(self.ceiling - _OVER_SEAT_MM, lowest)))
        sides, floors, seats = (self.lower, self.upper), (self.lower.floor, self.upper.floor), (self.seat, -self.seat)
        grids = [np.stack([getattr(side, name) for side in sides]) for name in ("foot_off", "nearest", "scan_lowest", "highest")]
        self._grids = (*grids, np.array(floors), np.array(seats))

    def cell(self, at: NDArray) -> NDArray[np.int64]:
        return np.rint((np.asarray(at, float) - self.low) / _CELL_MM).astype(int)

    def ask(self, at: NDArray) -> Place | No:
        return self.ask_all(np.asarray(at, float).reshape(1, -1))[0]

    def ask_all(self, at: NDArray) -> list[Place | No]:
        """Of each of (k, 2) places."""
        cells = self.cell(at)
        code, amount, ends, long = self._asked(cells)
        return [
            self._place(at[k], cells[k], ends[k], long[k]) if c == asking.GOOD else self._no(int(c), float(amount[k]))
            for k, c in enumerate(code)
        ]

    def _asked(self, cells: NDArray[np.int64]) -> tuple[NDArray, NDArray, NDArray, NDArray]:
        sizes = (
            _CELL_MM, self.sizes.radius + self.sizes.off_mm, self.ceiling - self.seat, _OVER_SEAT_MM, self.sizes.long_mm,
            self.sizes.strut_mm / 2, ROOT_MM, UNDER_MM, self.sizes.high_mm, _LOWEST_MM, _SLENDER * self.sizes.post_mm,
            self.sizes.deep_mm, _CLEAR_MM,
        )  # fmt: skip
        return asking.asked(cells, self.off, *self._grids, sizes)

    def _place(self, at: NDArray, cell: NDArray, ends: NDArray, long: NDArray) -> Place:
        walls = [side.nearest[:, cell[0], cell[1]] * _CELL_MM + self.low for side in (self.lower, self.upper)]
        return Place(np.asarray(at[:2], float), (float(ends[0]), -float(ends[1])), (float(long[0]), float(long[1])), (walls[0], walls[1]))

    def _no(self, code: int, amount: float) -> No:
        kind, jaw = code // 2 * 2, self.names[code % 2]
        exact = {
            asking.LONG: f"its strut to the {jaw} would be {amount:.0f} mm long, more than {self.sizes.long_mm:.0f}",
            asking.LOW: f"its strut to the {jaw} would be only {max(amount, 0):.1f} mm high; raise the base",
            asking.FREE: f"its post on the {jaw} would stand {amount:.0f} mm free",
        }
        low = (jaw, _LOWEST_MM - amount) if kind == asking.LOW else None
        return No(exact.get(kind, self.why(code)), low, kind == asking.FREE)

    def why(self, code: int) -> str:
        """Why no pin can stand in a place of this code."""
        kind, jaw = code // 2 * 2, self.names[code % 2]
        if code < asking.LONG:
            return {
                asking.FAR: "it is too far from both models",
                asking.TOUCHES: "its post would touch a model",
                asking.TOO_LOW: "the models are too low together for a sleeve",
            }[code]
        return {
            asking.LONG: f"its strut to the {jaw} would be too long",
            asking.LOW: f"its strut to the {jaw} would be too low: raise the base",
            asking.FREE: f"its post on the {jaw} would stand too free",
            asking.MEETS: f"its strut to the {jaw} would meet the other model",
        }[kind]

    def near(self, at: NDArray, others: Sequence[NDArray] = ()) -> tuple[Place | None, str]:
        """The place nearest to `at` where a pin can stand, within reach and apart from others; (None, why not right there)."""
        why = ""
        for off in _AROUND:
            found = self._apart(np.asarray(at, float)[:2] + off, others)
            if isinstance(found, Place):
                return found, why
            why = why or found.why
        return None, why

    def _apart(self, at: NDArray, others: Sequence[NDArray]) -> Place | No:
        found = self.ask(at)
        if isinstance(found, Place) and any(np.hypot(*(found.at - o)) < self.sizes.post_mm + 1.0 for o in others):
            return No("it would run into another pin")
        return found

    def map(self, step_mm: float) -> tuple[NDArray[np.float64], NDArray[np.int8]]:
        """((2,) where it begins, (nx, ny) the code of each place on a grid of `step_mm`)."""
        count = ((np.array(self.off.shape) - 1) * _CELL_MM / step_mm).astype(int) + 1
        at = np.stack(np.meshgrid(np.arange(count[0]), np.arange(count[1]), indexing="ij"), -1).reshape(-1, 2) * step_mm + self.low
        return self.low, self._asked(self.cell(at))[0].reshape(tuple(count))

    def anywhere(self, at: NDArray, others: Sequence[NDArray] = ()) -> Place | None:
        """The nearest place beside the models, however far."""
        ring = self._beside()
        for k in np.argsort(np.linalg.norm(ring - np.asarray(at, float)[:2], axis=1)):
            found = self._apart(ring[k], others)
            if isinstance(found, Place):
                return found
        return None

    def _beside(self) -> NDArray[np.float64]:
        """(k, 2) places just far enough from both models."""
        off = self.off - (self.sizes.radius + self.sizes.off_mm + 0.2)
        return np.argwhere(np.abs(off) < 0.75 * _CELL_MM)[::3] * _CELL_MM + self.low

    def by_itself(self, wanted: Sequence[str], taken: Sequence[NDArray]) -> tuple[dict[str, Place], dict[str, No]]:
        """({zone: place}, {zone: why there is none, for most of its places; where only a base is too low, the least that is
        missing}): in every zone that is wanted the place with the shortest struts, apart from all that are taken."""
        ring = self._beside()
        asked = {zone: self.ask_all(ring[[self._in(zone, at) for at in ring]]) for zone in wanted}
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
    return No(Counter(n.why.split(";")[0] for n in asked).most_common(1)[0][0], low, any(n.free for n in asked))
