"""What a jaw shows along its arch, in steps of a quarter of a millimetre: how much stands there, how wide its top is, and where two
teeth may part: valleys that run across the arch on the cheek side and on the tongue side, and dips of the top. The walls are asked
apart and set off against each other, for teeth touch obliquely; they know nothing of fissures."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d, maximum_filter1d

from ...ops.curvature import Bend
from .line import STEP_MM, ArchLine, arch_line, envelope

# Of the arch: how far out, how far under the highest tip.
_OUT_MM, _TOLD_MM = 7.5, 16.0
# A crown stands where the top lies at most so far under the curve of the tips; lower than that there is none.
_STANDS_MM, _GONE_MM = 1.6, 3.4
# A ridge of gum is round on top; a crown that stands lower still has steep walls (share of their normals that looks outward).
_LOWEST_MM, _LOW_MM, _ROUND, _STEEP = 4.4, 3.0, 0.46, 0.60


@dataclass(frozen=True)
class Evidence:
    """For each vertex, (n,): along (mm, -1 where it lies too low to be told), out, depth (mm under the curve of the tips), side (its
    normal outward). For each step, (g,): top (mm over that curve, below nought), parts (how much speaks for a border there),
    cheek_at, tongue_at (mm along, where it would meet the walls), table (mm), there (0 to 1)."""

    line: ArchLine
    grid: NDArray[np.float64]
    along: NDArray[np.float64]
    out: NDArray[np.float64]
    depth: NDArray[np.float64]
    side: NDArray[np.float64]
    top: NDArray[np.float64]
    parts: NDArray[np.float64]
    cheek_at: NDArray[np.float64]
    tongue_at: NDArray[np.float64]
    table: NDArray[np.float64]
    there: NDArray[np.float64]


def evidence(local: NDArray, normals: NDArray, bent: Bend, across: NDArray, area: NDArray, *, part: bool = False) -> Evidence:
    """local : (n, 3) in the plan of the jaw, normals and across (the direction of the valley's bend) too; area : (n,) mm²; part : only a
    part of the arch is there, and its line goes on as its mirror image"""
    line = arch_line(np.vstack([local, local * [-1, 1, 1]]) if part else local)
    z = local[:, 2]
    highest = np.quantile(z, 0.997)
    along, out = np.full(len(z), -1.0), np.full(len(z), 99.0)
    told = np.flatnonzero(z > highest - _TOLD_MM)
    along[told], out[told] = line.told(local[told, :2])
    grid = line.grid()
    near = np.abs(out) < _OUT_MM
    high = near & (z > highest - 6.5)
    depth = np.where(along >= 0, np.interp(along, grid, envelope(along[high], z[high], grid)) - z, 99.0)
    step = np.clip(np.rint(along / STEP_MM).astype(int), 0, len(grid) - 1)
    top = _top(step, depth, near, len(grid))
    at = line.index(along)
    side = (normals[:, :2] * line.outward[at]).sum(1)
    steep = np.abs((across[:, :2] * line.way[at]).sum(1))
    valley = np.clip(-bent.least - 0.25, 0, 2.5) * np.clip((steep - 0.35) / 0.4, 0, 1) * area
    under = depth + top[step]
    wall = near & (under > 0.3) & (depth < 5.0) & (depth > 0.5)
    cheek, tongue = (
        gaussian_filter1d(np.bincount(step[w], valley[w], len(grid)), 1.2) / (STEP_MM * 4)
        for w in (wall & (out > 0) & (side > -0.3), wall & (out <= 0) & (side < 0.3))
    )
    parts, cheek_at, tongue_at = _parting(grid, cheek, tongue)
    dip = np.clip(maximum_filter1d(top, int(6 / STEP_MM)) - top, 0, 2.0)
    table = _table(step, out, near & (under < 2.0) & (depth < 5), len(grid))
    there = _there(step, top, under, near, out, side)
    return Evidence(line, grid, along, out, depth, side, top, parts + 0.35 * dip, cheek_at, tongue_at, table, there)


def _top(step: NDArray, depth: NDArray, near: NDArray, count: int) -> NDArray[np.float64]:
    top = np.full(count, -20.0)
    told = near & (depth < 14)
    np.maximum.at(top, step[told], -depth[told])
    return gaussian_filter1d(maximum_filter1d(top, 3), 1.0)


def _there(step: NDArray, top: NDArray, under: NDArray, near: NDArray, out: NDArray, side: NDArray) -> NDArray[np.float64]:
    """(g,) 0 to 1, whether a crown stands there: by its height, or by its walls."""
    wall = near & (under > 0.8) & (under < 3.5)
    steep = np.zeros(len(top))
    for sign in (1, -1):
        mine = wall & (side * sign > -0.2) & (out * sign > 0)
        total = gaussian_filter1d(np.bincount(step[mine], np.clip(side[mine] * sign, 0, 1), len(top)), 1.5)
        steep += 0.5 * total / np.maximum(gaussian_filter1d(np.bincount(step[mine], minlength=len(top)).astype(float), 1.5), 1e-3)
    high = np.clip((_GONE_MM + top) / (_GONE_MM - _STANDS_MM), 0, 1)
    low = np.clip((_LOWEST_MM + top) / (_LOWEST_MM - _LOW_MM), 0, 1) * np.clip((steep - _ROUND) / (_STEEP - _ROUND), 0, 1)
    return np.maximum(high, low)


def _table(step: NDArray, out: NDArray, told: NDArray, count: int) -> NDArray[np.float64]:
    low, high = np.full(count, 99.0), np.full(count, -99.0)
    np.minimum.at(low, step[told], out[told])
    np.maximum.at(high, step[told], out[told])
    return gaussian_filter1d(np.where(high > low, high - low, 0), 1.0)


def _parting(grid: NDArray, cheek: NDArray, tongue: NDArray) -> tuple[NDArray, NDArray, NDArray]:
    """For each step the best pair of valleys, up to 3.5 mm set off against each other."""
    best, cheek_at, tongue_at = np.full(len(grid), -1.0), grid.copy(), grid.copy()
    for q in range(-14, 15):
        half = q * STEP_MM / 2
        c, t = np.interp(grid + half, grid, cheek), np.interp(grid - half, grid, tongue)
        # Set off against each other, both walls have to say so; straight across, one may.
        one, two = np.minimum(c, 1.2), np.minimum(t, 1.2)
        found = (one + two if q == 0 else 2 * np.minimum(one, two)) + 0.5 * np.minimum(c, t) - 0.10 * abs(q * STEP_MM)
        more = found > best
        best[more], cheek_at[more], tongue_at[more] = found[more], (grid + half)[more], (grid - half)[more]
    return best, cheek_at, tongue_at
