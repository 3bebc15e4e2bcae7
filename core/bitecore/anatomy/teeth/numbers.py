"""Which tooth a place is on, by a mesh that carries the numbers of its teeth as its channel."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ...mesh import Mesh, used_vertices

# A place farther than this from the surface is on no tooth of it.
_ON_MM = 1.0


def numbers_at(mesh: Mesh | None, points_mm: NDArray[np.float64]) -> list[int | None]:
    """For each of (k, 3) places the number of the tooth of a mesh of Teeth; None on gum, off the surface, and while none is told."""
    if mesh is None or mesh.channel is None or not len(points_mm):
        return [None] * len(points_mm)
    used = used_vertices(mesh)
    away, at = cKDTree(mesh.vertices_mm[used]).query(points_mm)
    number = np.nan_to_num(mesh.channel.values[used][at])
    return [int(n) if n > 0 and d < _ON_MM else None for n, d in zip(number, away, strict=True)]


def numbers_of_faces(mesh: Mesh) -> NDArray[np.int16]:
    """(m,) FDI number of each triangle of a mesh of Teeth: 0 gum and between two teeth, -1 not told."""
    assert mesh.channel is not None
    corner = np.nan_to_num(mesh.channel.values)[mesh.faces].astype(np.int16)
    same = (corner[:, 0] == corner[:, 1]) & (corner[:, 1] == corner[:, 2])
    return np.where(same, corner[:, 0], np.where((corner < 0).any(1), -1, 0)).astype(np.int16)
