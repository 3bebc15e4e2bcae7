"""Which tooth stands where along an arch: all sixteen at once, by the cheapest way through (place along the arch, number of the tooth)
as of Viterbi (1967). Widths, tables, borders, gaps and the midline have their price; that settles merges, splits and numbers. What a
person has said of a place is no price but holds."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numba as nb
import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import maximum_filter1d

from .evidence import Evidence
from .line import STEP_MM
from .sizes import MILK_TABLE, MILK_WIDE, SLOTS, TABLE, WIDE, fdi_of

_NEVER = 1e18
_SLOTS = len(SLOTS)
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
# A crown before the first tooth or behind the last, for each mm: as far as it may be a pad, and farther.
_PAD, _LEFT_OVER, _PAD_MM = 0.5, 4.0, 8.0
_MIDLINE_MM = 2.2
# A place that is said to be on the same tooth as another lies so far within it (steps).
_WITHIN = int(1.2 / STEP_MM)
# Within so much of a stronger border there is no other.
_PEAK_MM = 1.5
# How a step of the way was left.
_BEGUN, _GONE, _ROOM, _STANDS = 0, 1, 2, 3
# A tooth of a slot may be a lasting one, a milk tooth, or ground down: so much narrower, and what that costs.
_KINDS, _MILK, _GROUND = 3, 1, 2
_STUMP, _STUMP_TABLE, _STUMP_PRICE, _STUMP_CHARTED = 0.80, 0.72, 2.2, 0.4


@dataclass(frozen=True)
class Slot:
    """A tooth along the arch, between two steps of the evidence's grid. sure : how much dearer the best reading is in which it is
    another tooth."""

    fdi: int
    first: int
    last: int
    sure: float = 0.0

    @property
    def wide_mm(self) -> float:
        return (self.last - self.first) * STEP_MM


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


class _Prices(NamedTuple):
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
    own: NDArray
    named: NDArray
    held: NDArray
    shut: NDArray
    after: NDArray


@nb.njit(cache=True, nogil=True)
def _tooth(p, a, i, v):
    """What it costs that tooth v stands from a to i."""
    if p.named[i] - p.named[a] != p.own[v, i] - p.own[v, a]:
        return _NEVER
    w = i - a
    wide = (w * STEP_MM - p.mean[v]) / p.spread[v]
    filled = (p.there[i] - p.there[a]) / w
    t = (p.tables[(a + i) // 2, w] - p.table[v]) / (0.16 * p.table[v] + 0.45)
    split = 1.6 * p.inside[(a + i) // 2, w]
    cost = 0.5 * wide * wide + 0.5 * min(t * t, 16.0) + 14.0 * max(0.0, 0.85 - filled) + 1.8 - p.parts[a] - p.parts[i] + split
    return cost + p.price[v]


@nb.njit(cache=True, nogil=True)
def _gone(p, a, i, k):
    """What it costs that the tooth of slot k is missing, its room from a to i."""
    if p.held[i] > p.held[a]:
        return _NEVER
    wide = ((i - a) * STEP_MM - p.mean[k]) / (0.25 * p.mean[k])
    return p.missing[k] + min(0.5 * wide * wide, 3.5) + 6.0 * (p.stands[i] - p.stands[a]) * STEP_MM


@nb.njit(cache=True, nogil=True)
def _room(p, i):
    """What it costs to go on a step, from i - 1 to i, without a tooth."""
    return _NEVER if p.held[i] > p.held[i - 1] else (0.9 + 6.0 * (p.stands[i] - p.stands[i - 1])) * STEP_MM


@nb.njit(cache=True, nogil=True)
def _beyond(mm):
    """What it costs that so much of a crown lies before the first tooth, or behind the last."""
    return _PAD * min(mm, _PAD_MM) + _LEFT_OVER * max(mm - _PAD_MM, 0.0)


@nb.njit(cache=True, nogil=True)
def _at_midline(p, i, k):
    return 0.5 * ((i * STEP_MM - p.middle) / _MIDLINE_MM) ** 2 if k == _SLOTS // 2 - 1 else 0.0


@nb.njit(cache=True, nogil=True)
def _shortest(p, v):
    """(least, most) steps a tooth takes."""
    return max(1, int(0.62 * p.mean[v] / STEP_MM)), int(1.4 * p.mean[v] / STEP_MM)


@nb.njit(cache=True, nogil=True)
def _forth(p, begins):
    """cost (slots + 1, g) of having told so many slots up to each step, and back (…, 2): the step before, and how it was left."""
    g = len(p.parts)
    cost, back = np.full((_SLOTS + 1, g), _NEVER), np.full((_SLOTS + 1, g, 2), -1, np.int32)
    for k in range(_SLOTS + 1):
        for i in range(g):
            if begins[k] < 50 and p.held[i] == 0 and not p.shut[i]:
                cost[k, i] = begins[k] + _beyond(p.there[i] * STEP_MM)
                back[k, i, 1] = _BEGUN
        if k > 0:
            for i in range(g):
                if p.shut[i]:
                    continue
                best, where, how = cost[k, i], back[k, i, 0], back[k, i, 1]
                last = _at_midline(p, i, k - 1)
                for kind in range(_KINDS):
                    v = k - 1 + _SLOTS * kind
                    if p.price[v] > 50:
                        continue
                    low, high = _shortest(p, v)
                    for a in range(max(i - high, p.after[i], 0), i - low + 1):
                        # Two borders that are as clear as can be take 1.8 off.
                        if cost[k - 1, a] < best + 2.0:
                            c = cost[k - 1, a] + last + _tooth(p, a, i, v)
                            if c < best:
                                best, where, how = c, a, _STANDS + kind
                for a in range(max(i - int(1.3 * p.mean[k - 1] / STEP_MM) + 1, 0), i + 1):
                    if cost[k - 1, a] < best:
                        c = cost[k - 1, a] + last + _gone(p, a, i, k - 1)
                        if c < best:
                            best, where, how = c, a, _GONE
                cost[k, i], back[k, i, 0], back[k, i, 1] = best, where, how
            for i in range(1, g):
                if not p.shut[i]:
                    c = cost[k, i - 1] + _room(p, i)
                    if c < cost[k, i]:
                        cost[k, i], back[k, i, 0], back[k, i, 1] = c, i - 1, _ROOM
    return cost, back


@nb.njit(cache=True, nogil=True)
def _onwards(p, ends):
    """(slots + 1, g) what the rest of the way costs from each place. ends : (slots + 1, g) to end there."""
    g = len(p.parts)
    rest = ends.copy()
    for k in range(_SLOTS, -1, -1):
        for i in range(g - 1, -1, -1):
            best = rest[k, i]
            if p.shut[i]:
                rest[k, i] = _NEVER
                continue
            if k < _SLOTS:
                for kind in range(_KINDS):
                    v = k + _SLOTS * kind
                    if p.price[v] > 50:
                        continue
                    low, high = _shortest(p, v)
                    for j in range(i + low, min(i + high, g - 1) + 1):
                        if p.after[j] <= i and rest[k + 1, j] < best + 2.0:
                            best = min(best, rest[k + 1, j] + _at_midline(p, j, k) + _tooth(p, i, j, v))
                for j in range(i, min(i + int(1.3 * p.mean[k] / STEP_MM), g)):
                    if rest[k + 1, j] < best:
                        best = min(best, rest[k + 1, j] + _at_midline(p, j, k) + _gone(p, i, j, k))
            if i + 1 < g and k > 0:
                best = min(best, rest[k, i + 1] + _room(p, i + 1))
            rest[k, i] = best
    return rest


@nb.njit(cache=True, nogil=True)
def _with_others(p, cost, rest, places):
    """(variants, places): the cheapest way on which that tooth stands at each of these steps."""
    out = np.full((_KINDS * _SLOTS, len(places)), _NEVER)
    for t in range(len(places)):
        s = places[t]
        for v in range(_KINDS * _SLOTS):
            if p.price[v] > 50:
                continue
            k = v % _SLOTS
            low, high = _shortest(p, v)
            for a in range(max(s - high + 1, 0), s + 1):
                if cost[k, a] >= _NEVER / 2:
                    continue
                for i in range(max(s + 1, a + low), min(a + high, len(p.parts) - 1) + 1):
                    if p.after[i] <= a and rest[k + 1, i] < _NEVER / 2:
                        c = cost[k, a] + rest[k + 1, i] + _at_midline(p, i, k) + _tooth(p, a, i, v)
                        out[v, t] = min(out[v, t], c)
    return out


def _windows(parts: NDArray, table: NDArray) -> tuple[NDArray, NDArray]:
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
class Numbered:
    """slots along the arch from the patient's right; scale : of this mouth; cost : of this reading"""

    slots: list[Slot]
    scale: float
    cost: float


