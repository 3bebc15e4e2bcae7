"""A closed mesh as a grid of cells, told by the winding number along upright lines."""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh

# Where the grid begins, in cells: irrational, so that no grid line runs through corners of meshes that were cut on another one.
_PHASE = (0.1371, 0.1887, 0.1013)


@nb.njit(cache=True, inline="always")
def _side(v, a, b, x, y):
    """On which side of the edge a-b the line at x, y lies; the same number to the last bit for both triangles of the edge."""
    if a < b:
        return (v[b, 0] - v[a, 0]) * (y - v[a, 1]) - (v[b, 1] - v[a, 1]) * (x - v[a, 0])
    return -((v[a, 0] - v[b, 0]) * (y - v[b, 1]) - (v[a, 1] - v[b, 1]) * (x - v[b, 0]))


@nb.njit(cache=True, nogil=True)
def _winding(v, f, low, cell, nx, ny, nz):
    out = np.zeros((nx, ny, nz + 1), np.int16)
    for t in range(len(f)):
        a, b, c = f[t, 0], f[t, 1], f[t, 2]
        i0 = max(int(np.ceil((min(v[a, 0], v[b, 0], v[c, 0]) - low[0]) / cell)), 0)
        i1 = min(int(np.floor((max(v[a, 0], v[b, 0], v[c, 0]) - low[0]) / cell)), nx - 1)
        j0 = max(int(np.ceil((min(v[a, 1], v[b, 1], v[c, 1]) - low[1]) / cell)), 0)
        j1 = min(int(np.floor((max(v[a, 1], v[b, 1], v[c, 1]) - low[1]) / cell)), ny - 1)
        z0, z1 = min(v[a, 2], v[b, 2], v[c, 2]), max(v[a, 2], v[b, 2], v[c, 2])
        for i in range(i0, i1 + 1):
            for j in range(j0, j1 + 1):
                x, y = low[0] + i * cell, low[1] + j * cell
                wa, wb, wc = _side(v, b, c, x, y), _side(v, c, a, x, y), _side(v, a, b, x, y)
                # A line through an edge belongs to one of its triangles only.
                pa, pb, pc = wa > 0 or (wa == 0 and b < c), wb > 0 or (wb == 0 and c < a), wc > 0 or (wc == 0 and a < b)
                if pa != pb or pb != pc:
                    continue
                total = wa + wb + wc
                z = (wa * v[a, 2] + wb * v[b, 2] + wc * v[c, 2]) / total if total != 0 else 0.5 * (z0 + z1)
                k = int(np.ceil((min(max(z, z0), z1) - low[2]) / cell))
                # Going up through a face that looks up leaves the solid.
                out[i, j, min(max(k, 0), nz)] += -1 if pa else 1
    for i in range(nx):
        for j in range(ny):
            total = 0
            for k in range(nz):
                total += out[i, j, k]
                out[i, j, k] = total
    return out[:, :, :nz]


@dataclass(frozen=True)
class Voxels:
    """inside : (nx, ny, nz) whether the middle of each cell lies in the solid; low : (3,) mm, the middle of cell 0, 0, 0"""

    inside: NDArray[np.bool_]
    low: NDArray[np.float64]
    cell: float

    def middles(self, cells: NDArray[np.bool_]) -> NDArray[np.float64]:
        """(k, 3) mm of those that are marked, in the order of np.argwhere."""
        return np.argwhere(cells) * self.cell + self.low

    def of(self, mesh: Mesh) -> Voxels:
        """Another closed mesh on the same cells; what of it lies beyond them is left out."""
        return Voxels(_winding(mesh.vertices_mm, mesh.faces, self.low, self.cell, *self.inside.shape) > 0, self.low, self.cell)

    @property
    def volume_ml(self) -> float:
        return float(self.inside.sum()) * self.cell**3 / 1000


def voxels(mesh: Mesh, *, cell: float, pad: float, phase: tuple[float, float, float] = _PHASE) -> Voxels:
    """The solid inside a closed mesh (mm), parts that overlap united; pad : mm of empty cells around it. Time grows with the
    triangles and with the upright lines through them.

    phase : where the grid begins, in cells. Of a body cut on one grid another phase is asked for: its corners lie on the first.
    """
    low = mesh.vertices_mm.min(0) - pad - cell * np.array(phase)
    count = np.ceil((mesh.vertices_mm.max(0) + pad - low) / cell).astype(int) + 1
    winding = _winding(mesh.vertices_mm, mesh.faces, low, cell, *(int(n) for n in count))
    return Voxels(winding > 0, low, cell)
