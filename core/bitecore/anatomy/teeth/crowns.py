"""What is measured of every tooth: its middle, its width along the arch, its tips."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

# The crown's width is taken over so much of its height from the top; so many vertices at either end are noise.
_WIDE_SHARE, _STRAY = 0.7, 0.004
# Edges are so flat; a tip of a back tooth stands so far towards the cheek from the middle.
_EDGE_MM = 0.35
# How far a front tooth may stand turned.
_TURNS_DEG = np.arange(-50, 51, 2.0)


def crown_axis(plan: NDArray, way: NDArray, front: bool) -> NDArray[np.float64]:
    """(2,) mesiodistal direction of a crown in the plan. plan : (k, 2) of its upper part; way : (2,) of the arch there. Front teeth are
    longest that way (their edge); of back teeth the arch says it better than their outline."""
    if not front or len(plan) < 8:
        return way
    off = plan - plan.mean(0)
    spread = [np.std(off @ _turned(way, a)) for a in _TURNS_DEG]
    return _turned(way, float(_TURNS_DEG[int(np.argmax(spread))]))


def _turned(way: NDArray, deg: float) -> NDArray[np.float64]:
    c, s = np.cos(np.radians(deg)), np.sin(np.radians(deg))
    return np.array([c * way[0] - s * way[1], s * way[0] + c * way[1]])


def width_mm(local: NDArray, way: NDArray, tall: float, front: bool) -> float:
    """Of a crown's vertices (k, 3) in the plan: from its mesial to its distal side."""
    top = float(local[:, 2].max())
    high = local[local[:, 2] > top - _WIDE_SHARE * tall]
    edge = local[local[:, 2] > top - 0.25 * tall]
    low, far = np.quantile(high[:, :2] @ crown_axis(edge[:, :2], way, front), [_STRAY, 1 - _STRAY])
    return float(far - low)


def tips_of(local: NDArray, way: NDArray, outward: NDArray, place: int) -> NDArray[np.int64]:
    """(t,) numbers of the vertices at a crown's tips on the cheek side: of a molar two, the mesial first; of an incisor the middle of
    its edge. local : (k, 3) in the plan; way : (2,) along the arch, to distal; place : 1 to 8."""
    out, along = local[:, :2] @ outward, local[:, :2] @ way
    top = float(local[:, 2].max())
    if place < 3:
        edge = np.flatnonzero(local[:, 2] > top - _EDGE_MM)
        middle = np.median(along[edge])
        near = edge[np.abs(along[edge] - middle) < 1.0]
        return np.array([near[local[near, 2].argmax()]] if len(near) else [int(local[:, 2].argmax())])
    if place == 3:
        return np.array([int(local[:, 2].argmax())])
    high = local[:, 2] > top - 2.5
    cheek = np.flatnonzero(high & (out > np.median(out[high])))
    if place < 6 or len(cheek) < 2:
        return cheek[[local[cheek, 2].argmax()]] if len(cheek) else np.array([int(local[:, 2].argmax())])
    middle = (along[cheek].min() + along[cheek].max()) / 2
    halves = [cheek[along[cheek] < middle], cheek[along[cheek] >= middle]]
    return np.array([half[local[half, 2].argmax()] for half in halves if len(half)])
