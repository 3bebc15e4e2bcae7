"""Which tooth stands where along an arch: all sixteen at once, by the cheapest way through (place along the arch, number of the tooth)
as of Viterbi (1967). Widths, tables, borders, gaps and the midline have their price (prices.py); that settles merges, splits
and numbers. What a person has said of a place is no price but holds."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numba as nb
import numpy as np
from numpy.typing import NDArray

from .evidence import Evidence
from .line import STEP_MM
from .prices import ANY, COUNT, GROUND, KINDS, LASTING, MILK, MILKY, MIXED, NEVER, Mouth, Partly, Prices, Said, prices, windows_of
from .sizes import fdi_of

# Mouths are smaller or larger than the average as a whole; and by how much, usually.
_SCALES, _SCALE_SPREAD = (0.88, 0.94, 1.0, 1.06, 1.12), 0.06
# What costs so much is no beginning.
_NO_BEGINNING = 50.0
_MOUTHS = (LASTING, MIXED, MILKY)
# So little dearer, another kind of mouth is looked at as well: how crowns end on the gum tells them apart.
_HARDLY = 3.0
# How a step of the way was left.
_BEGUN, _GONE, _ROOM, _STANDS = 0, 1, 2, 3


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


@nb.njit(cache=True, nogil=True)
def _tooth(p, a, i, v):
    """What it costs that tooth v stands from a to i."""
    if p.named[i] - p.named[a] != p.own[v, i] - p.own[v, a]:
        return NEVER
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
        return NEVER
    wide = ((i - a) * STEP_MM - p.mean[k]) / (0.25 * p.mean[k])
    return p.missing[k] + min(0.5 * wide * wide, 3.5) + 6.0 * (p.stands[i] - p.stands[a]) * STEP_MM


@nb.njit(cache=True, nogil=True)
def _room(p, i):
    """What it costs to go on a step, from i - 1 to i, without a tooth."""
    return NEVER if p.held[i] > p.held[i - 1] else (0.9 + 6.0 * (p.stands[i] - p.stands[i - 1])) * STEP_MM


@nb.njit(cache=True, nogil=True)
def _at_midline(p, i, k):
    return 0.5 * ((i * STEP_MM - p.middle) / p.known_mm) ** 2 if k == COUNT // 2 - 1 else 0.0


@nb.njit(cache=True, nogil=True)
def _shortest(p, v):
    """(least, most) steps a tooth takes."""
    return max(1, int(0.62 * p.mean[v] / STEP_MM)), int(1.4 * p.mean[v] / STEP_MM)


@nb.njit(cache=True, nogil=True)
def _forth(p, begins):
    """begins : (slots + 1, g); cost (slots + 1, g) of having told so many slots up to each step, and back (…, 2): the step before,
    and how it was left."""
    g = len(p.parts)
    cost, back = np.full((COUNT + 1, g), NEVER), np.full((COUNT + 1, g, 2), -1, np.int32)
    for k in range(COUNT + 1):
        for i in range(g):
            if begins[k, i] < _NO_BEGINNING:
                cost[k, i] = begins[k, i]
                back[k, i, 1] = _BEGUN
        if k > 0:
            for i in range(g):
                if p.shut[i]:
                    continue
                best, where, how = cost[k, i], back[k, i, 0], back[k, i, 1]
                last = _at_midline(p, i, k - 1)
                for kind in range(KINDS):
                    v = k - 1 + COUNT * kind
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
    for k in range(COUNT, -1, -1):
        for i in range(g - 1, -1, -1):
            best = rest[k, i]
            if p.shut[i]:
                rest[k, i] = NEVER
                continue
            if k < COUNT:
                for kind in range(KINDS):
                    v = k + COUNT * kind
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
    out = np.full((KINDS * COUNT, len(places)), NEVER)
    for t in range(len(places)):
        s = places[t]
        for v in range(KINDS * COUNT):
            if p.price[v] > 50:
                continue
            k = v % COUNT
            low, high = _shortest(p, v)
            for a in range(max(s - high + 1, 0), s + 1):
                if cost[k, a] >= NEVER / 2:
                    continue
                for i in range(max(s + 1, a + low), min(a + high, len(p.parts) - 1) + 1):
                    if p.after[i] <= a and rest[k + 1, i] < NEVER / 2:
                        c = cost[k, a] + rest[k + 1, i] + _at_midline(p, i, k) + _tooth(p, a, i, v)
                        out[v, t] = min(out[v, t], c)
    return out


@dataclass(frozen=True)
class Numbered:
    """slots along the arch from the patient's right; scale : of this mouth; cost : of this reading; others : the best of other kinds of
    mouths, where they are hardly dearer"""

    slots: list[Slot]
    scale: float
    cost: float
    others: tuple[Numbered, ...] = ()

    def of_other_kind(self, which: Sequence[int]) -> Numbered:
        """These slots with milk teeth instead of lasting ones, or the other way round."""
        slots = [replace(s, fdi=s.fdi + (40 if s.fdi < 50 else -40)) if k in which else s for k, s in enumerate(self.slots)]
        return replace(self, slots=slots)


def numbered(found: Evidence, jaw: str, said: Said | None = None, *, part: Partly | None = None) -> Numbered | None:
    """The cheapest reading of an arch as upper or lower teeth that agrees with what was said; None where there is none. part : only a part
    of the arch is there."""
    said, windows = said or Said(), windows_of(np.clip(found.parts, 0, 1.8), found.table)
    of_mouths = [
        min((_read(found, jaw, said, mouth, scale, windows, part) for scale in _SCALES), key=lambda r: r.cost) for mouth in _MOUTHS
    ]
    best = min(of_mouths, key=lambda r: r.cost)
    if best.cost > NEVER / 2:
        return None
    near = [r for r in of_mouths if r is not best and r.cost < best.cost + _HARDLY]
    return replace(_told(best, of_mouths), others=tuple(_told(r, of_mouths) for r in near))


@dataclass(frozen=True)
class _Reading:
    """Of one kind of mouth of one size; slots as of _walked, forth as of _forth."""

    cost: float
    scale: float
    p: Prices
    forth: NDArray[np.float64]
    ends: NDArray[np.float64]
    slots: list[tuple[int, int, int, int]]


def _read(
    found: Evidence, jaw: str, said: Said, mouth: Mouth, scale: float, windows: tuple[NDArray, NDArray], part: Partly | None
) -> _Reading:  # fmt: skip
    p, free = prices(found, jaw, said, mouth, scale, windows, part=part)
    cost, back = _forth(p, free.begins)
    total = cost + free.ends + mouth.price + 0.5 * ((scale - 1) / _SCALE_SPREAD) ** 2
    k, i = divmod(int(total.argmin()), total.shape[1])
    return _Reading(float(total[k, i]), scale, p, cost, free.ends, _walked(back, k, i, jaw))


def _told(read: _Reading, of_mouths: Sequence[_Reading]) -> Numbered:
    slots = _how_sure(read.slots, read.p, read.forth, read.ends)
    return Numbered([_beside(slot, read, of_mouths) for slot in slots], read.scale, read.cost)


def _beside(slot: Slot, best: _Reading, others: Sequence[_Reading]) -> Slot:
    """No surer than the best reading as another kind of mouth allows, in which it is another tooth."""
    middle = (slot.first + slot.last) // 2
    differing = [abs(r.cost - best.cost) for r in others if all(fdi != slot.fdi for fdi, _, a, i in r.slots if a <= middle < i)]
    return replace(slot, sure=min([slot.sure, *differing]))


def _how_sure(slots: list[tuple[int, int, int, int]], p: Prices, cost: NDArray, ends: NDArray) -> list[Slot]:
    places = np.array([(a + i) // 2 for _, _, a, i in slots], np.int64)
    others = _with_others(p, cost, _onwards(p, ends), places)
    out = []
    for t, (fdi, v, a, i) in enumerate(slots):
        # Ground down or not, it is the same tooth.
        same = [v] if v // COUNT == MILK else [v % COUNT, v % COUNT + COUNT * GROUND]
        out.append(Slot(fdi, a, i, float(min(np.delete(others[:, t], same).min() - others[same, t].min(), 99.0))))
    return out


def _walked(back: NDArray, k: int, i: int, jaw: str) -> list[tuple[int, int, int, int]]:
    """(FDI, variant, first, last) from the patient's right on."""
    out: list[tuple[int, int, int, int]] = []
    while True:
        before, how = int(back[k, i, 0]), int(back[k, i, 1])
        if how <= _BEGUN:
            return out[::-1]
        if how >= _STANDS:
            kind = how - _STANDS
            out.append((fdi_of(k - 1, jaw, milk=kind == MILK), k - 1 + COUNT * kind, before, i))
        if how != _ROOM:
            k -= 1
        i = before


def can_be(found: Evidence, jaw: str, said: Said, *, part: Partly | None = None) -> bool:
    """Is there any reading that agrees with it? Milk teeth and lasting ones at will; widths as of mouths of every size."""
    windows = windows_of(np.clip(found.parts, 0, 1.8), found.table)
    for scale in (_SCALES[len(_SCALES) // 2], _SCALES[0], _SCALES[-1]):
        p, free = prices(found, jaw, said, ANY, scale, windows, part=part)
        if (_forth(p, free.begins)[0] + free.ends).min() < NEVER / 2:
            return True
    return False


def at_steps(found: Evidence, along: Sequence[float]) -> list[int]:
    """The steps of the grid within which places along the arch (mm) lie."""
    return [int(np.clip(a / STEP_MM, 0, len(found.grid) - 2)) for a in along]
