"""What is measured on an arch of known plane and front to tell an upper from a lower.

Facts of anatomy (Nelson and Ash, Wheeler's Dental Anatomy, Physiology and Occlusion; from memory): the four lower front teeth
are narrow and about equally wide, the upper central incisors are the widest; lower back teeth lean to the tongue and their
inner cusps lie under the outer ones, upper back teeth lean to the cheek and their inner cusps reach past the outer ones (curve
of Wilson); upper molars are thicker across the arch, and beside them the gum runs to the palate, while that of the lower falls
straight down; the tips of the lower stand in a hollow curve (curve of Spee); the lower arch lies within the upper.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d

from .along import Alongside, alongside

EMBRASURES, INNER_CUSPS, CURVE = "embrasures of the front teeth", "inner cusps at the molars", "hollow curve of the tips"
TONGUE_SIDE = "tongue side at the molars"
INNER_MOLARS, INNER_PREMOLARS, OUTER_MOLARS = (
    "inner width at the first molars", "inner width at the premolars", "outer width at the second molars",
)  # fmt: skip
# Embrasures in mm from the midline: sums of the mesio-distal widths of published tables (Wheeler, Black; from memory).
_EMBRASURES = {"upper": np.array([0, 8.7, 15.2, 22.8, 30.0]), "lower": np.array([0, 5.2, 10.9, 17.8, 25.0])}
_STEP_MM, _COARSE_MM, _FRONT_MM, _SHOWN_MM = 0.25, 0.5, 27.0, 24.5
_UNLIKE = 0.1
# The midline may lie so far off; so much of the front has to be seen, so near to its ends no notch counts, and so many have to be there.
_SHIFT_MM, _SEEN_MM, _EDGE_MM, _NOTCHES = 2.0, 16.0, 1.5, 4
# One deep notch does not stand for those that are missing: none counts for more, and the two shallowest count again.
_DEEPEST, _SHALLOWEST = 1.5, 2
_HALF_MM, _BIN_MM = 56.0, 1.0
# Where the molars of either jaw stand along the arch.
_MOLARS = (36.0, 52.0)
# What lies so far under the plane is no crown; so many stretches (mm) of a kind have to be there.
_LOST_MM, _LEAST = 3.0, 6
# Under the crowns, over what most scans reach.
_GUM_MM = (-9.0, -7.5)
# The buccal cusps of the first molars stand at least so far behind the incisors (generated arches of the table's sizes).
_MOLARS_MM = 22.0
# Arches widen by 6 to 8 mm from premolars to molars; by more than this only where a molar is missing (the same arches).
_ASTRAY_MM = 11.0
# Tips farther apart than this along the arch have a missing tooth between them (the same arches).
_GAP_MM = 8.5


def signs(local: NDArray[np.float64], tips: NDArray[np.float64]) -> dict[str, float]:
    """The measures in mm (the curve in mm per (20 mm)², the embrasures in their own scatter). local : (n, 3) vertices side,
    back, up from the incisal point; tips : (k, 3) likewise. NaN where there is nothing to measure."""
    beside = alongside(local, tips)
    molars, premolars = _inner(local, 27.0), _inner(local, 14.0)
    return {
        EMBRASURES: embrasures(beside),
        INNER_CUSPS: _inner_cusps(beside),
        TONGUE_SIDE: _tongue_side(beside),
        INNER_MOLARS: np.nan if molars - premolars > _ASTRAY_MM else molars,
        INNER_PREMOLARS: premolars,
        OUTER_MOLARS: _outer(local, 34.0),
        CURVE: _hollow(tips),
    }


def _inner_cusps(beside: Alongside) -> float:
    """How far those of the molars lie under the outer ones (mm), in the middle of both sides."""
    at, points, count = _binned(beside)

    def highest(low: float, high: float) -> NDArray[np.float64]:
        pick = (points.across > low) & (points.across < high)
        return _largest(at[pick], points.height[pick], count)

    outer, inner = highest(-2.6, 2.2), highest(-8.5, -3.8)
    away = np.abs((np.arange(count) + 0.5) * _BIN_MM - _HALF_MM)
    there = (away >= _MOLARS[0]) & (away < _MOLARS[1]) & np.isfinite(outer - inner) & (np.fmax(outer, inner) > -_LOST_MM)
    return float(np.median((outer - inner)[there])) if there.sum() >= _LEAST else np.nan


def _tongue_side(beside: Alongside) -> float:
    """How far the gum beside the molars, under their crowns, lies from the line of the outer cusps (mm, to the cheek plus)."""
    at, points, count = _binned(beside)
    pick = (points.height > _GUM_MM[0]) & (points.height < _GUM_MM[1]) & (points.across < 0)
    farthest = -_largest(at[pick], -points.across[pick], count)
    away = np.abs((np.arange(count) + 0.5) * _BIN_MM - _HALF_MM)
    there = (away >= _MOLARS[0]) & (away < _MOLARS[1]) & np.isfinite(farthest)
    return float(np.median(farthest[there])) if there.sum() >= _LEAST else np.nan


def _binned(beside: Alongside) -> tuple[NDArray[np.int64], Alongside, int]:
    """(which millimetre along the arch each point lies on, the points that lie on one, how many there are)."""
    place = np.floor((beside.along + _HALF_MM) / _BIN_MM).astype(int)
    count = int(2 * _HALF_MM / _BIN_MM)
    on = (place >= 0) & (place < count)
    return place[on], beside.where(on), count


def _largest(at: NDArray, values: NDArray, count: int) -> NDArray[np.float64]:
    out = np.full(count, -np.inf)
    np.maximum.at(out, at, values)
    return np.where(np.isfinite(out), out, np.nan)


def embrasures(beside: Alongside, shift_mm: float = _SHIFT_MM) -> float:
    """How much better the notches between the front teeth lie as an upper's than as a lower's. A notch is one of the outline to
    the lips, of that to the tongue, and of the edges. shift_mm : so far the midline may lie from where it was taken."""
    places = np.arange(-_FRONT_MM, _FRONT_MM, _STEP_MM) + _STEP_MM / 2
    points = beside.where(np.abs(beside.along) < _FRONT_MM)
    edge = _profile(points, points.height, (points.across > -2.6) & (points.across < 2.2), places)
    if edge is None:
        return np.nan
    deep = np.interp(points.along, places, gaussian_filter1d(edge, _BIN_MM / _STEP_MM)) - points.height
    band = (deep > 0.4) & (deep < 3.0)
    profiles = (
        _profile(points, points.across, band & (points.across > -3.0), places),
        _profile(points, -points.across, band & (points.across < 3.0) & (points.across > -8.0), places),
        _profile(points, points.height, np.abs(points.across) < 3.0, places),
    )
    notched = [_notches(p) for p in profiles if p is not None]
    if not notched:
        return np.nan
    total = np.sum([n / (np.std(n) + 0.05) for n in notched], axis=0)
    ends = points.along.min() + _EDGE_MM, points.along.max() - _EDGE_MM
    fit = {name: _best_fit(places, total, where, shift_mm, ends) for name, where in _EMBRASURES.items()}
    return fit["upper"] - fit["lower"]


def _profile(points: Alongside, values: NDArray, pick: NDArray, places: NDArray) -> NDArray[np.float64] | None:
    """The largest value at each place, over half a millimetre: a coarse scan has no vertex in every quarter."""
    count = int(2 * _FRONT_MM / _COARSE_MM)
    at = np.clip((points.along[pick] + _FRONT_MM) / _COARSE_MM, 0, count - 1).astype(int)
    found = _largest(at, values[pick], count)
    known = np.isfinite(found)
    seen = known[at.min(initial=count) : at.max(initial=0) + 1]
    if len(seen) < _SEEN_MM / _COARSE_MM or seen.mean() < 0.6:
        return None
    return np.interp(places, ((np.arange(count) + 0.5) * _COARSE_MM - _FRONT_MM)[known], found[known])


def _notches(profile: NDArray) -> NDArray[np.float64]:
    """How far a profile lies behind its surroundings, no notch counting for more than 0.8 mm."""
    return np.clip(gaussian_filter1d(profile, 2.2 / _STEP_MM) - gaussian_filter1d(profile, 0.5 / _STEP_MM), -0.5, 0.8)


def _best_fit(places: NDArray, notched: NDArray, where: NDArray, shift_mm: float, ends: tuple[float, float]) -> float:
    """Of all shifts and sizes, within the ends of what is there; a size is held against it the more it differs from the table's (people
    differ by 5 %; the same texts)."""
    best = -np.inf
    for scale in np.arange(0.84, 1.181, 0.02):
        whole = np.r_[-where[:0:-1], where] * scale
        unlike = _UNLIKE * ((scale - 1.0) / 0.05) ** 2
        for shift in np.arange(-shift_mm, shift_mm + 0.01, 0.25):
            at = whole[(np.abs(whole) < _SHOWN_MM) & (whole + shift > ends[0]) & (whole + shift < ends[1])]
            if len(at) < _NOTCHES:
                continue
            between = (at[1:] + at[:-1]) / 2
            found = np.minimum(np.interp(at + shift, places, notched), _DEEPEST)
            apart = found.mean() - np.maximum(np.interp(between + shift, places, notched), -_DEEPEST).mean()
            best = max(best, apart + np.sort(found)[:_SHALLOWEST].mean() - unlike)
    return float(best)


def _slab(local: NDArray, y: float, low: float) -> NDArray:
    return local[(np.abs(local[:, 1] - y) < 3.0) & (local[:, 2] > low)]


def _outer(local: NDArray, y: float) -> float:
    slab = _slab(local, y, -4.5)
    if len(slab) < 20 or not (slab[:, 0] > 10).any() or not (slab[:, 0] < -10).any():
        return np.nan
    return float(np.quantile(slab[:, 0], 0.99) - np.quantile(slab[:, 0], 0.01))


def _inner(local: NDArray, y: float) -> float:
    slab = _slab(local, y, -3.0)
    left, right = slab[slab[:, 0] > 0, 0], slab[slab[:, 0] < 0, 0]
    if len(left) < 5 or len(right) < 5:
        return np.nan
    return float(np.quantile(left, 0.02) - np.quantile(right, 0.98))


def _hollow(tips: NDArray) -> float:
    """Second-order coefficient of the tips' height over their depth in units of 20 mm, incisors left out; NaN where teeth
    that would show it are missing."""
    back = tips[tips[:, 1] > 6]
    for side in (back[back[:, 0] > 0, 1], back[back[:, 0] < 0, 1]):
        if side.max(initial=0.0) < _MOLARS_MM or np.diff(np.sort(side)).max(initial=0.0) > _GAP_MM:
            return np.nan
    return float(np.polyfit(back[:, 1] / 20, back[:, 2], 2)[0]) if len(back) > 4 else np.nan
