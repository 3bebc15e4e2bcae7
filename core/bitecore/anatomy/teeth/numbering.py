"""Which tooth stands where along an arch: all sixteen at once, by the cheapest way through (place along the arch, number of the tooth)
as of Viterbi (1967). Widths, tables, borders, gaps and the midline have their price; that settles merges, splits and numbers."""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import maximum_filter1d

from .evidence import Evidence
from .line import STEP_MM
from .sizes import SLOTS, TABLE, WIDE, fdi_of

_NEVER = 1e18
# Mouths are smaller or larger than the average as a whole; and by how much, usually.
_SCALES, _SCALE_SPREAD = (0.88, 0.94, 1.0, 1.06, 1.12), 0.06
# A tooth is as wide as usual within this share.
_WIDTH_SPREAD = 0.085
# What it costs that a tooth is missing: a third molar little, central incisors and canines most.
_MISSING = {8: 1.0, 1: 4.5, 3: 4.5}
_MISSING_ELSE = 3.0
# What it costs to begin (or end) after so many teeth, one after the other.
_BEGINS_AFTER = (0.2, 1.2, 3.0, 3.0, 3.0, 3.0)
_NO_BEGINNING = 99.0
# A crown that belongs to no tooth, for each mm.
_LEFT_OVER = 4.0
_MIDLINE_MM = 2.2


@dataclass(frozen=True)
class Slot:
    """A tooth along the arch, between two steps of the evidence's grid."""

    fdi: int
    first: int
    last: int

    @property
    def wide_mm(self) -> float:
        return (self.last - self.first) * STEP_MM


@nb.njit(cache=True, nogil=True)
def _tooth(a, i, mean, spread, table_mean, there, parts, inside, table, step):
    """What it costs that a tooth stands from a to i."""
    w = i - a
    wide = (w * step - mean) / spread
    filled = (there[i] - there[a]) / w
    t = (table[(a + i) // 2, w] - table_mean) / (0.16 * table_mean + 0.45)
    split = 1.6 * inside[(a + i) // 2, w]
    return 0.5 * wide * wide + 0.5 * min(t * t, 16.0) + 14.0 * max(0.0, 0.85 - filled) + 1.8 - parts[a] - parts[i] + split


@nb.njit(cache=True, nogil=True)
def _cheapest(parts, there, inside, table, mean, spread, table_mean, missing, begins, middle, step):
    """cost (slots + 1, g) of having told so many slots up to each step, and back (…, 2): the step before, and how it was left: 0
    begun, 1 a tooth, 2 one missing, 3 room."""
    slots, g = len(mean), len(parts)
    cost, back = np.full((slots + 1, g), _NEVER), np.full((slots + 1, g, 2), -1, np.int32)
    for k in range(slots + 1):
        for i in range(g):
            if begins[k] < 50:
                cost[k, i] = begins[k] + _LEFT_OVER * there[i] * step
                back[k, i, 1] = 0
        if k > 0:
            m = mean[k - 1]
            low, high = max(1, int(0.62 * m / step)), int(1.4 * m / step) + 1
            for i in range(g):
                best, where, how = cost[k, i], back[k, i, 0], back[k, i, 1]
                last = 0.0
                if k - 1 == slots // 2 - 1:
                    last = 0.5 * ((i * step - middle) / _MIDLINE_MM) ** 2
                for a in range(max(i - high + 1, 0), i - low + 1):
                    # Two borders that are as clear as can be take 1.8 off.
                    if cost[k - 1, a] < best + 2.0:
                        c = cost[k - 1, a] + last + _tooth(a, i, m, spread[k - 1], table_mean[k - 1], there, parts, inside, table, step)
                        if c < best:
                            best, where, how = c, a, 1
                for a in range(max(i - int(1.3 * m / step) + 1, 0), i + 1):
                    if cost[k - 1, a] < best:
                        wide = ((i - a) * step - m) / (0.25 * m)
                        c = cost[k - 1, a] + last + missing[k - 1] + min(0.5 * wide * wide, 3.5) + 6.0 * (there[i] - there[a]) * step
                        if c < best:
                            best, where, how = c, a, 2
                cost[k, i], back[k, i, 0], back[k, i, 1] = best, where, how
            for i in range(1, g):
                c = cost[k, i - 1] + (0.9 + 6.0 * (there[i] - there[i - 1])) * step
                if c < cost[k, i]:
                    cost[k, i], back[k, i, 0], back[k, i, 1] = c, i - 1, 3
    return cost, back


def _windows(parts: NDArray, table: NDArray) -> tuple[NDArray, NDArray]:
    """By middle and width in steps: the strongest border within the middle half of a tooth, and its mean table."""
    count, widest = len(parts), int(1.4 * 12.5 / STEP_MM) + 2
    inside, mean = np.zeros((count, widest)), np.zeros((count, widest))
    total = np.r_[0, np.cumsum(table)]
    for w in range(4, widest):
        h = max(1, int(w * 0.25))
        inside[:, w] = np.clip(maximum_filter1d(parts, 2 * h + 1) - 0.45, 0, 2)
        a, b = np.clip(np.arange(count) - h, 0, count), np.clip(np.arange(count) + h + 1, 0, count)
        mean[:, w] = (total[b] - total[a]) / np.maximum(b - a, 1)
    return inside, mean


@dataclass(frozen=True)
class Numbered:
    """slots along the arch from the patient's right; scale : of this mouth; cost : of this reading"""

    slots: list[Slot]
    scale: float
    cost: float


def numbered(found: Evidence, jaw: str) -> Numbered:
    """The cheapest reading of an arch as upper or lower teeth."""
    parts = np.clip(found.parts, 0, 1.8)
    there = np.cumsum(np.r_[0, found.there])[: len(found.grid)]
    left = found.there.sum() - there
    inside, table = _windows(parts, found.table)
    line = found.line
    ahead = line.points[:, 1] >= np.median(line.points[:, 1])
    middle = float(line.along[np.where(ahead, np.abs(line.points[:, 0]), np.inf).argmin()])
    wide, tables = (np.array([of[jaw][p - 1] for p in SLOTS]) for of in (WIDE, TABLE))
    missing = np.array([_MISSING.get(p, _MISSING_ELSE) for p in SLOTS])
    begins = np.full(len(SLOTS) + 1, _NO_BEGINNING)
    begins[: len(_BEGINS_AFTER) + 1] = np.r_[0, np.cumsum(_BEGINS_AFTER)]
    best: tuple[float, float, int, int, NDArray] | None = None
    for scale in _SCALES:
        mean = wide * scale
        cost, back = _cheapest(
            parts, there, inside, table, mean, _WIDTH_SPREAD * mean, tables * scale**0.5, missing, begins, middle, STEP_MM
        )  # fmt: skip
        for k in range(8, len(SLOTS) + 1):
            ends = cost[k] + _LEFT_OVER * left * STEP_MM + begins[len(SLOTS) - k] + 0.5 * ((scale - 1) / _SCALE_SPREAD) ** 2
            i = int(ends.argmin())
            if best is None or ends[i] < best[0]:
                best = (float(ends[i]), scale, k, i, back)
    assert best is not None
    return Numbered(_walked(best[4], best[2], best[3], jaw), best[1], best[0])


def _walked(back: NDArray, k: int, i: int, jaw: str) -> list[Slot]:
    out: list[Slot] = []
    while True:
        before, how = int(back[k, i, 0]), int(back[k, i, 1])
        if how <= 0:
            return out[::-1]
        if how == 1:
            out.append(Slot(fdi_of(k - 1, jaw), before, i))
        if how != 3:
            k -= 1
        i = before
