"""The line an arch runs along, and places told by it: how far along, how far out, how deep under the tips.

Plan of a jaw: x to the patient's right from the midline, y forward, z to the tips (mm). Of an upper that is a mirrored frame.
"""

from __future__ import annotations

import numpy as np
from numpy.polynomial import chebyshev
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d
from scipy.spatial import cKDTree

STEP_MM = 0.25
_FINE_MM = 0.1
# Angles from the middle of the arch, and by how much the line goes on behind its ends.
# In so many of them there is something, of a jaw or half of one.
_LEAST_SECTORS = 12
_SECTOR_DEG, _WIDEST_DEG, _SPAN, _ON_MM = 3.0, 125.0, 2.2, 14.0
# What lies so deep under the highest tips belongs to the arch; farther out than this does not.
_TOP_MM, _DEEPER_MM, _OUT_MM = 5.0, 6.5, 8.0


class NoArch(Exception):
    """Nothing stands out of this surface as an arch does."""


class ArchLine:
    """points (k, 2) about 0.1 mm apart from the patient's right round the front to the left; along (k,) mm; outward (k, 2)."""

    def __init__(self, points: NDArray[np.float64]) -> None:
        points = gaussian_filter1d(points, 15, axis=0, mode="nearest")
        self.points = points
        self.along = np.r_[0, np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))]
        way = np.gradient(points, axis=0)
        self.way = way / np.linalg.norm(way, axis=1)[:, None]
        outward = np.c_[-self.way[:, 1], self.way[:, 0]]
        self.outward = outward if outward[len(points) // 2, 1] >= 0 else -outward
        self._tree = cKDTree(points[::3])

    @property
    def length(self) -> float:
        return float(self.along[-1])

    def told(self, plan: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """((k,) mm along, (k,) mm outward of the line) of places (k, 2)."""
        at = self._tree.query(plan)[1] * 3
        off = plan - self.points[at]
        return self.along[at] + np.clip((off * self.way[at]).sum(1), -0.2, 0.2), (off * self.outward[at]).sum(1)

    def index(self, along: NDArray) -> NDArray[np.int64]:
        return np.clip((along / _FINE_MM).astype(np.int64), 0, len(self.points) - 1)

    def grid(self) -> NDArray[np.float64]:
        return np.arange(0, self.length + STEP_MM, STEP_MM)


def _evenly(points: NDArray) -> NDArray[np.float64]:
    s = np.r_[0, np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))]
    g = np.arange(0, s[-1], _FINE_MM)
    return np.c_[np.interp(g, s, points[:, 0]), np.interp(g, s, points[:, 1])]


def _robust(base: NDArray, value: NDArray, scale: float, rounds: int, *, above: bool = False) -> NDArray[np.float64]:
    """Coefficients by least squares, outliers counting less; what lies above counts in full where asked."""
    weight: NDArray = np.ones(len(value))
    found: NDArray = np.zeros(base.shape[1])
    for _ in range(rounds):
        found = np.linalg.lstsq(base * weight[:, None], value * weight, rcond=None)[0]
        off = value - base @ found
        weight = 1 / (1 + (off / scale) ** 2)
        if above:
            weight = np.where(off > 0, 1.0, weight)
    return found


def _first_line(local: NDArray) -> NDArray[np.float64]:
    """Round the middle of the arch: in every direction half way between the inner and the outer side of what is high."""
    high = local[local[:, 2] > np.quantile(local[:, 2], 0.997) - _TOP_MM][:, :2]
    front, back = np.quantile(high[:, 1], 0.995), np.quantile(high[:, 1], 0.01)
    middle = np.array([np.quantile(high[:, 0], [0.02, 0.98]).mean(), front - 0.62 * (front - back)])
    off = high - middle
    angle, far = np.arctan2(off[:, 0], off[:, 1]), np.hypot(*off.T)
    sectors = np.radians(np.arange(-_WIDEST_DEG, _WIDEST_DEG + 1, _SECTOR_DEG))
    which = np.digitize(angle, sectors)
    rows = [
        ((sectors[k - 1] + sectors[k]) / 2, np.quantile(far[which == k], [0.05, 0.95]).mean())
        for k in range(1, len(sectors)) if (which == k).sum() >= 15
    ]  # fmt: skip
    if len(rows) < _LEAST_SECTORS:
        raise NoArch
    at, out = np.array(rows).T
    found = _robust(chebyshev.chebvander(at / _SPAN, 6), out, 0.8, 5)
    t = np.linspace(at.min(), at.max(), 800)[::-1]
    r = chebyshev.chebval(t / _SPAN, found)
    line = middle + r[:, None] * np.c_[np.sin(t), np.cos(t)]
    ends = [a - b for a, b in ((line[0], line[12]), (line[-1], line[-13]))]
    more = [line[k] + e / np.linalg.norm(e) * _ON_MM for k, e in zip((0, -1), ends, strict=True)]
    return _evenly(np.vstack([more[0], line, more[1]]))


