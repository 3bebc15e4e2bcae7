"""A closed outline in the plan, walked along."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


class Bend:
    """An outline in the plan (k, 2), counter-clockwise, as lengths along it (mm)."""

    def __init__(self, ring: NDArray[np.float64]) -> None:
        self._closed = np.vstack([ring, ring[:1]])
        step = np.linalg.norm(np.diff(self._closed, axis=0), axis=1)
        self._run = np.r_[0, np.cumsum(step)]
        self.length = float(self._run[-1])

    def at(self, along: NDArray | float) -> NDArray[np.float64]:
        """(k, 2) places."""
        s = np.atleast_1d(along) % self.length
        return np.c_[np.interp(s, self._run, self._closed[:, 0]), np.interp(s, self._run, self._closed[:, 1])]

    def outward(self, along: NDArray | float) -> NDArray[np.float64]:
        """(k, 2) directions out of the outline, evened over a millimetre."""
        s = np.atleast_1d(along)
        way = self.at(s + 0.5) - self.at(s - 0.5)
        way /= np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-9)
        return np.c_[way[:, 1], -way[:, 0]]

    def nearest(self, point: NDArray) -> float:
        """How far along the place nearest to a point (2,) lies."""
        s = np.arange(0, self.length, 0.25)
        return float(s[np.linalg.norm(self.at(s) - point, axis=1).argmin()])
