"""Closed rings in a plane: (k, 2) corners, the last joined to the first; outer ones counter-clockwise, those round holes clockwise."""

from __future__ import annotations

from collections.abc import Sequence

import numba as nb
import numpy as np
from numpy.typing import NDArray

from .bins import bins

_CELL_MM = 1.0
# A corner is carried out no farther than so many times what its sides are.
_MITRE = 3.0


def signed_area(ring: NDArray) -> float:
    x, y = ring.T
    return 0.5 * float(np.sum(x * np.roll(y, -1) - y * np.roll(x, -1)))


def follow_of(loops: Sequence[NDArray]) -> NDArray[np.int64]:
    """(n,) of rings end to end: the number of the corner that comes after each."""
    first = np.cumsum([0, *(len(loop) for loop in loops)])
    return np.concatenate([np.roll(np.arange(len(loop)), -1) + o for loop, o in zip(loops, first[:-1], strict=True)])


def offset(ring: NDArray[np.float64], by: float | NDArray[np.float64]) -> NDArray[np.float64]:
    """Every corner carried out of what the ring encloses (into a hole), so that its sides move by `by` mm; as many corners. Whether it
    still is simple is not looked at: see crossed."""
    way = np.roll(ring, -1, axis=0) - ring
    way = way / np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-12)
    out = np.c_[way[:, 1], -way[:, 0]]
    both = np.roll(out, 1, axis=0) + out
    # Half the sum has the length of the cosine; divided by its square it reaches both sides.
    share = both * 0.5 / np.maximum((both * both).sum(1, keepdims=True) * 0.25, 1.0 / _MITRE)
    return ring + share * np.asarray(by, np.float64).reshape(-1, 1)


def finer(ring: NDArray[np.float64], step: float) -> NDArray[np.float64]:
    """With corners along its sides, so that none is longer than `step`."""
    after = np.roll(ring, -1, axis=0)
    count = np.maximum(np.ceil(np.linalg.norm(after - ring, axis=1) / step).astype(int), 1)
    first = np.repeat(np.arange(len(ring)), count)
    share = (np.arange(len(first)) - np.repeat(np.cumsum(count) - count, count)) / count[first]
    return ring[first] + share[:, None] * (after - ring)[first]


@nb.njit(cache=True)
def _side(p, q, r):
    return (q[0] - p[0]) * (r[1] - p[1]) - (q[1] - p[1]) * (r[0] - p[0])


@nb.njit(cache=True)
def _boxes_meet(p, q, r, s):
    beside = max(p[0], q[0]) < min(r[0], s[0]) or max(r[0], s[0]) < min(p[0], q[0])
    return not (beside or max(p[1], q[1]) < min(r[1], s[1]) or max(r[1], s[1]) < min(p[1], q[1]))


@nb.njit(cache=True)
def _crossed(points, follow, start, item, origin, cell, ny):
    bad = np.zeros(len(points), np.bool_)
    for i in range(len(points)):
        p, q = points[i], points[follow[i]]
        for cx in range(int((min(p[0], q[0]) - origin[0]) / cell), int((max(p[0], q[0]) - origin[0]) / cell) + 1):
            for cy in range(int((min(p[1], q[1]) - origin[1]) / cell), int((max(p[1], q[1]) - origin[1]) / cell) + 1):
                c = cx * ny + cy
                for k in range(start[c], start[c + 1]):
                    j = item[k]
                    if j == i or follow[i] == j or follow[j] == i:
                        continue
                    r, s = points[j], points[follow[j]]
                    if not _boxes_meet(p, q, r, s):  # on one line, one behind the other
                        continue
                    if _side(p, q, r) * _side(p, q, s) <= 0 and _side(r, s, p) * _side(r, s, q) <= 0:
                        bad[i] = True
    return bad


def crossed(rings: Sequence[NDArray[np.float64]]) -> NDArray[np.bool_]:
    """(n,) for each corner of rings end to end: does its side meet another side than its neighbours?"""
    points = np.ascontiguousarray(np.vstack(rings))
    follow = follow_of(rings)
    after = points[follow]
    origin = points.min(0) - _CELL_MM
    count = ((points.max(0) - origin) / _CELL_MM).astype(int) + 2
    boxes = bins(np.minimum(points, after), np.maximum(points, after), origin, _CELL_MM, int(count[0]), int(count[1]))
    return _crossed(points, follow, *boxes, origin, _CELL_MM, int(count[1]))


def holds(rings: Sequence[NDArray[np.float64]], points: NDArray[np.float64]) -> NDArray[np.bool_]:
    """(k,) which points (k, 2) lie within: inside an odd number of the rings."""
    inside = np.zeros(len(points), bool)
    for ring in rings:
        for a, b in zip(ring, np.roll(ring, -1, axis=0), strict=True):
            spans = (points[:, 1] < a[1]) != (points[:, 1] < b[1])
            if spans.any():
                x = a[0] + (points[spans, 1] - a[1]) * (b[0] - a[0]) / (b[1] - a[1])
                inside[spans] ^= points[spans, 0] < x
    return inside
