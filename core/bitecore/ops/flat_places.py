"""Places for labels on a part of a surface that is nearly flat and seen along one way: letters follow its heights."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from ..mesh import Mesh, face_areas_mm2, face_normals
from .heights import heights
from .rigid import unit
from .writing import Surface

_CELL_MM = 0.4
# Flat is what leans away from the way it is seen by less than this, and lies so near to its own mean over _OVER_MM (judgement:
# a letter of 1.5 mm then keeps its depth to a tenth).
_LEAN, _UNEVEN_MM, _OVER_MM = 0.45, 0.12, 3.0
# What something in front of it hides by more than this is not seen.
_HIDDEN_MM = 0.2
_WAYS, _CONE, _LEAST_MM2, _MOST = 60, 0.9, 25.0, 6


def ways_to_see(body: Mesh, faces: NDArray[np.bool_]) -> list[NDArray[np.float64]]:
    """Ways out of the body along which most of these faces are seen, the largest first. faces : (m,)"""
    normals, areas = face_normals(body)[faces], face_areas_mm2(body)[faces]
    k = np.arange(_WAYS) + 0.5
    z, turn = 1 - 2 * k / _WAYS, np.pi * (1 + 5**0.5) * k
    flat = np.sqrt(1 - z * z)
    ways = np.c_[flat * np.cos(turn), flat * np.sin(turn), z]
    out: list[NDArray[np.float64]] = []
    left = np.ones(len(normals), bool)
    while len(out) < _MOST:
        seen = (normals @ ways.T > _CONE) & left[:, None]
        area = areas @ seen
        best = int(area.argmax())
        if area[best] < _LEAST_MM2:
            break
        mean = unit((normals[seen[:, best]] * areas[seen[:, best], None]).sum(0))
        out.append(mean)
        left &= normals @ mean <= _CONE
    return out


def flat_places(body: Mesh, faces: NDArray[np.bool_], out: NDArray[np.float64], up: NDArray[np.float64], where: str) -> Surface | None:
    """The flat places of these faces as they are seen against `out`; None where there are none.

    faces : (m,) that may bear a label; out : (3,) of length one, out of the body; up : (3,) to the top of what is written
    """
    high = up - out * (up @ out)
    if np.linalg.norm(high) < 1e-6 or not faces.any():
        return None
    high = unit(high)
    turn = np.stack([np.cross(high, out), high, out])
    there = body.vertices_mm @ turn.T
    used = there[np.unique(body.faces[faces])]
    low = used[:, :2].min(0)
    shape = tuple(int(n) + 2 for n in np.ptp(used[:, :2], axis=0) / _CELL_MM)
    own = heights(there, body.faces[faces], low, (shape[0], shape[1]), _CELL_MM)[1]
    front = heights(there, body.faces, low, (shape[0], shape[1]), _CELL_MM)[1]
    known = np.isfinite(own)
    if not known.any():
        return None
    at = ndimage.distance_transform_edt(~known, return_distances=False, return_indices=True)
    tall = own[tuple(at)]
    over = ndimage.uniform_filter(tall, int(_OVER_MM / _CELL_MM) | 1)
    lean = np.hypot(*np.gradient(over, _CELL_MM))
    free = known & (front <= own + _HIDDEN_MM) & (lean < _LEAN) & (np.abs(tall - over) < _UNEVEN_MM)
    if not free.any():
        return None
    middle = np.argwhere(free).mean(0)
    cost = 0.02 * _CELL_MM * np.linalg.norm(np.indices(free.shape) - middle[:, None, None], axis=0)

    def laid(at: NDArray, far: NDArray) -> NDArray:
        cells = ((at - low) / _CELL_MM).T
        level = ndimage.map_coordinates(tall, cells, order=1, mode="nearest")
        return np.c_[at, level + far] @ turn

    corner = low - _CELL_MM / 2
    return Surface(
        free, (_CELL_MM, _CELL_MM), (float(corner[0]), float(corner[1])), False, cost, laid, lambda p: (turn @ p)[:2], where
    )  # fmt: skip
