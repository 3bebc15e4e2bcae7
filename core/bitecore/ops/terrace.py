"""How high the top of a land is where it follows the border: as gently as a hand with a trimmer leaves it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from scipy.spatial import cKDTree

# It is nowhere higher than the border so far along the wall, and evens out over as much.
_ALONG_MM = 8.0


def gentle(rings: Sequence[NDArray[np.float64]], top: NDArray[np.float64]) -> NDArray[np.float64]:
    """(n,) at the corners of rings (k, 2) end to end: under these heights everywhere, and even."""
    out = []
    for ring, height in zip(rings, np.split(top, np.cumsum([len(r) for r in rings])[:-1]), strict=True):
        out.append(_even(ring, height))
    return np.concatenate(out)


def carried_out(outer: NDArray[np.float64], inner: NDArray[np.float64], height: NDArray[np.float64]) -> NDArray[np.float64]:
    """(k,) at the corners of a ring outside of others: what it is at the corner nearest to each, and even again."""
    return _even(outer, height[cKDTree(inner).query(outer)[1]])


def _even(ring: NDArray, height: NDArray) -> NDArray[np.float64]:
    """On steps of equal length, so that close corners count no more than others: the least within _ALONG_MM, and means of it."""
    run = np.r_[0.0, np.cumsum(np.linalg.norm(np.roll(ring, -1, axis=0) - ring, axis=1))]
    count = max(int(run[-1]), 6)
    at = np.arange(count) * run[-1] / count
    level = np.interp(at, run, np.r_[height, height[0]])
    np.minimum.at(level, (run[:-1] / run[-1] * count).astype(int) % count, height)
    wide = min(int(_ALONG_MM), (count - 3) // 2)
    level = ndimage.minimum_filter1d(level, 2 * wide + 3, mode="wrap")
    for _ in range(2):
        level = ndimage.uniform_filter1d(level, wide | 1, mode="wrap")
    return np.interp(run[:-1], np.r_[at, run[-1]], np.r_[level, level[0]])