@dataclass(frozen=True)
class _Mouth:
    """What kind of mouth it may be. price : of that; milk, lasting : of each tooth; begins : after so many slots"""

    price: float
    milk: float
    lasting: float
    begins: tuple[float, ...]


_LASTING = _Mouth(0.0, 99.0, 0.0, _BEGINS_AFTER)
_MIXED = _Mouth(2.5, 0.6, 0.25, (0.1, 0.3, 3.0, 3.0, 3.0, 3.0))
_MILKY = _Mouth(3.5, 0.0, 2.5, (0.1, 0.1, 0.1, 3.0, 3.0, 3.0))
_ANY = _Mouth(0.0, 0.0, 0.0, _BEGINS_AFTER)


def numbered(found: Evidence, jaw: str, said: Said | None = None) -> Numbered | None:
    """The cheapest reading of an arch as upper or lower teeth that agrees with what was said; None where there is none."""
    said, windows = said or Said(), _windows(np.clip(found.parts, 0, 1.8), found.table)
    best: tuple[float, float, _Mouth, _Prices, NDArray] | None = None
    for mouth in (_LASTING, _MIXED, _MILKY):
        for scale in _SCALES:
            p, begins, ends = _prices(found, jaw, said, mouth, scale, windows)
            cost, back = _forth(p, begins)
            price = mouth.price + 0.5 * ((scale - 1) / _SCALE_SPREAD) ** 2
            total = cost[8:] + ends[8:] + price
            if best is None or total.min() < best[0]:
                k, i = np.unravel_index(int(total.argmin()), total.shape)
                best = (float(total.min()), scale, mouth, p, np.array([k + 8, i]))
    assert best is not None
    if best[0] > _NEVER / 2:
        return None
    least, scale, mouth, p, at = best
    _, begins, ends = _prices(found, jaw, said, mouth, scale, windows)
    cost, back = _forth(p, begins)
    slots = _walked(back, int(at[0]), int(at[1]), jaw)
    return Numbered(_how_sure(slots, p, cost, ends), scale, least)


