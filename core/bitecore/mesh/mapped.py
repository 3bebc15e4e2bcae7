"""Distances on a surface, as the faces of a mesh of their own: what the stage draws as a map."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .mesh import Mesh

# One step of the code, the code of no distance, the code of nothing known. Below UNKNOWN lie the GROUP_* of other meshes.
STEP_MM, NOUGHT, UNKNOWN = 0.004, 129, 3


def mapped(mesh: Mesh, off_mm: NDArray[np.float64]) -> Mesh:
    """The same surface; groups : (m,) the mean distance of each face's corners in steps of STEP_MM about NOUGHT, cut off at
    half a millimetre; UNKNOWN where a corner has none. off_mm : (n,), NaN for unknown."""
    mean = off_mm[mesh.faces].mean(1)
    code = np.clip(np.rint(np.nan_to_num(mean) / STEP_MM) + NOUGHT, UNKNOWN + 1, 255)
    return Mesh.of(mesh.vertices_mm, mesh.faces, np.where(np.isnan(mean), UNKNOWN, code).astype(np.uint8))


def is_map(mesh: Mesh) -> bool:
    return bool((mesh.groups >= UNKNOWN).any())


def codes_of(mesh: Mesh) -> NDArray[np.uint8]:
    """(n,) of each vertex: the mean of the known faces around it."""
    known = mesh.groups > UNKNOWN
    corner = mesh.faces[known].ravel()
    total = np.bincount(corner, np.repeat(mesh.groups[known], 3), len(mesh.vertices_mm))
    count = np.bincount(corner, minlength=len(mesh.vertices_mm))
    return np.where(count > 0, np.rint(total / np.maximum(count, 1)), UNKNOWN).astype(np.uint8)