def envelope(along: NDArray, height: NDArray, grid: NDArray) -> NDArray[np.float64]:
    """(g,) a smooth curve through the tips along the arch; it bridges gaps."""
    where = ((along - grid[0]) / 2.0).astype(int)
    highest = np.full(where.max() + 1, -np.inf)
    np.maximum.at(highest, where, height)
    x = grid[0] + 2.0 * (np.arange(len(highest)) + 0.5)
    there = np.isfinite(highest)
    x, highest = x[there], highest[there]
    there = highest > np.quantile(highest, 0.75) - 4.5
    x, highest = x[there], highest[there]
    middle, half = (grid[0] + grid[-1]) / 2, (grid[-1] - grid[0]) / 2
    found = _robust(chebyshev.chebvander((x - middle) / half, 4), highest, 0.6, 8, above=True)
    return chebyshev.chebval((np.clip(grid, x.min() - 2, x.max() + 2) - middle) / half, found)


def arch_line(local: NDArray[np.float64]) -> ArchLine:
    """Through the middle of the crowns, of (n, 3) places in the plan of a jaw."""
    points = _first_line(local)
    high = local[local[:, 2] > np.quantile(local[:, 2], 0.997) - _DEEPER_MM]
    for _ in range(2):
        line = ArchLine(points)
        s, n = line.told(high[:, :2])
        near = np.abs(n) < _OUT_MM
        s, n, z = s[near], n[near], high[near, 2]
        grid = line.grid()[:-1]
        top = np.interp(s, grid, envelope(s, z, grid)) - z < 3.5
        which = (s[top] / 3.0).astype(int)
        middles = [
            ((q + 0.5) * 3, np.quantile(n[top][which == q], [0.04, 0.96]).mean())
            for q in range(int(line.length / 3) + 1) if (which == q).sum() > 25
        ]  # fmt: skip
        if len(middles) < 4:
            return line
        at, out = np.array(middles).T
        shift = np.interp(line.along, at, gaussian_filter1d(out, 1.2, mode="nearest"))
        points = _evenly((line.points + line.outward * gaussian_filter1d(shift, 40, mode="nearest")[:, None])[::5])
    return ArchLine(points)


def levelling(local: NDArray[np.float64]) -> NDArray[np.float64]:
    """(3, 3) turn that lays the tips flat: the highest point of every sector round the middle, and the plane through them in which
    low ones count less. The unit matrix where that leans by more than 15°: then it is no plane of tips."""
    z = local[:, 2]
    middle = np.array([(local[:, 0].min() + local[:, 0].max()) / 2, np.quantile(local[:, 1], 0.35)])
    off = local[:, :2] - middle
    angle = np.arctan2(off[:, 0], off[:, 1])
    sector = ((angle + np.pi) / np.radians(8)).astype(int)
    far = np.hypot(*off.T) > 12
    best = np.full(sector.max() + 1, -np.inf)
    np.maximum.at(best, sector[far], z[far])
    tips = np.flatnonzero(far & (z >= best[sector] - 1e-9) & (np.abs(angle) < np.radians(_WIDEST_DEG)))
    base = np.c_[off[tips], np.ones(len(tips))]
    weight, slope = np.ones(len(tips)), np.zeros(3)
    for _ in range(12):
        slope = np.linalg.lstsq(base * weight[:, None], z[tips] * weight, rcond=None)[0]
        left = z[tips] - base @ slope
        weight = 1 / (1 + (left / np.where(left > 0, 1.5, 0.8)) ** 2)
    normal = np.array([-slope[0], -slope[1], 1.0])
    normal /= np.linalg.norm(normal)
    if normal[2] < np.cos(np.radians(15)):
        return np.eye(3)
    x = np.array([1.0, 0, 0]) - normal * normal[0]
    x /= np.linalg.norm(x)
    return np.stack([x, np.cross(normal, x), normal])