def _how_sure(slots: list[tuple[int, int, int, int]], p: _Prices, cost: NDArray, ends: NDArray) -> list[Slot]:
    ends = ends.copy()
    ends[:8] = _NEVER
    places = np.array([(a + i) // 2 for _, _, a, i in slots], np.int64)
    others = _with_others(p, cost, _onwards(p, ends), places)
    out = []
    for t, (fdi, v, a, i) in enumerate(slots):
        # Ground down or not, it is the same tooth.
        same = [v] if v // _SLOTS == _MILK else [v % _SLOTS, v % _SLOTS + _SLOTS * _GROUND]
        out.append(Slot(fdi, a, i, float(min(np.delete(others[:, t], same).min() - others[same, t].min(), 99.0))))
    return out


def _prices(
    found: Evidence, jaw: str, said: Said, mouth: _Mouth, scale: float, windows: tuple[NDArray, NDArray]
) -> tuple[_Prices, NDArray, NDArray]:  # fmt: skip
    """(the prices, begins by slots, ends by slots and step)."""
    parts = np.clip(found.parts, 0, 1.8)
    g = len(parts)
    there = np.cumsum(np.r_[0, found.there])[:g]
    inside, tables = windows
    line = found.line
    ahead = line.points[:, 1] >= np.median(line.points[:, 1])
    middle = float(line.along[np.where(ahead, np.abs(line.points[:, 0]), np.inf).argmin()])
    wide, table, price = (np.full(_KINDS * _SLOTS, x) for x in (5.0, 5.0, 99.0))
    for k, place in enumerate(SLOTS):
        wide[k], table[k] = WIDE[jaw][place - 1], TABLE[jaw][place - 1]
        price[k] = mouth.lasting if place < 6 else 0.0
        stump = k + _SLOTS * _GROUND
        wide[stump], table[stump] = wide[k] * _STUMP, table[k] * _STUMP_TABLE
        price[stump] = price[k] + (_STUMP_CHARTED if k in said.charted else _STUMP_PRICE)
        if place < 6:
            wide[k + _SLOTS], table[k + _SLOTS], price[k + _SLOTS] = MILK_WIDE[jaw][place - 1], MILK_TABLE[jaw][place - 1], mouth.milk
    for step, slot, milk in said.numbers:
        v = slot + _SLOTS * milk
        price[v] = min(price[v], 5.0) if step >= 0 else price[v]
    mean = wide * scale
    missing = np.array([_MISSING.get(place, _MISSING_ELSE) for place in SLOTS])
    begins = np.full(_SLOTS + 1, _NO_BEGINNING)
    begins[: len(mouth.begins) + 1] = np.r_[0, np.cumsum(mouth.begins)]
    own, named, held, shut, after = _held(said, g)
    # What is half a crown may be gum: a gap may be there.
    stands = np.cumsum(np.r_[0, np.clip((found.there - 0.4) / 0.6, 0, 1)])[:g]
    p = _Prices(
        parts,
        there,
        stands,
        inside,
        tables,
        mean,
        _WIDTH_SPREAD * mean,
        table * scale**0.5,
        price,
        missing,
        middle,
        own,
        named,
        held,
        shut,
        after,
    )
    left = np.array([_beyond(mm) for mm in (found.there.sum() - there) * STEP_MM])
    ends = np.where(held[-1] > held, _NEVER, left)[None] + begins[::-1, None]
    return p, begins, ends


def _held(said: Said, g: int) -> tuple[NDArray, NDArray, NDArray, NDArray, NDArray]:
    own, named, held = np.zeros((_KINDS * _SLOTS, g), np.int32), np.zeros(g, np.int32), np.zeros(g, np.int32)
    shut, after = np.zeros(g, bool), np.zeros(g, np.int64)
    for step, slot, milk in said.numbers:
        for kind in (_MILK,) if milk else (0, _GROUND):
            own[slot + _SLOTS * kind, step + 1 :] += 1
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


def _walked(back: NDArray, k: int, i: int, jaw: str) -> list[tuple[int, int, int, int]]:
    """(FDI, variant, first, last) from the patient's right on."""
    out: list[tuple[int, int, int, int]] = []
    while True:
        before, how = int(back[k, i, 0]), int(back[k, i, 1])
        if how <= _BEGUN:
            return out[::-1]
        if how >= _STANDS:
            kind = how - _STANDS
            out.append((fdi_of(k - 1, jaw, milk=kind == _MILK), k - 1 + _SLOTS * kind, before, i))
        if how != _ROOM:
            k -= 1
        i = before


def can_be(found: Evidence, jaw: str, said: Said) -> bool:
    """Is there any reading that agrees with it? Milk teeth and lasting ones at will; widths as of mouths of every size."""
    windows = _windows(np.clip(found.parts, 0, 1.8), found.table)
    for scale in (_SCALES[len(_SCALES) // 2], _SCALES[0], _SCALES[-1]):
        p, begins, ends = _prices(found, jaw, said, _ANY, scale, windows)
        if (_forth(p, begins)[0][8:] + ends[8:]).min() < _NEVER / 2:
            return True
    return False


def at_steps(found: Evidence, along: Sequence[float]) -> list[int]:
    """The steps of the grid within which places along the arch (mm) lie."""
    return [int(np.clip(a / STEP_MM, 0, len(found.grid) - 2)) for a in along]
