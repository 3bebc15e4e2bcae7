"""Vertices split where an edge is hard, so that anatomy shades softly and the base shows its edges."""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import NDArray

from ..mesh import GROUP_CUT, Mesh, edge_table, face_areas_mm2, face_normals

# So many times the usual edge of a scan, and at least so long, are no triangles of one.
_WALL_TIMES, _WALL_MM = 10.0, 2.0
# What is joined to one of them and leans no more against it belongs to its wall, so many triangles far.
_LEVEL, _WALL_ROUNDS = float(np.cos(np.radians(4.0))), 200


@nb.njit(cache=True)
def _corner_normals(faces, normal, area, n, cosine):
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
                dot = 0.0
                for c in range(3):
                    dot += normal[f, c] * normal[g, c]
                if dot < cosine:
                    continue
                for c in range(3):
                    out[3 * f + k, c] += normal[g, c] * area[g]
    return out


@nb.njit(cache=True)
def _smooth_normals(vertices, faces, made):
    """(normals, used) per vertex over the faces that were not made, weighted by the root of their area."""
    out = np.zeros_like(vertices)
    used = np.zeros(len(vertices), np.bool_)
    a, b, n = np.empty(3), np.empty(3), np.empty(3)
    for f in range(len(faces)):
        if made[f]:
            continue
        p, q, r = faces[f]
        for x in range(3):
            a[x], b[x] = vertices[q, x] - vertices[p, x], vertices[r, x] - vertices[p, x]
        n[0], n[1], n[2] = a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]
        size = np.sqrt(n[0] * n[0] + n[1] * n[1] + n[2] * n[2])
        for v in (p, q, r):
            used[v] = True
            if size > 0.0:
                for x in range(3):
                    out[v, x] += n[x] / np.sqrt(size)
    for v in range(len(vertices)):
        size = np.sqrt(out[v, 0] ** 2 + out[v, 1] ** 2 + out[v, 2] ** 2)
        if size > 1e-12:
            out[v] /= size
    return out, used


@dataclass(frozen=True)
class Creased:
    """source (k,) the mesh vertex of each split vertex; normals (k, 3); faces (m, 3) over split vertices."""

    source: NDArray[np.int64]
    normals: NDArray[np.float64]
    faces: NDArray[np.int64]


def of_walls(mesh: Mesh) -> NDArray[np.bool_]:
    """(m,) faces of walls and floors: those that were made, and of a model that came with its base those that are far longer than a
    scanner's."""
    corner = mesh.vertices_mm[mesh.faces]
    longest = np.sqrt(((corner - np.roll(corner, 1, axis=1)) ** 2).sum(2).max(1))
    made, usual = mesh.groups == GROUP_CUT, float(np.median(longest)) if len(longest) else 0.0
    came = ~made & (longest > max(_WALL_TIMES * usual, _WALL_MM))
    return made | (_level_with(mesh, came) if came.any() else came)


def _level_with(mesh: Mesh, walls: NDArray) -> NDArray[np.bool_]:
    """(m,) these faces, and what lies in the plane of one of them and is joined to it."""
    table, normal = edge_table(mesh), face_normals(mesh)
    half = np.flatnonzero(table.count == 2)
    one, other = half // 3, table.twin[half] // 3
    walls, plane = walls.copy(), np.where(walls[:, None], normal, 0.0)
    for _ in range(_WALL_ROUNDS):
        reached = walls[one] & ~walls[other]
        reached[reached] = np.einsum("ij,ij->i", plane[one[reached]], normal[other[reached]]) > _LEVEL
        if not reached.any():
            break
        plane[other[reached]] = plane[one[reached]]
        walls[other[reached]] = True
    return walls


def creased(mesh: Mesh, *, angle_deg: float = 38.0) -> Creased:
    """Scan and patches are smooth throughout; walls and floors break at angles over angle_deg and against the scan."""
    made = of_walls(mesh)
    smooth, used = _smooth_normals(mesh.vertices_mm, mesh.faces, made)
    kept = np.flatnonzero(used)
    new = np.cumsum(used) - 1
    faces = np.empty((mesh.triangles, 3), np.int64)
    faces[~made] = new[mesh.faces[~made]]
    vertex, corner, faces[made] = _hard(mesh, made, angle_deg, len(kept))
    return Creased(np.concatenate([kept, vertex]), np.concatenate([smooth[kept], corner]), faces)


def _hard(mesh: Mesh, made: NDArray, angle_deg: float, first_free: int) -> tuple[NDArray, NDArray, NDArray]:
    """(vertices, normals, faces numbered from first_free) of the made faces alone: they are few."""
    cut = mesh.of_faces(made)
    normal = face_normals(cut)
    # Long thin walls would drown the rest by area: its root is fair to both.
    area = np.sqrt(face_areas_mm2(cut))
    corner = _corner_normals(cut.faces, normal, area, len(cut.vertices_mm), np.cos(np.radians(angle_deg)))
    corner /= np.maximum(np.linalg.norm(corner, axis=1, keepdims=True), 1e-12)
    pair = cut.faces.ravel().astype(np.int64) * (1 << 24) + _quantised(corner)
    _, first, inverse = np.unique(pair, return_index=True, return_inverse=True)
    vertex = mesh.faces[made].ravel()[first]
    return vertex, corner[first], first_free + inverse.reshape(-1, 3)


def _quantised(normals: NDArray) -> NDArray[np.int64]:
    q = np.rint((normals + 1) * 31).astype(np.int64)
    return (q[:, 0] << 12) | (q[:, 1] << 6) | q[:, 2]
