"""What every reading of an arch is charged: widths, tables, what kind of mouth it may be, where it may begin and end, and what a person
has said of places."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import maximum_filter1d

from .evidence import Evidence
from .line import STEP_MM
from .sizes import MILK_TABLE, MILK_WIDE, SLOTS, TABLE, WIDE

NEVER = 1e18
COUNT = len(SLOTS)
# A tooth of a slot may be a lasting one, a milk tooth, or ground down: so much narrower, and what that costs.
KINDS, MILK, GROUND = 3, 1, 2
_STUMP, _STUMP_TABLE, _STUMP_PRICE, _STUMP_CHARTED = 0.80, 0.72, 2.2, 0.4
# A tooth is as wide as usual within this share.
_WIDTH_SPREAD = 0.085
# What it costs that a tooth is missing: a third molar little, central incisors and canines most.
_MISSING = {8: 1.0, 1: 4.5, 3: 4.5}
_MISSING_ELSE = 3.0
# What it costs to begin (or end) after so many teeth, one after the other.
_BEGINS_AFTER = (0.2, 1.2, 3.0, 3.0, 3.0, 3.0)
_NO_BEGINNING = 99.0
# A crown before the first tooth or behind the last, for each mm: as far as it may be a pad, and farther.
_PAD, _LEFT_OVER, _PAD_MM = 0.5, 4.0, 8.0
# The midline of an arch is known so well. A part of one may begin and end anywhere, for so much.
_MIDLINE_MM, _PART_BEGINS = 2.2, 0.2
# The fewest slots of an arch that are told; of a part.
_LEAST, _LEAST_PART = 8, 1
# A place that is said to be on the same tooth as another lies so far within it (steps).
_WITHIN = int(1.2 / STEP_MM)
# Within so much of a stronger border there is no other.
_PEAK_MM = 1.5


@dataclass(frozen=True)
class Partly:
    """Only a part of the arch is there: midline_mm, how well it is known where its midline lies; sure : 0 to 1, that it is this part."""

    midline_mm: float
    sure: float


@dataclass(frozen=True)
class Said:
    """What a person says of places, by steps of the evidence's grid.

    numbers  : (step, slot, milk tooth?): that tooth stands there
    together : (step, step): one tooth stands at both
    apart    : (step, step): they are not on the same tooth
    charted  : slots the case is for: such teeth may be ground down
    """

    numbers: tuple[tuple[int, int, bool], ...] = ()
    together: tuple[tuple[int, int], ...] = ()
    apart: tuple[tuple[int, int], ...] = ()
    charted: frozenset[int] = frozenset()


class Prices(NamedTuple):
    """All the kernels ask. By variant (slot, 16 on for milk teeth, 32 on for stumps): mean, spread, table, price, own; by slot: missing; by
    step the rest. own, named, held : how many steps before are said to be that tooth, some tooth by number, some tooth at all; shut : no
    tooth begins or ends there; after : a tooth that ends there begins after this."""

    parts: NDArray
    there: NDArray
    stands: NDArray
    inside: NDArray
    tables: NDArray
    mean: NDArray
    spread: NDArray
    table: NDArray
    price: NDArray
    missing: NDArray
    middle: float
    known_mm: float
    own: NDArray
    named: NDArray
    held: NDArray
    shut: NDArray
    after: NDArray


@dataclass(frozen=True)
class Mouth:
    """What kind of mouth it may be. price : of that; milk, lasting : of each such tooth, by place 1 to 5; molar : of each lasting molar;
    begins : after so many slots"""

    price: float
    milk: tuple[float, ...]
    lasting: tuple[float, ...]
    begins: tuple[float, ...]
    molar: float = 0.0


# While teeth change the first molars and the incisors are lasting ones before canines and premolars are (ages at which they come through:
# Logan and Kronfeld, 1933; from memory: incisors and first molars at 6 to 9 years, canines and premolars at 9 to 12).
LASTING = Mouth(0.0, (99.0,) * 5, (0.0,) * 5, _BEGINS_AFTER)
# One mouth in ten is taken to be changing its teeth (no source).
MIXED = Mouth(2.3, (2.5, 1.8, 0.2, 0.2, 0.2), (0.0, 0.0, 0.7, 0.9, 0.9), (0.1, 0.3, 3.0, 3.0, 3.0, 3.0))
MILKY = Mouth(3.5, (0.0,) * 5, (2.5,) * 5, (0.1, 0.1, 0.1, 3.0, 3.0, 3.0), 2.5)
ANY = Mouth(0.0, (0.0,) * 5, (0.0,) * 5, _BEGINS_AFTER)


def windows_of(parts: NDArray, table: NDArray) -> tuple[NDArray, NDArray]:
    """By middle and width in steps: the strongest border within the middle half of a tooth, and its mean table."""
    count, widest = len(parts), int(1.4 * 12.5 / STEP_MM) + 2
    inside, mean = np.zeros((count, widest)), np.zeros((count, widest))
    total = np.r_[0, np.cumsum(table)]
    # The slopes of a border at the end of a tooth are none within it.
    peaks = np.where(parts >= maximum_filter1d(parts, 2 * int(_PEAK_MM / STEP_MM) + 1) - 1e-9, parts, 0)
    for w in range(4, widest):
        h = max(1, int(w * 0.25))
        inside[:, w] = np.clip(maximum_filter1d(peaks, 2 * h + 1) - 0.45, 0, 2)
        a, b = np.clip(np.arange(count) - h, 0, count), np.clip(np.arange(count) + h + 1, 0, count)
        mean[:, w] = (total[b] - total[a]) / np.maximum(b - a, 1)
    return inside, mean


@dataclass(frozen=True)
class Ends:
    """(slots + 1, g) what it costs to begin, and to end, after so many slots at each step."""

    begins: NDArray[np.float64]
    ends: NDArray[np.float64]


def prices(
    found: Evidence, jaw: str, said: Said, mouth: Mouth, scale: float, windows: tuple[NDArray, NDArray], *, part: Partly | None = None
) -> tuple[Prices, Ends]:  # fmt: skip
    """Of one kind of mouth, so large. part : only a part of the arch is there, which may begin and end anywhere."""
    parts = np.clip(found.parts, 0, 1.8)
    g = len(parts)
    there = np.cumsum(np.r_[0, found.there])[:g]
    inside, tables = windows
    line = found.line
    ahead = line.points[:, 1] >= np.median(line.points[:, 1])
    middle = float(line.along[np.where(ahead, np.abs(line.points[:, 0]), np.inf).argmin()])
    wide, table, price = _teeth(jaw, said, mouth)
    mean = wide * scale
    missing = np.array([_MISSING.get(place, _MISSING_ELSE) for place in SLOTS])
    own, named, held, shut, after = _held(said, g)
    # What is half a crown may be gum: a gap may be there.
    stands = np.cumsum(np.r_[0, np.clip((found.there - 0.4) / 0.6, 0, 1)])[:g]
    known_mm = part.midline_mm if part else _MIDLINE_MM
    p = Prices(
        parts, there, stands, inside, tables, mean, _WIDTH_SPREAD * mean, table * scale**0.5, price, missing, middle, known_mm, own, named,
        held, shut, after,
    )  # fmt: skip
    return p, _ends(found, p, mouth, part is not None)


def _teeth(jaw: str, said: Said, mouth: Mouth) -> tuple[NDArray, NDArray, NDArray]:
    """By variant: width, table, price."""
    wide, table, price = (np.full(KINDS * COUNT, x) for x in (5.0, 5.0, 99.0))
    for k, place in enumerate(SLOTS):
        wide[k], table[k] = WIDE[jaw][place - 1], TABLE[jaw][place - 1]
        price[k] = mouth.lasting[place - 1] if place < 6 else mouth.molar
        stump = k + COUNT * GROUND
        wide[stump], table[stump] = wide[k] * _STUMP, table[k] * _STUMP_TABLE
        price[stump] = price[k] + (_STUMP_CHARTED if k in said.charted else _STUMP_PRICE)
        if place < 6:
            wide[k + COUNT], table[k + COUNT], price[k + COUNT] = (
                MILK_WIDE[jaw][place - 1],
                MILK_TABLE[jaw][place - 1],
                mouth.milk[place - 1],
            )
    for step, slot, milk in said.numbers:
        v = slot + COUNT * milk
        price[v] = min(price[v], 5.0) if step >= 0 else price[v]
    return wide, table, price


def _ends(found: Evidence, p: Prices, mouth: Mouth, part: bool) -> Ends:
    g, half = len(p.parts), COUNT // 2
    before = np.array([beyond(mm) for mm in p.there * STEP_MM])
    left = np.array([beyond(mm) for mm in (found.there.sum() - p.there) * STEP_MM])
    after = np.full(COUNT + 1, _NO_BEGINNING)
    after[: len(mouth.begins) + 1] = np.r_[0, np.cumsum(mouth.begins)]
    begins, ends = before[None] + after[:, None], left[None] + after[::-1, None]
    least = _LEAST
    if part:
        least = _LEAST_PART
        begins, ends = (np.repeat(cost[None], COUNT + 1, axis=0) + _PART_BEGINS for cost in (before, left))
        at = np.arange(g) * STEP_MM
        for k in range(half, COUNT + 1):
            # What has not reached the midline stands off it as far as the teeth between them are wide.
            begins[k] += 0.5 * ((at - p.middle - p.mean[half:k].sum()) / p.known_mm) ** 2
            ends[COUNT - k] += 0.5 * ((p.middle - p.mean[COUNT - k : half].sum() - at) / p.known_mm) ** 2
    begins[:, (p.held > 0) | p.shut] = NEVER
    ends[:, p.held[-1] > p.held] = NEVER
    ends[:least] = NEVER
    return Ends(begins, ends)


def beyond(mm: float) -> float:
    """What it costs that so much of a crown lies before the first tooth, or behind the last."""
    return _PAD * min(mm, _PAD_MM) + _LEFT_OVER * max(mm - _PAD_MM, 0.0)


def _held(said: Said, g: int) -> tuple[NDArray, NDArray, NDArray, NDArray, NDArray]:
    own, named, held = np.zeros((KINDS * COUNT, g), np.int32), np.zeros(g, np.int32), np.zeros(g, np.int32)
    shut, after = np.zeros(g, bool), np.zeros(g, np.int64)
    for step, slot, milk in said.numbers:
        for kind in (MILK,) if milk else (0, GROUND):
            own[slot + COUNT * kind, step + 1 :] += 1
        named[step + 1 :] += 1
        held[step + 1 :] += 1
    for a, b in said.together:
        # What a person points at is no rim of a tooth.
        a, b = max(a - _WITHIN, 0), min(b + _WITHIN, g - 2)
        shut[a + 1 : b + 1] = True
        held[a + 1 :] += 1
    for a, b in said.apart:
        after[b + 1 :] = np.maximum(after[b + 1 :], a + 1)
    return own, named, held, shut, after
