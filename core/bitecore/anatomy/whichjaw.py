"""Upper or lower, of an arch whose plane and front are known, from its teeth.

Facts of anatomy used: the upper arch is wider than the lower; the lower front teeth are narrower than the upper (Nelson
and Ash, Wheeler's Dental Anatomy, Physiology and Occlusion; from memory); the tips of the lower stand in a hollow curve,
those of the upper do not (curve of Spee); a palate lies between the sides of the upper alone.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d, maximum_filter1d

# Embrasures of the front teeth in mm from the midline: sums of the mesio-distal widths of Wheeler's table (from memory).
_EMBRASURES = {"upper": np.array([0, 8.5, 15.0, 22.5]), "lower": np.array([0, 5.0, 10.5, 17.5, 24.5])}
_STEP_MM = 0.25
# The buccal cusps of the first molars stand at least so far behind the incisors (generated arches of the table's sizes).
_MOLARS_MM = 22.0
# Arches widen by 6 to 8 mm from premolars to molars; by more than this only where a molar is missing (the same arches).
_ASTRAY_MM = 11.0
# Tips farther apart than this along the arch have a missing tooth between them (the same arches).
_GAP_MM = 8.5


@dataclass(frozen=True)
class _Sign:
    """What is measured in an upper and in a lower, and how much people differ. The middles are those of generated
    arches, whose crowns have the table's sizes; the spreads are wider than theirs (a spread of 2.5 to 3 mm for widths of
    arches between people: from memory)."""

    upper: float
    lower: float
    spread: float
    weight: float = 1.0
    most: float = 2.6

    def odds(self, value: float) -> float:
        """Natural logarithm of how much likelier the value is in an upper; one sign never decides alone. weight : less
        than one for a sign that says much the same as another; most : what it may say for an upper."""
        if not np.isfinite(value):
            return 0.0
        off = ((value - self.lower) ** 2 - (value - self.upper) ** 2) / (2 * self.spread**2)
        return float(np.clip(self.weight * off, -2.6 * self.weight, self.most))


# Widths at premolars and molars go together; worn or levelled lowers are flat, so that a flat curve says little.
SIGNS = {
    "outer width at the second molars": _Sign(61.0, 56.6, 2.6),
    "inner width at the first molars": _Sign(37.0, 32.6, 2.2),
    "inner width at the premolars": _Sign(29.2, 26.1, 1.8, weight=0.7, most=1.82),
    "hollow curve of the tips": _Sign(-0.1, 1.25, 0.62, most=1.5),
    "embrasures of the front teeth": _Sign(0.12, -0.2, 0.22),
    "lingual cusps under the buccal ones": _Sign(0.3, 0.62, 0.5),
}


def signs(local: NDArray[np.float64], tips: NDArray[np.float64]) -> dict[str, float]:
    """The measures of SIGNS. local : (n, 3) vertices side, back, up from the incisal point; tips : (k, 3) likewise. NaN
    where there is nothing to measure."""
    hollow = _hollow(tips)
    molars, premolars = _inner(local, 27.0), _inner(local, 14.0)
    return {
        "outer width at the second molars": _outer(local, 34.0),
        "inner width at the first molars": np.nan if molars - premolars > _ASTRAY_MM else molars,
        "inner width at the premolars": premolars,
        "hollow curve of the tips": hollow,
        # Where back teeth are missing the plane tilts, and the band in which the notches are sought with it.
        "embrasures of the front teeth": _front(local) if np.isfinite(hollow) else np.nan,
        "lingual cusps under the buccal ones": _lingual(local),
    }


@dataclass(frozen=True)
class Told:
    """What the arch tells of which jaw it is.

    upper   : the natural logarithm of the odds for an upper
    against : how much of what was measured speaks for the other jaw
    partial : a width of the arch could not be measured, and no palate is seen
    """

    upper: float
    against: float
    partial: bool = False

    @property
    def jaw(self) -> str:
        return "upper" if self.upper > 0 else "lower"

    @property
    def confidence(self) -> float:
        """Where signs contradict each other, or are missing, it is never sure."""
        if self.partial:
            return min(float(1 / (1 + np.exp(-abs(self.upper)))), 0.88)
        most = 0.85 if self.against > 1.5 else 0.89 if self.against > 0.8 else 1.0
        return min(float(1 / (1 + np.exp(-abs(self.upper)))), most)


def tell(local: NDArray[np.float64], tips: NDArray[np.float64], covered: float) -> Told:
    """Upper or lower. covered : share of the room between the sides that has a surface."""
    found = signs(local, tips)
    odds = [SIGNS[name].odds(value) for name, value in found.items()]
    partial = covered < 0.5 and any(np.isnan(value) for name, value in found.items() if "width" in name or "curve" in name)
    odds.append(6.0 if covered > 0.75 else 3.0 if covered > 0.5 else 0.0 if covered > 0.15 else -0.8)
    total = sum(odds)
    # Less than half a unit is no contradiction.
    return Told(total, sum(abs(o) for o in odds if o * total < 0 and abs(o) > 0.5), partial)


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


def _front(local: NDArray) -> float:
    """How much better the notches in the outline near the edges fit the upper's embrasures than the lower's (mm)."""
    band = local[(local[:, 2] > -2.5) & (local[:, 2] < -0.3) & (local[:, 1] < 32)]
    centre = 24.0
    angle, radius = np.arctan2(band[:, 0], centre - band[:, 1]), np.hypot(band[:, 0], band[:, 1] - centre)
    edges = np.radians(np.arange(-80, 80.1, 0.75))
    bins = np.digitize(angle, edges)
    order = np.lexsort((radius, bins))
    found = np.full(len(edges) + 1, np.nan)
    last = np.searchsorted(bins[order], np.arange(len(edges) + 1), side="right")
    count = np.diff(np.r_[0, last])
    has = count > 1
    found[has] = radius[order][last[has] - 1]
    outline, middle = found[1:-1], (edges[:-1] + edges[1:]) / 2
    known = np.isfinite(outline)
    if known.sum() < 60:
        return np.nan
    outline = np.interp(middle, middle[known], outline[known])
    soft = gaussian_filter1d(outline, 6)
    run = np.r_[0, np.cumsum(np.hypot(np.diff(soft * np.sin(middle)), np.diff(soft * np.cos(middle))))]
    at = np.arange(-26, 26.01, _STEP_MM)
    profile = np.interp(at, run - np.interp(0, middle, run), outline)
    notch = np.clip(gaussian_filter1d(maximum_filter1d(profile, int(7 / _STEP_MM)), 6) - profile, 0, 2.0)
    fit = {name: _fit(at, notch, where) for name, where in _EMBRASURES.items()}
    return fit["upper"] - fit["lower"]


def _fit(at: NDArray, notch: NDArray, where: NDArray) -> float:
    best = -np.inf
    for scale in np.arange(0.90, 1.101, 0.02):
        places = np.r_[-where[:0:-1], where] * scale
        places = places[np.abs(places) < 24.5]
        between = (places[1:] + places[:-1]) / 2
        for shift in np.arange(-1.5, 1.51, _STEP_MM):
            best = max(best, np.interp(places + shift, at, notch).mean() - np.interp(between + shift, at, notch).mean())
    return float(best)


def _lingual(local: NDArray) -> float:
    """How far the inner cusps lie under the outer ones at the molars, the middle of both sides (mm)."""
    found = []
    for side in (1, -1):
        for y in np.arange(24, 36, 2.0):
            slab = local[(np.abs(local[:, 1] - y) < 1.2) & (local[:, 0] * side > 0) & (local[:, 2] > -6)]
            if len(slab) < 8:
                continue
            wide = np.abs(slab[:, 0])
            most = np.quantile(wide, 0.98)
            inner = slab[(wide < most - 5.0) & (wide > most - 8.5), 2]
            if len(inner):
                found.append(slab[wide > most - 3.8, 2].max() - inner.max())
    return float(np.median(found)) if found else np.nan
