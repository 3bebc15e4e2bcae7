"""How high and how low a surface lies over each place of a plan."""

from __future__ import annotations

import numba as nb
import numpy as np
from numpy.typing import NDArray


@nb.njit(cache=True, nogil=True)
def _raster(v, f, low, cell, lowest, highest):
    nx, ny = lowest.shape
    for t in range(len(f)):
        a, b, c = f[t, 0], f[t, 1], f[t, 2]
        ax, ay, bx, by, cx, cy = v[a, 0], v[a, 1], v[b, 0], v[b, 1], v[c, 0], v[c, 1]
        area = (bx - ax) * (cy - ay) - (cx - ax) * (by - ay)
        if abs(area) < 1e-12:
            continue
        i0 = max(int(np.ceil((min(ax, bx, cx) - low[0]) / cell)), 0)
        i1 = min(int(np.floor((max(ax, bx, cx) - low[0]) / cell)), nx - 1)
        j0 = max(int(np.ceil((min(ay, by, cy) - low[1]) / cell)), 0)
        j1 = min(int(np.floor((max(ay, by, cy) - low[1]) / cell)), ny - 1)
        for i in range(i0, i1 + 1):
            x = low[0] + i * cell - ax
            for j in range(j0, j1 + 1):
                y = low[1] + j * cell - ay
                s = (x * (cy - ay) - (cx - ax) * y) / area
                u = ((bx - ax) * y - x * (by - ay)) / area
                if s >= -1e-9 and u >= -1e-9 and s + u <= 1 + 1e-9:
                    z = v[a, 2] + s * (v[b, 2] - v[a, 2]) + u * (v[c, 2] - v[a, 2])
                    lowest[i, j] = min(lowest[i, j], z)
                    highest[i, j] = max(highest[i, j], z)


def heights(
    points: NDArray[np.float64], faces: NDArray[np.int32], low: NDArray[np.float64], shape: tuple[int, int], cell: float
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """(lowest, highest), each of `shape`: z of the triangles over every place of a grid along x and y, +inf and -inf where there is
    none.

    points : (n, 3) mm; low : (2,) the place of cell 0, 0
    """
    lowest, highest = np.full(shape, np.inf), np.full(shape, -np.inf)
    _raster(points, faces, np.asarray(low, np.float64), cell, lowest, highest)
    return lowest, highest
