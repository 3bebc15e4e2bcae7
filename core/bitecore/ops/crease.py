"""Vertices split where an edge is hard, so that anatomy shades softly and the base shows its edges."""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import NDArray

from ..mesh import GROUP_CUT, Mesh, face_normals


@nb.njit(cache=True)
def _corner_normals(faces, made, normal, area, n, cosine):
    """Per corner the mean normal of faces at its vertex on the same side of a hard edge."""
    m = len(faces)
    start = np.zeros(n + 1, np.int64)
    for f in range(m):
        for k in range(3):
            start[faces[f, k] + 1] += 1
    for i in range(n):
        start[i + 1] += start[i]
    slot = start[:-1].copy()
    item = np.empty(3 * m, np.int64)
    for f in range(m):
        for k in range(3):
            v = faces[f, k]
            item[slot[v]] = f
            slot[v] += 1
    out = np.zeros((3 * m, 3))
    for f in range(m):
        for k in range(3):
            v = faces[f, k]
            for i in range(start[v], start[v + 1]):
                g = item[i]
                if made[g] != made[f]:
                    continue
                if made[f]:
                    dot = 0.0
                    for c in range(3):
                        dot += normal[f, c] * normal[g, c]
                    if dot < cosine:
                        continue
                for c in range(3):
                    out[3 * f + k, c] += normal[g, c] * area[g]
    return out


@dataclass(frozen=True)
class Creased:
    """source (k,) the mesh vertex of each split vertex; normals (k, 3); faces (m, 3) over split vertices."""

    source: NDArray[np.int64]
    normals: NDArray[np.float64]
    faces: NDArray[np.int64]


def creased(mesh: Mesh, *, angle_deg: float = 38.0) -> Creased:
    """Scan and patches are smooth throughout; made faces break at angles over angle_deg and against the scan."""
    made = mesh.groups == GROUP_CUT
    normal = face_normals(mesh)
    a, b, c = (mesh.vertices_mm[mesh.faces[:, k]] for k in range(3))
    # Long thin walls would drown the rest by area: its root is fair to both.
    area = np.sqrt(np.linalg.norm(np.cross(b - a, c - a), axis=1))
    corner = _corner_normals(mesh.faces, made, normal, area, len(mesh.vertices_mm), np.cos(np.radians(angle_deg)))
    corner /= np.maximum(np.linalg.norm(corner, axis=1, keepdims=True), 1e-12)
    vertex = mesh.faces.ravel().astype(np.int64)
    key = np.where(np.repeat(made, 3), 1 + _quantised(corner), 0)
    pair = vertex * (1 << 24) + key
    _, first, inverse = np.unique(pair, return_index=True, return_inverse=True)
    return Creased(vertex[first], corner[first], inverse.reshape(-1, 3))


def _quantised(normals: NDArray) -> NDArray[np.int64]:
    q = np.rint((normals + 1) * 31).astype(np.int64)
    return (q[:, 0] << 12) | (q[:, 1] << 6) | q[:, 2]
