"""Whether a closed scan lies on a jaw as the two files have it: a denture saved with its model, a piece that was split off."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..mesh import Mesh
from ..mesh.measures import face_areas_mm2, face_normals, vertex_normals
from ..mesh.topology import at_border
from ..ops.closest import ClosestPoints

# What lies on each other faces each other this near, over so much at least, and goes no deeper in (judgement); of its
# corners, three in a hundred may be deeper: the flange of a denture presses on soft tissue.
_NEAR_MM, _LEAST_MM2, _DEEP_MM, _HARDLY = 0.3, 20.0, 0.3, 0.03
_FACING, _LOOKED_MM = -0.5, 2.0


@dataclass(frozen=True)
class AsCame:
    """facing_mm2 : how much of it faces the jaw within 0.3 mm; share : of its surface; rms_mm : how far off that is; deep_mm : how far it
    goes into the jaw"""

    facing_mm2: float
    share: float
    rms_mm: float
    deep_mm: float

    @property
    def lies(self) -> bool:
        return self.facing_mm2 >= _LEAST_MM2 and self.deep_mm <= _DEEP_MM


def as_came(own: Mesh, on: Mesh) -> AsCame:
    """Both in one frame, mm, with their surfaces outwards; `on` may be open."""
    off, hits = ClosestPoints(on).signed(own.vertices_mm, within_mm=_LOOKED_MM)
    face = np.maximum(hits.face, 0)
    # Beside the border of an open scan nothing is in it or out of it.
    met = (hits.face >= 0) & ~at_border(on)[face]
    faces = met & (np.einsum("ij,ij->i", vertex_normals(own), face_normals(on)[face]) < _FACING)
    near = faces & (np.abs(off) < _NEAR_MM)
    area = face_areas_mm2(own)
    facing = float(area[near[own.faces].all(1)].sum())
    rms = float(np.sqrt(np.mean(off[near] ** 2))) if near.any() else 0.0
    return AsCame(facing, facing / float(area.sum()), rms, max(float(-np.quantile(np.where(met, off, _LOOKED_MM), _HARDLY)), 0.0))
