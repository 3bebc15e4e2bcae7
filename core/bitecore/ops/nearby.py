"""How far cells of a grid are from marked ones, exact up to a reach: row by row along each axis, as Felzenszwalb and Huttenlocher
(Distance Transforms of Sampled Functions, 2012) take the axes apart. Where far cells do not matter it is several times faster than
a transform of the whole grid."""

from __future__ import annotations

import numba as nb
import numpy as np
from numpy.typing import NDArray


@nb.njit(cache=True, nogil=True)
def _along_last(marked, reach, off, best):
    """Squared distance (capped) and index of the nearest marked cell within each row of the last axis."""
    nx, ny, nz = marked.shape
    far = (reach + 1) * (reach + 1)
    for i in range(nx):
        for j in range(ny):
            row = (i * ny + j) * nz
            last = -far
            for k in range(nz):
                if marked[i, j, k]:
                    last = k
                d = min(k - last, reach + 1)
                off[i, j, k], best[i, j, k] = d * d, row + max(last, 0)
            last = nz + far
            for k in range(nz - 1, -1, -1):
                if marked[i, j, k]:
                    last = k
                d = min(last - k, reach + 1)
                if d * d < off[i, j, k]:
                    off[i, j, k], best[i, j, k] = d * d, row + last


@nb.njit(cache=True, nogil=True)
def _along_first(off, best, reach, new_off, new_best):
    """The same between the rows of the first axis of (a, b, c)."""
    na, nb_, nc = off.shape
    for i in range(na):
        new_off[i], new_best[i] = off[i], best[i]
        for d in range(1, reach + 1):
            for side in (-d, d):
                n = i + side
                if n < 0 or n >= na:
                    continue
                for j in range(nb_):
                    for k in range(nc):
                        square = off[n, j, k] + d * d
                        if square < new_off[i, j, k]:
                            new_off[i, j, k], new_best[i, j, k] = square, best[n, j, k]


def nearby(marked: NDArray[np.bool_], *, within: int) -> tuple[NDArray[np.float32], NDArray[np.int32]]:
    """(nx, ny, nz) cells to the nearest marked cell, exact up to `within`, somewhat more beyond; and that cell's flat index, which
    means nothing beyond. Time grows with cells times `within`."""
    shape = marked.shape
    off, best = np.empty(shape, np.int32), np.empty(shape, np.int32)
    _along_last(np.ascontiguousarray(marked), within, off, best)
    for axis in (1, 0):
        before, which = (np.ascontiguousarray(np.swapaxes(a, 0, axis)) for a in (off, best))
        off, best = np.empty_like(before), np.empty_like(which)
        _along_first(before, which, within, off, best)
        off, best = np.swapaxes(off, 0, axis), np.swapaxes(best, 0, axis)
    return np.minimum(np.sqrt(off, dtype=np.float32), np.float32(within + 1)), np.ascontiguousarray(best)
