"""Numbers at every vertex of a surface: made even, and grown over it. A region is where such a number is above nought, taken as linear
over each triangle: the cut along it then runs exactly through the triangles."""

from __future__ import annotations

import numba as nb
import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh
from .geodesic import distances

# A cut that passes so close by a vertex, as a share of the edge to it, goes through it: no slivers along the cut.
SNAP = 0.04
# So far beyond where they are asked for distances are told; farther they stay at this.
_BEYOND_MM = 2.0


@nb.njit(cache=True)
def smooth_field(faces, value, active, rounds) -> np.ndarray:
    """Mean with the neighbours, where active, a few times."""
    n = value.shape[0]
    for _ in range(rounds):
        total = np.zeros(n)
        count = np.zeros(n)
        for f in range(faces.shape[0]):
            for k in range(3):
                a, b = faces[f, k], faces[f, (k + 1) % 3]
                total[a] += value[b]
                count[a] += 1
                total[b] += value[a]
                count[b] += 1
        for i in range(n):
            if active[i] and count[i] > 0:
                value[i] = 0.5 * value[i] + 0.5 * total[i] / count[i]
    return value


def signed(mesh: Mesh, value: NDArray[np.float64], *, reach_mm: float) -> NDArray[np.float64]:
    """(n,) mm over the surface from the rim of the region where `value` (n,) is above nought: positive within, negative without, and
    no farther than reach_mm and a little told."""
    far = reach_mm + _BEYOND_MM
    inside = value > 0
    faces = mesh.faces.astype(np.int64)
    a, b = faces.ravel(), faces[:, [1, 2, 0]].ravel()
    over = inside[a] != inside[b]
    a, b = np.r_[a[over], b[over]], np.r_[b[over], a[over]]
    length = np.linalg.norm(mesh.vertices_mm[a] - mesh.vertices_mm[b], axis=1)
    apart = np.abs(value[a] - value[b])
    near = length * np.where(apart > 0, np.abs(value[a]) / np.where(apart > 0, apart, 1.0), 0.5)
    first = np.full(len(value), np.inf)
    np.minimum.at(first, a, near)
    out = np.full(len(value), far)
    for side in (inside, ~inside):
        begun = np.where(side, first, np.inf)
        if np.isfinite(begun).any():
            out = np.where(side, np.minimum(distances(mesh, begun, reach_mm=far, round_mm=4.0), far), out)
    return np.where(inside, out, -out)


def grown(mesh: Mesh, value: NDArray[np.float64], mm: float) -> NDArray[np.float64]:
    """The region so many mm larger over the surface, or smaller."""
    return signed(mesh, value, reach_mm=abs(mm)) + mm


def snapped(mesh: Mesh, value: NDArray[np.float64]) -> NDArray[np.float64]:
    """The same region, cut through vertices it passes close by."""
    faces = mesh.faces.astype(np.int64)
    a, b = faces.ravel(), faces[:, [1, 2, 0]].ravel()
    over = (value[a] > 0) != (value[b] > 0)
    a, b = np.r_[a[over], b[over]], np.r_[b[over], a[over]]
    close = np.abs(value[a]) < SNAP * np.abs(value[a] - value[b])
    out = value.copy()
    out[a[close]] = 0.0
    return out
