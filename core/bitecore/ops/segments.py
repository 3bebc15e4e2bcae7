"""Distances to straight lines with two ends."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

Segment = tuple[NDArray[np.float64], NDArray[np.float64]]


def to_segment(points: NDArray[np.float64], start: NDArray[np.float64], end: NDArray[np.float64]) -> NDArray[np.float64]:
    """(k,) how far (k, d) points lie from the line between two; d is 2 (seen from above) or 3."""
    way = end - start
    share = np.clip((points - start) @ way / max(float(way @ way), 1e-12), 0, 1)
    return np.linalg.norm(points - start - share[:, None] * way, axis=1)


def near_any(points: NDArray[np.float64], lines: Iterable[Segment], reach_mm: float) -> NDArray[np.bool_]:
    """(k,) which (k, 2) points lie, seen from above, within reach of one of the lines."""
    near = np.zeros(len(points), bool)
    for start, end in lines:
        near |= to_segment(points, start[:2], end[:2]) < reach_mm
    return near
