"""Posts that stand on one scan of a jaw where another has gum: scan bodies, whatever their ends look like."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh, face_areas_mm2, face_components, face_normals
from ..mesh.topology import at_border
from ..ops.closest import ClosestPoints
from ..ops.mend import largest_piece
from .jaw import Jaw

# Scan bodies are 3 to 6 mm wide and stand 3 to 14 mm out of the gum (common practice, no source); crowns are wider, or as
# narrow as that in one direction alone: incisors towards their edges (Wheeler's sizes, from memory).
_LEAST_MM, _MOST_MM, _LONGER, _CHANGES = 2.2, 6.2, 1.6, 1.65
_STANDS_MM, _LEAST_MM2 = 2.0, 15.0
# What stands less far out of the other scan is gum, or a crown that was ground; farther than the reach nothing is looked for.
_OUT_MM, _REACH_MM, _ABOVE = 1.0, 15.0, 0.7
# Where along its height it is looked at, and how thick each slice is, as shares of the height.
_SLICES, _THICK, _LEAST_POINTS = (0.25, 0.5, 0.72), 0.1, 8


def posts(moving: Jaw, on: Jaw, matrix: NDArray) -> int:
    """How many posts the first shows where the second has none; `matrix` (4, 4) takes the first's home to the second's."""
    stands = _stands_out(moving, on, matrix)
    part = moving.mesh.of_faces(stands[moving.mesh.faces].all(1))
    if part.triangles == 0:
        return 0
    count, label = face_components(part)
    area = np.bincount(label, face_areas_mm2(part), count)
    up = moving.up / np.linalg.norm(moving.up)
    return sum(_is_post(part, part.faces[label == c], up) for c in np.flatnonzero(area > _LEAST_MM2))


def _stands_out(moving: Jaw, on: Jaw, matrix: NDArray) -> NDArray[np.bool_]:
    """(n,) vertices well outside of the other scan: beside the border of that only what stands above it, as the last post of an
    arch does. Loose bits in the air are nothing to stand on."""
    whole = largest_piece(on.mesh)
    points = moving.mesh.vertices_mm @ matrix[:3, :3].T + matrix[:3, 3]
    hits = ClosestPoints(whole).query(points, within_mm=_REACH_MM)
    face = np.maximum(hits.face, 0)
    away = points - hits.point_mm
    outside = np.einsum("ij,ij->i", away, face_normals(whole)[face]) > 0
    above = away @ (on.up / np.linalg.norm(on.up)) > _ABOVE * hits.distance_mm
    rim = at_border(whole)[whole.faces[face]].any(1)
    return (hits.face >= 0) & (hits.distance_mm > _OUT_MM) & np.where(rim, above, outside)


def _is_post(part: Mesh, faces: NDArray, up: NDArray) -> bool:
    points = part.vertices_mm[np.unique(faces)]
    height = points @ up
    low, tall = float(height.min()), float(np.ptp(height))
    if tall < _STANDS_MM:
        return False
    side = np.linalg.svd(up[None])[2][1:]
    widths = []
    for share in _SLICES:
        slab = points[np.abs(height - low - share * tall) < _THICK * tall] @ side.T
        if len(slab) < _LEAST_POINTS:
            return False
        widths.append(_box(slab))
    wide = np.array(widths)
    across, along = wide[:, 0], wide[:, 1]
    sized = across.min() > _LEAST_MM and along.max() < _MOST_MM
    return bool(sized and (along / across).max() < _LONGER and along.max() / along.min() < _CHANGES)


def _box(plan: NDArray) -> tuple[float, float]:
    """(shorter, longer) side in mm of the smallest rectangle about (k, 2) points, to some degrees."""
    turn = np.radians(np.arange(0, 90, 5))
    x = np.ptp(plan @ np.array([np.cos(turn), np.sin(turn)]), axis=0)
    y = np.ptp(plan @ np.array([-np.sin(turn), np.cos(turn)]), axis=0)
    k = int(np.argmin(x * y))
    return float(min(x[k], y[k])), float(max(x[k], y[k]))
