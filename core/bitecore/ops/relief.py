"""How hollow the surface is at each vertex, as a shade: plaster keeps its dark in the fissures."""

from __future__ import annotations

import numba as nb
import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh, vertex_normals


@nb.njit(cache=True, nogil=True)
def _neighbours(faces, n):
    """(start (n + 1,), other): per vertex its neighbours, each once (at a border one is left out)."""
    start = np.zeros(n + 1, np.int32)
    for f in range(len(faces)):
        for c in range(3):
            start[faces[f, c] + 1] += 1
    for i in range(n):
        start[i + 1] += start[i]
    slot = start[:-1].copy()
    other = np.empty(3 * len(faces), np.int32)
    for f in range(len(faces)):
        for c in range(3):
            a = faces[f, c]
            other[slot[a]] = faces[f, (c + 1) % 3]
            slot[a] += 1
    return start, other


@nb.njit(cache=True, nogil=True)
def _smoothed(start, other, values, rounds):
    n = len(values)
    now, then = values.copy(), np.empty_like(values)
    for _ in range(rounds):
        for i in range(n):
            first, last = start[i], start[i + 1]
            share = 0.6 / (last - first) if last > first else 0.0
            own = 0.4 if last > first else 1.0
            x, y, z = 0.0, 0.0, 0.0
            for e in range(first, last):
                b = np.uint32(other[e])
                x += now[b, 0]
                y += now[b, 1]
                z += now[b, 2]
            then[i, 0] = own * now[i, 0] + share * x
            then[i, 1] = own * now[i, 1] + share * y
            then[i, 2] = own * now[i, 2] + share * z
        now, then = then, now
    return now


def mean_of_neighbours(faces: NDArray, values: NDArray, rounds: int) -> NDArray:
    """(n, 3) values, each drawn six tenths of the way to the mean of its neighbours, so many times."""
    start, other = _neighbours(faces, len(values))
    return _smoothed(start, other, values, rounds)


def neighbour_offsets(mesh: Mesh) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """(n,) distance in mm of each vertex from the middle of its neighbours, and (n,) what is usual around it."""
    start, other = _neighbours(mesh.faces, len(mesh.vertices_mm))
    mean = _smoothed(start, other, mesh.vertices_mm, 1)
    off = np.linalg.norm(mesh.vertices_mm - mean, axis=1) / 0.6
    around = np.repeat(off[:, None], 3, axis=1)
    # The vertex itself is left out of what is usual: a spike would excuse itself.
    wide = (_smoothed(start, other, around, 1)[:, 0] - 0.4 * off) / 0.6
    return off, wide


def hollowness(mesh: Mesh) -> NDArray[np.float64]:
    """(n,) how far, in mm, the smoothed surface stands above the vertex along its normal: fissures are positive."""
    normal = vertex_normals(mesh)
    start, other = _neighbours(mesh.faces, len(mesh.vertices_mm))
    # Half the digits are plenty for a shade, and half the memory to walk through.
    about = (mesh.vertices_mm - mesh.vertices_mm.mean(0)).astype(np.float32)
    fine = _smoothed(start, other, about, 4)
    wide = _smoothed(start, other, fine, 14)
    return np.einsum("ij,ij->i", (wide - fine) * 3.2, normal)


def plaster_shade(mesh: Mesh) -> NDArray[np.float64]:
    """(n,) factor 0.45 to 1.06 on the plaster colour: darker in fissures, a little lighter on edges."""
    hollow = hollowness(mesh)
    return np.clip(1.0 - np.clip(hollow, 0, None) * 1.5 + np.clip(-hollow, 0, 0.15) * 0.4, 0.45, 1.06)
