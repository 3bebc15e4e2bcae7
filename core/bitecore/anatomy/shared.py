"""Surface that two meshes share to the last triangle: what went out and came back keeps the triangles of the scan, wherever it
has been moved and however much was cut off.

A triangle is known by the lengths of its three edges, which no movement changes; the movement is found from some that agree
(random sample consensus, Fischler and Bolles 1981; from memory) and settled on all that do.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..mesh import Mesh, edge_table
from ..mesh.measures import face_areas_mm2
from ..ops.closest import ClosestPoints
from ..ops.mend import largest_piece
from ..ops.rigid import laid_on

_ASKED = 30_000
# Numbers of single precision some hundred mm from the origin are that exact; edges that differ by less are not told apart.
_EDGE_MM, _APART_MM, _POINT_MM = 2e-4, 2e-3, 0.004
_TRIES, _TRIED_ON, _ROUGHLY_MM = 200, 1500, 0.1
# So many triangles have to agree, over so much of the jaw.
_LEAST, _SPREAD_MM = 100, 6.0
# What of it lies farther than this from the scan was made: walls, floors.
_MADE_MM, _MOSTLY = 2.5, 0.5
_OWN = 0.99


@dataclass(frozen=True)
class Shared:
    """matrix : (4, 4) the moving mesh's home to the other's; own, other : share of each one's surface that is the same;
    rms_mm : of the corners of what is the same; made : it came back from the bench: a body, or a part of the scan alone."""

    matrix: NDArray[np.float64]
    own: float
    other: float
    rms_mm: float
    made: bool


def shared_surface(moving: Mesh, on: Mesh) -> Shared | None:
    """None where the two have no triangles in common. Both in mm, from any frames."""
    a, b = _Triangles(moving), _Triangles(on)
    pick = np.linspace(0, len(a.edges) - 1, min(len(a.edges), _ASKED)).astype(int)
    distance, index = cKDTree(b.edges).query(a.edges[pick], distance_upper_bound=_EDGE_MM)
    found = np.isfinite(distance)
    if found.sum() < _LEAST:
        return None
    mine, theirs = a.corners[pick[found]], b.corners[index[found]]
    agree = _agreeing(mine, theirs)
    if agree is None:
        return None
    matrix = laid_on(mine[agree].reshape(-1, 3), theirs[agree].reshape(-1, 3))
    off = _by(matrix, mine[agree]) - theirs[agree]
    own = float(a.area[pick[found]][agree].sum() / a.area[pick].sum())
    other = min(own * a.whole_mm2 / b.whole_mm2, 1.0)
    made = own > _OWN or _is_made(moving, on, matrix)
    return Shared(matrix, own, other, float(np.sqrt(np.mean(np.sum(off**2, axis=-1)))), made)


class _Triangles:
    """Those that can be told: three different edges. edges : (k, 3) lengths in mm, shortest first; corners : (k, 3, 3), each
    facing its edge."""

    def __init__(self, mesh: Mesh) -> None:
        corner = mesh.vertices_mm[mesh.faces]
        length = np.linalg.norm(np.roll(corner, -1, axis=1) - np.roll(corner, 1, axis=1), axis=2)
        order = np.argsort(length, axis=1)
        edges = np.take_along_axis(length, order, axis=1)
        told = np.diff(edges, axis=1).min(1) > _APART_MM
        area = face_areas_mm2(mesh)
        self.whole_mm2 = float(area.sum())
        self.edges, self.area = edges[told], area[told]
        self.corners = np.take_along_axis(corner, order[..., None], axis=1)[told]


def _by(matrix: NDArray, points: NDArray) -> NDArray[np.float64]:
    return points @ matrix[:3, :3].T + matrix[:3, 3]


def _agreeing(mine: NDArray, theirs: NDArray) -> NDArray[np.bool_] | None:
    """(k,) which pairs of triangles one movement brings together; None where too few, or all in one spot."""
    rng = np.random.default_rng(0)
    few = np.linspace(0, len(mine) - 1, min(len(mine), _TRIED_ON)).astype(int)
    best = np.zeros(len(few), bool)
    for _ in range(_TRIES):
        some = few[rng.choice(len(few), 3, replace=False)]
        near = _near(laid_on(mine[some].reshape(-1, 3), theirs[some].reshape(-1, 3)), mine[few], theirs[few], _ROUGHLY_MM)
        best = near if near.sum() > best.sum() else best
        if best.mean() > 0.8:
            break
    agree = np.zeros(len(mine), bool)
    agree[few] = best
    for reach in (_ROUGHLY_MM, _POINT_MM, _POINT_MM):
        if agree.sum() < 3:
            return None
        agree = _near(laid_on(mine[agree].reshape(-1, 3), theirs[agree].reshape(-1, 3)), mine, theirs, reach)
    if agree.sum() < _LEAST or np.std(theirs[agree].mean(1), axis=0).max() < _SPREAD_MM / 2:
        return None
    return agree


def _near(matrix: NDArray, mine: NDArray, theirs: NDArray, reach_mm: float) -> NDArray[np.bool_]:
    return (np.linalg.norm(_by(matrix, mine) - theirs, axis=2) < reach_mm).all(1)


def _is_made(moving: Mesh, on: Mesh, matrix: NDArray) -> bool:
    """Is it a body, or a part of one? Another scan of the mouth has no walls and is open."""
    if not (edge_table(largest_piece(moving)).count == 1).any():
        return True
    middle = moving.vertices_mm[moving.faces].mean(1)
    area = face_areas_mm2(moving)
    pick = np.linspace(0, len(middle) - 1, min(len(middle), _ASKED)).astype(int)
    hits = ClosestPoints(on).query(_by(matrix, middle[pick]))
    away = np.linalg.norm(hits.point_mm - _by(matrix, middle[pick]), axis=1)
    differs = away > _POINT_MM
    return bool(area[pick][away > _MADE_MM].sum() > _MOSTLY * area[pick][differs].sum())
