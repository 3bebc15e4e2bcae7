"""Upper or lower, of an arch whose plane and front are known, from its teeth (see jawsigns.py) and its palate."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .along import alongside
from .jawsigns import CURVE, EMBRASURES, INNER_CUSPS, INNER_MOLARS, INNER_PREMOLARS, OUTER_MOLARS, TONGUE_SIDE, embrasures, signs


@dataclass(frozen=True)
class _Sign:
    """What is measured in an upper and in a lower, and how much people differ. Middles and spreads are medians over the even
    half of the trial's wide set (docs/trial.md), the spreads half as wide again: mouths differ more than generators do."""

    upper: float
    lower: float
    spread: float
    weight: float = 1.0
    most: float = 2.5

    def odds(self, value: float) -> float:
        """Natural logarithm of how much likelier the value is in an upper; one sign never decides alone. weight : less
        than one for a sign that says much the same as another; most : what it may say either way, before its weight."""
        if not np.isfinite(value):
            return 0.0
        off = ((value - self.lower) ** 2 - (value - self.upper) ** 2) / (2 * self.spread**2)
        return self.weight * float(np.clip(off, -self.most, self.most))


# Widths go together.
SIGNS = {
    EMBRASURES: _Sign(2.4, -2.4, 2.2),
    INNER_CUSPS: _Sign(-0.13, 0.52, 0.78, most=1.5),
    TONGUE_SIDE: _Sign(-12.2, -8.5, 1.95),
    INNER_MOLARS: _Sign(37.4, 33.5, 4.2, weight=0.6),
    INNER_PREMOLARS: _Sign(29.7, 26.3, 3.4, weight=0.6),
    OUTER_MOLARS: _Sign(61.0, 56.9, 5.0, weight=0.6),
    CURVE: _Sign(0.3, 1.36, 1.2),
}
# What the palate says: (share of the room between the sides that has a surface at least, odds). Floors of mouths fill less.
_PALATE = ((0.75, 6.0), (0.5, 3.0), (0.15, 0.0), (0.0, -0.5))
_SEEN = 0.5
# Never quite sure where no palate is seen; not sure at all where signs contradict each other: so much against, at most so sure.
_MOST, _AGAINST = 0.96, ((1.5, 0.8), (0.5, 0.89))
# The same of a part of an arch, whose midline may lie so far off: middles and spreads over parts of the first mouths of both sets.
PART_SIGNS = {
    EMBRASURES: _Sign(1.4, -0.6, 1.3, most=2.0),
    INNER_CUSPS: _Sign(-0.1, 0.7, 0.7, most=1.5),
    TONGUE_SIDE: _Sign(-13.2, -9.3, 2.2, most=2.0),
}
_PART_PALATE, _PART_SEEN, _PART_SHIFT_MM = ((0.9, 2.5), (0.4, 1.0), (0.0, -0.3)), 0.9, 6.0
# Less is no contradiction.
_LEAST_AGAINST = 0.4


@dataclass(frozen=True)
class Told:
    """What the arch tells of which jaw it is.

    upper   : the natural logarithm of the odds for an upper
    against : how much of what was measured speaks for the other jaw
    palate  : one is seen
    """

    upper: float
    against: float
    palate: bool = False

    @property
    def jaw(self) -> str:
        return "upper" if self.upper > 0 else "lower"

    @property
    def confidence(self) -> float:
        sure = float(1 / (1 + np.exp(-abs(self.upper))))
        if self.palate:
            return sure
        return min(sure, next((most for least, most in _AGAINST if self.against > least), _MOST))


def tell(local: NDArray[np.float64], tips: NDArray[np.float64], covered: float) -> Told:
    """Upper or lower. local : (n, 3) vertices side, back, up from the incisal point; tips : (k, 3) likewise; covered : share of
    the room between the sides that has a surface."""
    odds = [SIGNS[name].odds(value) for name, value in signs(local, tips).items()]
    odds.append(next(says for least, says in _PALATE if covered >= least))
    total = sum(odds)
    against = sum(abs(o) for o in odds if o * total < 0 and abs(o) > _LEAST_AGAINST)
    return Told(total, against, palate=covered > _SEEN)


def tell_part(local: NDArray[np.float64], tips: NDArray[np.float64], covered: float) -> Told:
    """As tell, of a part of an arch: widths and curves say nothing there. tips : with those of its mirror image."""
    beside = alongside(local, tips)
    found = signs(local, tips) | {EMBRASURES: embrasures(beside, _PART_SHIFT_MM)}
    odds = [sign.odds(found[name]) for name, sign in PART_SIGNS.items()]
    odds.append(next(says for least, says in _PART_PALATE if covered >= least))
    total = sum(odds)
    against = sum(abs(o) for o in odds if o * total < 0 and abs(o) > _LEAST_AGAINST)
    return Told(total, against, palate=covered > _PART_SEEN)
