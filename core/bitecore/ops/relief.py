"""How hollow the surface is at each vertex, as a shade: plaster keeps its dark in the fissures."""

from __future__ import annotations

import numba as nb
import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh, vertex_normals


@nb.njit(cache=True)
def mean_of_neighbours(faces: NDArray, values: NDArray, rounds: int) -> NDArray:
    n, k = values.shape
    for _ in range(rounds):
        total = np.zeros((n, k))
        count = np.zeros(n)
        for f in range(len(faces)):
            for c in range(3):
                a, b = faces[f, c], faces[f, (c + 1) % 3]
                for j in range(k):
                    total[a, j] += values[b, j]
                    total[b, j] += values[a, j]
                count[a] += 1
                count[b] += 1
        out = values.copy()
        for i in range(n):
            if count[i] > 0:
                for j in range(k):
                    out[i, j] = 0.4 * values[i, j] + 0.6 * total[i, j] / count[i]
        values = out
    return values


def hollowness(mesh: Mesh) -> NDArray[np.float64]:
    """(n,) how far, in mm, the smoothed surface stands above the vertex along its normal: fissures are positive."""
    normal = vertex_normals(mesh)
    fine = mean_of_neighbours(mesh.faces, mesh.vertices_mm.copy(), 4)
    wide = mean_of_neighbours(mesh.faces, fine.copy(), 14)
    return np.einsum("ij,ij->i", (wide - fine) * 3.2, normal)


def plaster_shade(mesh: Mesh) -> NDArray[np.float64]:
    """(n,) factor 0.45 to 1.06 on the plaster colour: darker in fissures, a little lighter on edges."""
    hollow = hollowness(mesh)
    return np.clip(1.0 - np.clip(hollow, 0, None) * 1.5 + np.clip(-hollow, 0, 0.15) * 0.4, 0.45, 1.06)
