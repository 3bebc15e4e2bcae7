"""Round each tooth the closed line that lies best in the crease between it and its gum.

A picture of the tooth's surroundings, by angle round it and by distance down its surface; in it the best closed way round (dynamic
programming): it cannot shrink, and where the crease is faint the whole of the ring carries it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter1d

from ...ops.curvature import towards
from ...ops.surface_graph import FAR, Spreading, SurfaceGraph
from .evidence import Evidence
from .hues import HUE_PRIOR
from .line import STEP_MM
from .seeds import Crown, Seeds

# The picture: angles, and steps of distance.
_ANGLES, _STEP = 72, 0.15
_REACH_MM = 3.0
# Crease: fine less so much of coarse, at most.
_FINE_MM, _COARSE_MM, _COARSE, _MOST = 0.15, 1.1, 0.6, 1.6
# What the expected region counts beside the crease; how stiff the ring is, and how far it may go from one angle to the next.
_REGION, _STIFF, _JUMP = 0.1, 0.02, 4
# Nearer to the tooth than this share of what is expected no ring runs.
_LEAST = 0.4
# The ring lies in the crease, the gum begins behind it.
_BEHIND_MM = 0.15
_WEAK = 0.1


@nb.njit(cache=True, nogil=True)
def _down(which, away, points, normals, tensor, start, other):
    """Curvature in the direction in which `away` grows, 1/mm, at each of `which`."""
    out = np.empty(len(which))
    for t in range(len(which)):
        i = which[t]
        gx, gy, gz = 0.0, 0.0, 0.0
        for q in range(start[i], start[i + 1]):
            j = other[q]
            if away[j] >= FAR:
                continue
            x, y, z = points[j, 0] - points[i, 0], points[j, 1] - points[i, 1], points[j, 2] - points[i, 2]
            w = (away[j] - away[i]) / (x * x + y * y + z * z + 1e-12)
            gx, gy, gz = gx + w * x, gy + w * y, gz + w * z
        d = gx * normals[i, 0] + gy * normals[i, 1] + gz * normals[i, 2]
        gx, gy, gz = gx - d * normals[i, 0], gy - d * normals[i, 1], gz - d * normals[i, 2]
        long = np.sqrt(gx * gx + gy * gy + gz * gz) + 1e-12
        out[t] = towards(tensor, i, gx / long, gy / long, gz / long)
    return out


@nb.njit(cache=True, nogil=True)
def closed_way(cost, expected, jump, stiff):  # noqa: ANN201
    """(t,) the cheapest closed way through (t, r): its r at each t. To leave the expected way's slope costs stiff times the square (for
    large steps linear). Three times round, the middle round is kept."""
    turns, rows = cost.shape
    total, back = np.empty((3 * turns, rows)), np.zeros((3 * turns, rows), np.int32)
    total[0] = cost[0]
    for t in range(1, 3 * turns):
        shift = expected[t % turns] - expected[(t - 1) % turns]
        for r in range(rows):
            best, where, straight = FAR, r, int(np.round(r - shift))
            for s in range(max(0, straight - jump), min(rows, straight + jump + 1)):
                x = abs(r - s - shift)
                c = total[t - 1, s] + stiff * (x * x if x < 2 else 4 * x - 4)
                if c < best:
                    best, where = c, s
            if best >= FAR:
                where = min(max(straight, 0), rows - 1)
                best = total[t - 1, where] + stiff * 4 * abs(r - shift - where)
            total[t, r], back[t, r] = best + cost[t % turns, r], where
    r = int(np.argmin(total[-1]))
    out = np.zeros(turns)
    for t in range(3 * turns - 1, -1, -1):
        if turns <= t < 2 * turns:
            out[t - turns] = r
        r = back[t, r]
    return out


@dataclass
class Outlined:
    """off    : (n,) mm beyond the nearest outline along the surface, below nought within one, infinite where none is near
    nearest : (n,) which tooth (k + 1) that is, 0 none
    second  : (n,) mm beyond the second nearest
    within  : (n,) the tooth (k + 1) whose outline holds the vertex, 0 none
    """

    off: NDArray[np.float64]
    nearest: NDArray[np.int32]
    second: NDArray[np.float64]
    within: NDArray[np.int32]


def outlined(
    local: NDArray, graph: SurfaceGraph, normals: NDArray, tensor: NDArray, found: Evidence, known: Seeds, owner: NDArray[np.int32]
) -> Outlined:  # fmt: skip
    """Of every crown that has seeds. owner : (n,) which tooth (k + 1) a vertex would belong to if it were tooth. What the outline showed
    is put down in the crowns."""
    n = len(local)
    out = Outlined(np.full(n, np.inf), np.zeros(n, np.int32), np.full(n, np.inf), np.zeros(n, np.int32))
    share = np.full(n, np.inf)
    spreading = Spreading(graph)
    seeded = np.flatnonzero((known.seed > 0) & (known.seed < known.gum))
    of, blocked = known.seed[seeded], np.zeros(n, bool)
    for k, crown in enumerate(known.crowns):
        sources = seeded[of == k + 1]
        if crown is None or len(sources) < 5:
            continue
        blocked[seeded] = of != k + 1
        which = spreading.reached(sources, blocked=blocked, reach_mm=crown.tall + _REACH_MM)
        away = spreading.away[which]
        bends = _down(which, spreading.away, graph.points, normals, tensor, graph.start, graph.other)
        angle = _angle(local, found, crown, which)
        prior = _prior(local, known, owner, k, crown, which)
        radius = _ring(crown, angle, away, bends, prior)
        mine = np.interp(angle, np.arange(-1, _ANGLES + 1), np.r_[radius[-1], radius, radius[0]])
        part, inside = away / np.maximum(mine, 0.3), away <= mine
        nearer = inside & (part < share[which])
        share[which[nearer]], out.within[which[nearer]] = part[nearer], k + 1
        off, before = away - mine, out.off[which]
        first = off < before
        out.second[which] = np.where(first, before, np.minimum(out.second[which], off))
        out.off[which] = np.where(first, off, before)
        out.nearest[which] = np.where(first, k + 1, out.nearest[which])
    return out


def _angle(local: NDArray, found: Evidence, crown: Crown, which: NDArray) -> NDArray[np.float64]:
    """(k,) -0.5 to _ANGLES - 0.5, round the axis of the tooth."""
    along = found.along[which] - (crown.slot.first + crown.slot.last) / 2 * STEP_MM
    down = np.clip(crown.top - local[which, 2], 0, 1.2 * crown.tall)
    beside = found.out[which] - crown.middle - crown.lean * down
    round_ = np.arctan2(beside / max(0.36 * crown.deep, 1.5), along / (crown.slot.wide_mm / 2))
    return (round_ + np.pi) / (2 * np.pi) * _ANGLES - 0.5


def _prior(local: NDArray, known: Seeds, owner: NDArray, k: int, crown: Crown, which: NDArray) -> NDArray[np.float64]:
    """(k,) -1 to 1: what speaks for this tooth. Where borders and flooding disagree whose a place is, less does."""
    between = np.clip((0.56 * crown.tall - (crown.top - local[which, 2])) / (0.35 * crown.tall), -1, 1)
    own, flooded = known.own[which] == k, owner[which] == k + 1
    prior = np.where(flooded, np.where(own, known.prior[which], np.minimum(between, 0.5)), np.where(own, -0.5, -1.0))
    if known.hue is not None:
        # Where it is of this tooth or of none, and no seed is.
        free = own & flooded & (known.seed[which] == 0)
        prior = np.where(free, np.clip(prior + HUE_PRIOR * known.hue[which], -1, 1), prior)
    return np.where(known.seed[which] == known.gum, -1.0, prior)


def _ring(crown: Crown, angle: NDArray, away: NDArray, bends: NDArray, prior: NDArray) -> NDArray[np.float64]:
    """(angles,) mm down the surface to the outline."""
    rows = int((crown.tall + _REACH_MM) / _STEP) + 1
    told = away > 0
    cell = (np.floor(angle[told] + 0.5).astype(int) % _ANGLES) * rows + np.minimum((away[told] / _STEP).astype(int), rows - 1)

    def picture(values: NDArray | None, soft_mm: float) -> NDArray:
        flat = np.bincount(cell, values, _ANGLES * rows).astype(float).reshape(_ANGLES, rows)
        return gaussian_filter1d(gaussian_filter1d(flat, 1.0, axis=0, mode="wrap"), soft_mm / _STEP, axis=1, mode="nearest")

    bent = np.clip(bends[told], -3, 3)
    many = picture(None, _FINE_MM)
    fine = picture(bent, _FINE_MM) / (many + 1e-3)
    coarse = picture(bent, _COARSE_MM) / (picture(None, _COARSE_MM) + 1e-3)
    speaks = picture(prior[told], _FINE_MM) / (many + 1e-3)
    crease = np.clip(-(fine - _COARSE * coarse), -_MOST, _MOST)
    empty = many < 0.03
    crease[empty], speaks[empty] = 0, -0.3
    region = -np.cumsum(speaks, axis=1) * _STEP
    cost = -crease + _REGION * region
    expected = gaussian_filter1d(region.argmin(1).astype(float), 1.0, mode="wrap")
    cost = np.where(np.arange(rows) < _LEAST * expected[:, None], cost + 1.0, cost)
    way = expected + gaussian_filter1d(closed_way(cost, expected, _JUMP, _STIFF) - expected, 0.8, mode="wrap")
    met = crease[np.arange(_ANGLES), np.clip(np.rint(way).astype(int), 0, rows - 1)]
    crown.crease, crown.weak = float(met.mean()), float((met < _WEAK).mean())
    crown.shift = float(np.median(way - expected) * _STEP)
    return (way + 0.5) * _STEP + _BEHIND_MM
