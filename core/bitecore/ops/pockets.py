"""Where resin stays in a body that stands on the plate, and where the plate shuts a room in: on a grid of cells.

Resin leaves a cell where some way to the outside climbs nowhere above it (as lakes are found in terrain: Barnes, Lehman and Mulla,
Priority-flood, 2014, from memory); here by joining the empty cells level by level from the plate up (union-find). What is joined to the
outside by the time its own level is added runs off; what is joined later stands until then; what is joined never is closed.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from .unions import root_of
from .voxels import Voxels


@dataclass(frozen=True)
class Pocket:
    """ml of resin that stay; low_mm : (3,) the middle of what of it lies lowest"""

    ml: float
    low_mm: NDArray[np.float64]


@nb.njit(cache=True, nogil=True)
def _swept(empty, within):
    """((nx, ny, nz) whether each cell's resin runs off, (nz,) the cells of `within` in the largest room that is shut in when its layer is
    the last). z last; the sides of the grid are outside, its bottom is not."""
    nx, ny, nz = empty.shape
    parent = np.arange(nx * ny * nz, dtype=np.int32)
    out = np.zeros(nx * ny * nz, np.bool_)
    runs_off = np.zeros((nx, ny, nz), np.bool_)
    here = np.zeros(nx * ny * nz, np.int32)
    largest = np.zeros(nz, np.int64)
    for k in range(nz):
        for i in range(nx):
            for j in range(ny):
                if not empty[i, j, k]:
                    continue
                a = np.int32((i * ny + j) * nz + k)
                root = root_of(parent, a)
                edge = i == 0 or j == 0 or i == nx - 1 or j == ny - 1
                for side in range(3):
                    if side == 0 and i > 0 and empty[i - 1, j, k]:
                        b = a - ny * nz
                    elif side == 1 and j > 0 and empty[i, j - 1, k]:
                        b = a - nz
                    elif side == 2 and k > 0 and empty[i, j, k - 1]:
                        b = a - 1
                    else:
                        continue
                    other = root_of(parent, b)
                    if other != root:
                        parent[root] = other
                        out[other] = out[other] or out[root]
                        root = other
                if edge:
                    out[root] = True
        for i in range(nx):
            for j in range(ny):
                if empty[i, j, k]:
                    root = root_of(parent, (i * ny + j) * nz + k)
                    if out[root]:
                        runs_off[i, j, k] = True
                    elif within[i, j, k]:
                        here[root] += 1
                        largest[k] = max(largest[k], here[root])
        for i in range(nx):
            for j in range(ny):
                if empty[i, j, k]:
                    here[root_of(parent, (i * ny + j) * nz + k)] = 0
    return runs_off, largest


def pockets(
    solid: Voxels, *, plate_mm: float | None, least_ml: float = 0.0, within: NDArray[np.bool_] | None = None
) -> tuple[list[Pocket], float]:
    """(where resin stays in a solid that stands with z up, the largest first; mm² of the largest room that plate and layer shut in).

    plate_mm : the height of the plate it stands on; None: it is held up, and open underneath. The grid has empty cells round the solid.
    within   : only what is in these cells counts: a bowl in the outside of a model is no hollow of it
    """
    empty = ~solid.inside
    within = np.ones_like(empty) if within is None else within
    if plate_mm is not None:
        empty[:, :, : int(np.ceil((plate_mm - solid.low[2]) / solid.cell - 1e-9))] = False
    runs_off, largest = _swept(np.ascontiguousarray(empty), np.ascontiguousarray(within))
    label, count = ndimage.label(empty & ~runs_off & within)
    out = []
    ml = np.bincount(label.ravel(), minlength=count + 1) * solid.cell**3 / 1000
    places = ndimage.find_objects(label)
    for k in range(1, count + 1):
        if ml[k] < least_ml:
            continue
        box = places[k - 1]
        cells = np.argwhere(label[box] == k)
        low = cells[cells[:, 2] == cells[:, 2].min()].mean(0) + [s.start for s in box]
        out.append(Pocket(float(ml[k]), low * solid.cell + solid.low))
    return sorted(out, key=lambda p: -p.ml), float(largest.max(initial=0)) * solid.cell**2
