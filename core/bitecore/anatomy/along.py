"""Along the arch and across it: a jaw's points beside the line of its outer cusps and edges."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

# Robust least squares (weights of Cauchy; from memory) of a Chebyshev series in polar coordinates about the middle of the arch.
_DEGREE, _ROUNDS, _LEAST_SPREAD_MM = 6, 4, 0.2
_WIDEST_RAD = 2.0
_LINE_POINTS = 900
# Points farther from the line, or deeper under the tips, belong to no crown.
_REACH_MM, _DEEP_MM = 14.0, 10.0


@dataclass(frozen=True)
class Alongside:
    """Points of a jaw beside its arch.

    along  : (k,) mm along the line of the outer cusps from the midline, plus to the side of +x
    across : (k,) mm from that line, plus to the cheek
    height : (k,) mm
    """

    along: NDArray[np.float64]
    across: NDArray[np.float64]
    height: NDArray[np.float64]

    def where(self, keep: NDArray[np.bool_]) -> Alongside:
        return Alongside(self.along[keep], self.across[keep], self.height[keep])


def outer_line(tips: NDArray[np.float64]) -> NDArray[np.float64]:
    """(k, 2) a smooth line through the plan of the tips (n, 3), from one end of the arch to the other."""
    deep = float(np.ptp(tips[:, 1]))
    centre = np.array([0.0, tips[:, 1].min() + 0.62 * deep])
    ray = tips[:, :2] - centre
    angle, radius = np.arctan2(ray[:, 0], -ray[:, 1]), np.linalg.norm(ray, axis=1)
    rows = np.polynomial.chebyshev.chebvander(angle / _WIDEST_RAD, _DEGREE)
    weight = np.ones(len(tips))
    series = np.zeros(_DEGREE + 1)
    for _ in range(_ROUNDS):
        series = np.linalg.lstsq(rows * weight[:, None], radius * weight, rcond=None)[0]
        off = radius - rows @ series
        spread = max(float(np.median(np.abs(off))) * 1.48, _LEAST_SPREAD_MM)
        weight = 1 / np.sqrt(1 + (off / (1.5 * spread)) ** 2)
    t = np.linspace(max(angle.min(), -_WIDEST_RAD), min(angle.max(), _WIDEST_RAD), _LINE_POINTS)
    r = np.polynomial.chebyshev.chebvander(t / _WIDEST_RAD, _DEGREE) @ series
    return centre + np.c_[r * np.sin(t), -r * np.cos(t)]


def alongside(local: NDArray[np.float64], tips: NDArray[np.float64]) -> Alongside:
    """local : (n, 3) side, back, up from the incisal point; tips : (k, 3) likewise. Only of what lies beside the line."""
    line = outer_line(tips)
    tangent = np.gradient(line, axis=0)
    tangent /= np.linalg.norm(tangent, axis=1, keepdims=True)
    out = np.c_[tangent[:, 1], -tangent[:, 0]]
    run = np.r_[0, np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))]
    run -= run[np.abs(line[:, 0]).argmin()]
    near = local[local[:, 2] > -_DEEP_MM]
    distance, index = cKDTree(line).query(near[:, :2], distance_upper_bound=_REACH_MM)
    # What is nearest to an end lies behind the arch.
    beside = np.isfinite(distance) & (index > 0) & (index < len(line) - 1)
    near, index = near[beside], index[beside]
    across = np.einsum("ij,ij->i", near[:, :2] - line[index], out[index])
    return Alongside(run[index], across, near[:, 2])
