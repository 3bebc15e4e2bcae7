"""Boxes in a plane by the cells of a grid that they touch."""

from __future__ import annotations

import numba as nb
import numpy as np


@nb.njit(cache=True)
def bins(low, high, origin, cell, nx, ny) -> tuple[np.ndarray, np.ndarray]:
    """start (nx ny + 1,), item: of each cell, the boxes from low to high (k, 2) that touch it. Every box lies within the grid."""
    start = np.zeros(nx * ny + 1, np.int64)
    for pass_two in range(2):
        if pass_two:
            total = 0
            for i in range(nx * ny + 1):
                n = start[i]
                start[i] = total
                total += n
            item = np.empty(total, np.int64)
            slot = start[:-1].copy()
        for k in range(len(low)):
            for i in range(int((low[k, 0] - origin[0]) / cell), int((high[k, 0] - origin[0]) / cell) + 1):
                for j in range(int((low[k, 1] - origin[1]) / cell), int((high[k, 1] - origin[1]) / cell) + 1):
                    c = i * ny + j
                    if pass_two:
                        item[slot[c]] = k
                        slot[c] += 1
                    else:
                        start[c] += 1
    return start, item
