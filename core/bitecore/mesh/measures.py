"""Measures of a mesh in closed form."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .mesh import Mesh


def corners(mesh: Mesh) -> tuple[NDArray, NDArray, NDArray]:
    """Three (m, 3) arrays of corner positions in mm."""
    v, f = mesh.vertices_mm, mesh.faces
    return v[f[:, 0]], v[f[:, 1]], v[f[:, 2]]


def area_vectors(mesh: Mesh) -> NDArray:
    """(m, 3) normal of each face times its area, in mm^2."""
    a, b, c = corners(mesh)
    return 0.5 * np.cross(b - a, c - a)


def area_mm2(mesh: Mesh) -> float:
    return float(np.linalg.norm(area_vectors(mesh), axis=1).sum())


def vector_area_mm2(mesh: Mesh) -> NDArray:
    """(3,) sum of the area vectors: zero for a closed surface, for an open one it depends on the border alone."""
    return area_vectors(mesh).sum(0)


def volume_ml(mesh: Mesh) -> float:
    """Signed volume of a closed surface by the divergence theorem; 1 ml = 1000 mm^3."""
    a, b, c = corners(mesh)
    middle = mesh.vertices_mm.mean(0) if len(mesh.vertices_mm) else np.zeros(3)
    return float(np.einsum("ij,ij->", a - middle, np.cross(b - middle, c - middle)) / 6000.0)


def bounds_mm(mesh: Mesh) -> tuple[NDArray, NDArray]:
    used = mesh.vertices_mm[mesh.faces.ravel()]
    return used.min(0), used.max(0)


def face_normals(mesh: Mesh) -> NDArray:
    """(m, 3) unit normals; zero for faces without area."""
    n = area_vectors(mesh)
    length = np.linalg.norm(n, axis=1, keepdims=True)
    return np.divide(n, length, out=np.zeros_like(n), where=length > 1e-15)


def vertex_normals(mesh: Mesh) -> NDArray:
    """(n, 3) unit normals weighted by the corner angle (Thürmer and Wüthrich 1998), zero where no face is."""
    v, f = mesh.vertices_mm, mesh.faces
    normal = face_normals(mesh)
    out = np.zeros_like(v)
    for k in range(3):
        p, q, r = v[f[:, k]], v[f[:, (k + 1) % 3]], v[f[:, (k + 2) % 3]]
        e, g = q - p, r - p
        scale = np.linalg.norm(e, axis=1) * np.linalg.norm(g, axis=1)
        cosine = np.einsum("ij,ij->i", e, g) / np.maximum(scale, 1e-30)
        weight = np.arccos(np.clip(cosine, -1.0, 1.0))
        for axis in range(3):
            out[:, axis] += np.bincount(f[:, k], weight * normal[:, axis], len(v))
    length = np.linalg.norm(out, axis=1, keepdims=True)
    return np.divide(out, length, out=np.zeros_like(out), where=length > 1e-15)
