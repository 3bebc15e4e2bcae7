"""Bodies packed on a plate by what they cover of it, not by their boxes: each to the lowest free place, in any of four quarter turns, and
several orders tried (greedy bottom-left with restarts, as in textbooks of two-dimensional packing; own code)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import chain

import numba as nb
import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from .heights import heights

CELL_MM = 0.5
# An outline lies so near to a place of the raster that is covered: half a disc of a cell's diagonal holds one, whichever way it looks.
BEYOND_MM = CELL_MM * 1.4143
# What a place costs: how far up, how far along, and where the body ends then (of a cell).
_UP, _ALONG, _TOP, _END = 1.0, 0.35, 0.5, 0.2
# So many bodies are placed in about two seconds, over all orders.
_PLACED = 450
Turn = int
# In this order, each by this turn or, None, by any.
_Plan = list[tuple[str, Turn | None]]


@dataclass(frozen=True)
class Foot:
    """What a body covers of the plate from above.

    cells : (nx, ny), one every CELL_MM; low : (2,) the place of cell 0, 0 (mm); front : (2,) where it looks, in the plan; nought: nowhere
    """

    cells: NDArray[np.bool_]
    low: NDArray[np.float64]
    front: tuple[float, float] = (0.0, 0.0)


@dataclass(frozen=True)
class Spot:
    """plate : which one; turn : quarters, counter-clockwise; at : (2,) where cell 0, 0 of the turned foot comes to lie (mm)"""

    plate: int
    turn: Turn
    at: NDArray[np.float64]


def foot_of(
    points: NDArray[np.float64], faces: NDArray[np.int32], *, front: tuple[float, float] = (0.0, 0.0), room_mm: float = 0.0,
    cell_mm: float = CELL_MM,
) -> Foot:  # fmt: skip
    """points : (n, 3) mm as they lie; room_mm : so much around it is its own too (a raft); cell_mm : of what is packed CELL_MM"""
    more = int(np.ceil(room_mm / cell_mm)) + 1
    low = (np.floor(points[:, :2].min(0) / cell_mm) - more) * cell_mm
    nx, ny = (np.ceil((points[:, :2].max(0) - low) / cell_mm).astype(int) + 1 + more).tolist()
    on = np.isfinite(heights(points, faces, low, (nx, ny), cell_mm)[1])
    if room_mm > 0:
        on = ndimage.distance_transform_edt(~on) * cell_mm <= room_mm
    return _cropped(ndimage.binary_fill_holes(on), low, front, cell_mm)


def box_foot(size_mm: NDArray[np.float64]) -> Foot:
    """Of a rectangle from the origin on."""
    nx, ny = (np.floor(np.asarray(size_mm)[:2] / CELL_MM + 1e-6).astype(int) + 1).tolist()
    return Foot(np.ones((nx, ny), bool), np.zeros(2))


def _cropped(on: NDArray[np.bool_], low: NDArray, front: tuple[float, float], cell_mm: float) -> Foot:
    if not on.any():
        return Foot(np.ones((1, 1), bool), low, front)
    x, y = (np.flatnonzero(on.any(axis)) for axis in (1, 0))
    return Foot(np.ascontiguousarray(on[x[0] : x[-1] + 1, y[0] : y[-1] + 1]), low + cell_mm * np.array([x[0], y[0]]), front)


@dataclass(frozen=True)
class _Turned:
    """A foot in one of its turns. spans : (k, 3) column, from, to of what it covers; grown : with the gap around; off : cells of it"""

    cells: NDArray[np.bool_]
    spans: NDArray[np.int64]
    grown: NDArray[np.bool_]
    off: int
    front: tuple[float, float]


def _turned(foot: Foot, gap_mm: float, turns: Sequence[Turn]) -> list[_Turned | None]:
    out: list[_Turned | None] = [None] * 4
    off = int(np.ceil((gap_mm + 2 * BEYOND_MM) / CELL_MM))
    for turn in turns:
        cells = np.ascontiguousarray(np.rot90(foot.cells, turn))
        grown = ndimage.distance_transform_edt(~np.pad(cells, off)) * CELL_MM < gap_mm + 2 * BEYOND_MM
        x, y = foot.front
        for _ in range(turn):
            x, y = -y, x
        out[turn] = _Turned(cells, _spans(cells), grown, off, (x, y))
    return out


def _spans(cells: NDArray[np.bool_]) -> NDArray[np.int64]:
    edge = np.diff(np.pad(cells.astype(np.int8), ((0, 0), (1, 1))), axis=1)
    column, start = np.nonzero(edge == 1)
    _, end = np.nonzero(edge == -1)
    spans = np.c_[column, start, end].astype(np.int64)
    # The longest first: what is not free is soonest seen there.
    return spans[np.argsort(start - end, kind="stable")]


@nb.njit(cache=True, nogil=True)
def _lowest(total, spans, wide, deep, front_x, front_y, weight, best):
    """(cost, x, y) of the cheapest free place, or of `best` where none is cheaper. total : (nx, ny + 1) sums of what is taken along y."""
    nx, ny = total.shape[0], total.shape[1] - 1
    found_x, found_y = -1, -1
    for y in range(ny - deep + 1):
        if _UP * y + _TOP * (y + deep) + _END * wide - weight >= best:
            break
        for x in range(nx - wide + 1):
            plain = _UP * y + _ALONG * x + _TOP * (y + deep) + _END * (x + wide)
            if plain - weight >= best:
                break
            looks = front_x * (2.0 * (x + wide / 2) / nx - 1) + front_y * (2.0 * (y + deep / 2) / ny - 1)
            cost = plain + weight * looks / 2
            if cost >= best:
                continue
            free = True
            for s in range(len(spans)):
                column = x + spans[s, 0]
                if total[column, y + spans[s, 2]] > total[column, y + spans[s, 1]]:
                    free = False
                    break
            if free:
                best, found_x, found_y = cost, x, y
    return best, found_x, found_y


@dataclass
class _Plate:
    taken: NDArray[np.bool_]

    def sums(self) -> NDArray[np.int32]:
        return np.concatenate([np.zeros((len(self.taken), 1), np.int32), np.cumsum(self.taken, axis=1, dtype=np.int32)], axis=1)

    def put(self, one: _Turned, x: int, y: int) -> None:
        low, high = np.array([x, y]) - one.off, np.array([x, y]) - one.off + one.grown.shape
        a = np.maximum(low, 0)
        b = np.maximum(np.minimum(high, self.taken.shape), a)  # one that is locked may lie off the plate
        self.taken[a[0] : b[0], a[1] : b[1]] |= one.grown[a[0] - low[0] : b[0] - low[0], a[1] - low[1] : b[1] - low[1]]


@dataclass(frozen=True)
class Packed:
    """spots : by name; left : those that no plate holds; used : (2,) of the last plate, from its corner on (mm); plates : how many"""

    spots: Mapping[str, Spot]
    left: list[str]
    used: NDArray[np.float64]
    plates: int


def packed(
    feet: Mapping[str, Foot], room_mm: NDArray[np.float64], *, gap_mm: float, plates: int = 1, inwards_mm: float = 0.0,
    tries: int | None = None, locked: Mapping[str, Spot] | None = None, turns: Mapping[str, Sequence[Turn]] | None = None,
) -> Packed:  # fmt: skip
    """On so many plates at most, from the corner of each room (width, depth in mm) on; two bodies are gap_mm apart at least.

    inwards_mm : so much farther a body may lie to look to the middle; locked : those that stay where they are; turns : those that a
    body may be turned by, all four where it is not named; tries : orders after the first; None: as many
    as take about two seconds, where the first leaves something out or takes more than one plate
    """
    shape = tuple((np.floor(np.asarray(room_mm, float) / CELL_MM + 1e-6).astype(int) + 1).tolist())
    ready = {name: _turned(foot, gap_mm, (turns or {}).get(name, (0, 1, 2, 3))) for name, foot in feet.items()}
    fixed = dict(locked or {})
    free = [name for name in feet if name not in fixed]
    rng = np.random.default_rng(0)
    best_plan: _Plan = [(name, None) for name in sorted(free, key=lambda n: -int(feet[n].cells.sum()))]

    def tried(plan: _Plan, looks_mm: float = 0.0) -> Packed:
        return _packed(plan, ready, fixed, shape, plates, 2 * looks_mm / CELL_MM)

    def seen(made: Packed) -> Packed:
        return _looking_in(made, ready, fixed, shape) if inwards_mm else made

    best = tried(best_plan, inwards_mm)
    if tries is None:
        # Where all lies on one plate no other order is better.
        tries = _PLACED // max(len(free), 1) if best.left or best.plates > 1 else 0
    if not tries or not free:
        return seen(best)
    # That all has room comes before where it looks; which of both packs nearer, nobody knows before.
    for k, plan in enumerate(chain([best_plan], (_changed(best_plan, rng) for _ in range(tries)))):
        made = tried(plan, inwards_mm if k % 2 else 0.0)
        if _worth(made, feet) <= _worth(best, feet):
            best, best_plan = made, plan
    looking = tried(best_plan, inwards_mm)
    return seen(looking if _worth(looking, feet)[:2] <= _worth(best, feet)[:2] else best)


def _looking_in(made: Packed, ready: Mapping[str, list[_Turned | None]], fixed: Mapping[str, Spot], shape: tuple[int, ...]) -> Packed:
    """Whatever looks away from the middle of all that lies on its plate is turned about where it lies, as far as it has room so."""
    spots = dict(made.spots)

    def of(name: str, spot: Spot) -> tuple[_Turned, int, int]:
        one = ready[name][spot.turn]
        assert one is not None
        x, y = np.round(spot.at / CELL_MM).astype(int).tolist()
        return one, x, y

    for number in range(made.plates):
        here = [name for name, spot in spots.items() if spot.plate == number]
        boxes = np.array([[[x, y], [x + one.cells.shape[0], y + one.cells.shape[1]]] for one, x, y in (of(n, spots[n]) for n in here)])
        # All are set in the middle of the plate afterwards, where none is locked.
        middle = np.array(shape) / 2 if fixed else (boxes[:, 0].min(0) + boxes[:, 1].max(0)) / 2 if len(boxes) else np.zeros(2)
        for name, box in zip(here, boxes, strict=True):
            spot = spots[name]
            one, x, y = of(name, spot)
            about = ready[name][(spot.turn + 2) % 4]
            if name in fixed or about is None or float(np.dot(one.front, middle - box.mean(0))) >= -1e-6:
                continue
            others = _Plate(np.zeros(shape, bool))
            for other in here:
                if other != name:
                    others.put(*of(other, spots[other]))
            wide, deep = about.cells.shape
            if not (others.taken[x : x + wide, y : y + deep] & about.cells).any():
                spots[name] = Spot(number, (spot.turn + 2) % 4, spot.at)
    return Packed(spots, made.left, made.used, made.plates)


def _changed(plan: _Plan, rng: np.random.Generator) -> _Plan:
    """One or a few taken out and put in elsewhere, some of them turned by so much whether that is lowest or not."""
    out = list(plan)
    for _ in range(int(rng.integers(1, 4))):
        name, _ = out.pop(int(rng.integers(len(out))))
        turn = int(rng.integers(4)) if rng.random() < 0.7 else None
        out.insert(int(rng.integers(len(out) + 1)), (name, turn))
    return out


def _worth(made: Packed, feet: Mapping[str, Foot]) -> tuple[float, ...]:
    """The less the better: what is left out, plates, how much of the last is used."""
    left = sum(float(feet[name].cells.sum()) for name in made.left)
    return left, made.plates, float(made.used[0] * made.used[1])


def _packed(
    plan: _Plan, ready: Mapping[str, list[_Turned | None]], fixed: Mapping[str, Spot], shape: tuple[int, ...], most: int, weight: float
) -> Packed:
    plates: list[_Plate] = []
    spots, left = dict(fixed), []
    ends = np.zeros((most, 2))

    def onto(number: int) -> _Plate:
        while len(plates) <= number:
            plates.append(_Plate(np.zeros(shape, bool)))
        return plates[number]

    def put(name: str, number: int, turn: Turn, x: int, y: int) -> None:
        one = ready[name][turn]
        assert one is not None
        onto(number).put(one, x, y)
        ends[number] = np.maximum(ends[number], np.array([x, y]) + one.cells.shape)

    for name, spot in fixed.items():
        x, y = np.round(spot.at / CELL_MM).astype(int).tolist()
        put(name, spot.plate, spot.turn, x, y)
    for name, turn in plan:
        ways = ready[name]
        if turn is not None and ways[turn] is not None:
            ways = [one if k == turn else None for k, one in enumerate(ways)]
        for number in range(most):
            if (there := _place(ways, onto(number), weight)) is not None:
                put(name, number, *there)
                spots[name] = Spot(number, there[0], CELL_MM * np.array(there[1:], float))
                break
        else:
            left.append(name)
    count = 1 + max((spot.plate for spot in spots.values()), default=-1)
    return Packed(spots, left, (ends[max(count - 1, 0)] - 1).clip(0) * CELL_MM, count)


def _place(turned: list[_Turned | None], plate: _Plate, weight: float) -> tuple[Turn, int, int] | None:
    total = plate.sums()
    best, out = np.inf, None
    for turn, one in enumerate(turned):
        if one is None or one.cells.shape[0] > total.shape[0] or one.cells.shape[1] > total.shape[1] - 1:
            continue
        looks = weight if any(one.front) else 0.0
        cost, x, y = _lowest(total, one.spans, *one.cells.shape, *one.front, looks, best)
        if x >= 0:
            best, out = cost, (turn, x, y)
    return out
