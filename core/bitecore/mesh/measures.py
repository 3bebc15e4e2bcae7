"""Measures of a mesh in closed form."""

from __future__ import annotations

from typing import Any

import numba as nb
import numpy as np
from numpy.typing import NDArray

from .mesh import Mesh


def corners(mesh: Mesh) -> tuple[NDArray, NDArray, NDArray]:
    """Three (m, 3) arrays of corner positions in mm."""
    v, f = mesh.vertices_mm, mesh.faces
    return v[f[:, 0]], v[f[:, 1]], v[f[:, 2]]


def area_vectors(mesh: Mesh) -> NDArray:
    """(m, 3) normal of each face times its area, in mm^2."""
    if "area_vectors" not in mesh._memo:
        v, f = mesh.vertices_mm, mesh.faces
        mesh._memo["area_vectors"] = _area_vectors(v, f)
    return mesh._memo["area_vectors"]


def face_areas_mm2(mesh: Mesh) -> NDArray:
    """(m,)"""
    if "areas" not in mesh._memo:
        mesh._memo["areas"] = np.linalg.norm(area_vectors(mesh), axis=1)
    return mesh._memo["areas"]


@nb.njit(cache=True, nogil=True)
def _area_vectors(v, f):
    out = np.empty((len(f), 3))
    for i in range(len(f)):
        a, b, c = f[i, 0], f[i, 1], f[i, 2]
        ex, ey, ez = v[b, 0] - v[a, 0], v[b, 1] - v[a, 1], v[b, 2] - v[a, 2]
        gx, gy, gz = v[c, 0] - v[a, 0], v[c, 1] - v[a, 1], v[c, 2] - v[a, 2]
        out[i, 0] = 0.5 * (ey * gz - ez * gy)
        out[i, 1] = 0.5 * (ez * gx - ex * gz)
        out[i, 2] = 0.5 * (ex * gy - ey * gx)
    return out


def used_vertices(mesh: Mesh) -> NDArray:
    """Ascending numbers of the vertices that faces use."""
    if "used" not in mesh._memo:
        mesh._memo["used"] = np.flatnonzero(corners_of(mesh, slice(None)))
    return mesh._memo["used"]


def corners_of(mesh: Mesh, which: NDArray | slice) -> NDArray[np.bool_]:
    """(n,) the vertices that these faces (a mask or numbers) use."""
    used = np.zeros(len(mesh.vertices_mm), bool)
    used[mesh.faces[which]] = True
    return used


def area_mm2(mesh: Mesh) -> float:
    return float(face_areas_mm2(mesh).sum())


def vector_area_mm2(mesh: Mesh) -> NDArray:
    """(3,) sum of the area vectors: zero for a closed surface, for an open one it depends on the border alone."""
    return area_vectors(mesh).sum(0)


def volumes_mm3(mesh: Mesh, piece: NDArray[np.int32], count: int) -> NDArray[np.float64]:
    """(count,) of the closed pieces of a mesh, below nought of one that faces inwards. piece : (m,) which each face is of"""
    a, b, c = corners(mesh)
    # From a place near by: far from nought the sum would lose its last digits.
    a, b, c = (p - mesh.vertices_mm[0] for p in (a, b, c))
    return np.asarray(np.bincount(piece, np.einsum("ij,ij->i", a, np.cross(b, c)) / 6.0, count), np.float64)


def volume_ml(mesh: Mesh) -> float:
    """Signed volume of a closed surface by the divergence theorem; 1 ml = 1000 mm^3."""
    a, b, c = corners(mesh)
    middle = mesh.vertices_mm.mean(0) if len(mesh.vertices_mm) else np.zeros(3)
    return float(np.einsum("ij,ij->", a - middle, np.cross(b - middle, c - middle)) / 6000.0)


def bounds_mm(mesh: Mesh) -> tuple[NDArray, NDArray]:
    used = mesh.vertices_mm[used_vertices(mesh)]
    return used.min(0), used.max(0)


def face_normals(mesh: Mesh) -> NDArray:
    """(m, 3) unit normals; zero for faces without area."""
    n, length = area_vectors(mesh), face_areas_mm2(mesh)[:, None]
    return np.divide(n, length, out=np.zeros_like(n), where=length > 1e-15)


def vertex_normals(mesh: Mesh) -> NDArray:
    """(n, 3) unit normals weighted by the corner angle (Thürmer and Wüthrich 1998), zero where no face is."""
    out = _angle_weighted(mesh.vertices_mm, mesh.faces, face_normals(mesh))
    length = np.linalg.norm(out, axis=1, keepdims=True)
    return np.divide(out, length, out=np.zeros_like(out), where=length > 1e-15)


@nb.njit(cache=True, nogil=True)
def _angle_weighted(v, f, normal):
    out = np.zeros_like(v)
    for i in range(len(f)):
        for k in range(3):
            p, q, r = f[i, k], f[i, (k + 1) % 3], f[i, (k + 2) % 3]
            ee, gg, eg = 0.0, 0.0, 0.0
            for x in range(3):
                e, g = v[q, x] - v[p, x], v[r, x] - v[p, x]
                ee, gg, eg = ee + e * e, gg + g * g, eg + e * g
            scale = np.sqrt(ee * gg)
            weight = np.arccos(min(max(eg / scale, -1.0), 1.0)) if scale > 0.0 else 0.0
            for x in range(3):
                out[p, x] += weight * normal[i, x]
    return out


@nb.njit(cache=True, nogil=True)
def _moments(v, f, vector):
    """(area, first moment, 12 times the second) about `shift`, which keeps digits far from the origin."""
    shift = np.zeros(3)
    for x in range(3):
        for i in range(len(f)):
            shift[x] += v[f[i, 0], x]
        shift[x] /= max(len(f), 1)
    total, first, second = 0.0, np.zeros(3), np.zeros((3, 3))
    p, m = np.empty((3, 3)), np.empty(3)
    for i in range(len(f)):
        w = np.sqrt(vector[i, 0] ** 2 + vector[i, 1] ** 2 + vector[i, 2] ** 2)
        total += w
        for x in range(3):
            for k in range(3):
                p[k, x] = v[f[i, k], x] - shift[x]
            m[x] = (p[0, x] + p[1, x] + p[2, x]) / 3
            first[x] += w * m[x]
        for x in range(3):
            for y in range(3):
                second[x, y] += w * (p[0, x] * p[0, y] + p[1, x] * p[1, y] + p[2, x] * p[2, y] + 9 * m[x] * m[y])
    return total, first, second, shift


def surface_print(mesh: Mesh) -> dict[str, Any]:
    """What stays the same of a surface wherever it lies: area_mm2 and spread_mm (three, how far it reaches along its own
    axes); and middle_mm, where it lies. Exact moments of the triangles (second moments by their corners, as in
    textbooks of mechanics: the mean over a triangle of x xᵀ is (Σ pᵢpᵢᵀ + 9 m mᵀ) / 12, m its middle)."""
    total, first, second, shift = _moments(mesh.vertices_mm, mesh.faces, area_vectors(mesh))
    mean = first / total
    spread = np.sqrt(np.clip(np.linalg.eigvalsh(second / (12 * total) - np.outer(mean, mean)), 0, None))
    return {
        "area_mm2": round(total, 4),
        "spread_mm": [round(float(s), 6) for s in spread],
        "middle_mm": [round(float(x), 5) for x in mean + shift],
    }
