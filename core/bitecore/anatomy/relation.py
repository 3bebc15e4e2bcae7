"""How two jaws stand to each other: deepest overlap, smallest gap, where they touch."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.spatial import cKDTree

from ..mesh import Mesh, used_vertices
from ..mesh.topology import at_border
from ..ops.closest import ClosestPoints
from ..ops.mend import largest_piece
from ..ops.split import finely, usual_edge_mm

# Overlaps deeper than this are held against their neighbours before they are believed.
_DEEP_MM = 0.2
# The deepest place may lie between vertices, where none of them is deeper than the deepest by more than this.
_FINER_MM = 0.15


@dataclass(frozen=True)
class Relation:
    """How two jaws stand to each other.

    overlap_mm : deepest (0 when apart)
    gap_mm     : smallest (0 when overlapping)
    near_share : of probed points closer than 0.3 mm
    deepest_mm : (3,) where it is deepest, on the lower, in the upper's frame
    closest_mm : (3,) where the gap is smallest, likewise
    """

    overlap_mm: float
    gap_mm: float
    near_share: float
    deepest_mm: NDArray[np.float64]
    closest_mm: NDArray[np.float64]


def relation(upper: Mesh, lower: Mesh, *, lower_to_upper: ArrayLike, lower_up: ArrayLike, upper_up: ArrayLike) -> Relation:
    """Exact surface distances between the crowns, both in mm: points of each jaw from the surface of the other, for a
    cusp may go through the middle of a triangle; vertices first, then finer around the nearest of them. lower_up,
    upper_up : to the tips, each in its jaw's home."""
    # Bits that float beside a scan touch nothing in the mouth.
    with ThreadPoolExecutor(2) as pool:
        above, below = pool.map(_Probed.of, (upper, lower), (upper_up, lower_up))
    m = np.asarray(lower_to_upper, np.float64)
    back = np.linalg.inv(m)
    own, other = below.from_surface(above, m), above.from_surface(below, back)
    value = np.r_[own.signed, other.signed]
    if len(value) == 0:
        nowhere = _by(m, below.mesh.vertices_mm[:1])[0]
        return Relation(0.0, float("inf"), 0.0, nowhere, nowhere)
    near = float((np.abs(value) < 0.3).sum() / (own.count + other.count))
    least = float(value.min()) + _FINER_MM
    fine, there = below.finer(above, m, own, least), above.finer(below, back, other, least)
    value = np.r_[value, fine.signed, there.signed]
    place = np.vstack([own.points, _by(m, other.points), fine.points, _by(m, there.points)])
    at = int(value.argmin())
    return Relation(max(0.0, -float(value[at])), max(0.0, float(value[at])), near, place[at], place[at])


def _by(m: NDArray, points: NDArray) -> NDArray[np.float64]:
    return points @ m[:3, :3].T + m[:3, 3]


@dataclass(frozen=True)
class _Asked:
    """Points of one jaw asked of the other.

    signed   : (k,) mm
    points   : (k, 3) in the surface's home
    vertices : (k,) which of the probed mesh
    count    : how many were asked
    """

    signed: NDArray[np.float64]
    points: NDArray[np.float64]
    vertices: NDArray[np.int64]
    count: int


class _Probed:
    """One jaw's main piece, both asked from and asked about."""

    @classmethod
    def of(cls, mesh: Mesh, up: ArrayLike) -> _Probed:
        return cls(largest_piece(mesh), up)

    def __init__(self, mesh: Mesh, up: ArrayLike) -> None:
        self.mesh = mesh
        self._tree, self._rim = ClosestPoints(mesh), at_border(mesh)
        used = used_vertices(mesh)
        height = mesh.vertices_mm[used] @ np.asarray(up, np.float64)
        crowns = used[height > np.quantile(height, 0.997) - 7.0]
        self._crowns = crowns[:: max(len(crowns) // 30_000, 1)]

    def from_surface(self, other: _Probed, matrix: NDArray) -> _Asked:
        """This jaw's crowns from the other's surface."""
        points = _by(matrix, self.mesh.vertices_mm[self._crowns])
        # Near questions are quick; only jaws that touch nowhere near are asked again from far.
        for reach in (2.0, 30.0):
            signed, real = other.distances(points, reach)
            if real.any():
                break
        return _Asked(signed[real], points[real], self._crowns[real], len(points))

    def finer(self, other: _Probed, matrix: NDArray, asked: _Asked, most_mm: float) -> _Asked:
        """What lies around the vertices that are nearer than most_mm, between vertices too."""
        near = np.zeros(len(self.mesh.vertices_mm), bool)
        near[asked.vertices[asked.signed < most_mm]] = True
        part = self.mesh.of_faces(near[self.mesh.faces].any(1))
        if not part.triangles:
            return _Asked(np.empty(0), np.empty((0, 3)), np.empty(0, np.int64), 0)
        points = _by(matrix, finely(part, usual_edge_mm(self.mesh)).vertices_mm)
        signed, real = other.distances(points, max(2.0, most_mm + _FINER_MM))
        return _Asked(signed[real], points[real], np.empty(0, np.int64), len(points))

    def distances(self, points: NDArray, reach_mm: float) -> tuple[NDArray, NDArray]:
        """((k,) signed distances from this surface, (k,) which of them are real)."""
        signed, hits = self._tree.signed(points, within_mm=reach_mm)
        # What is nearest to an open border is beside the other jaw, not in front of or behind it.
        real = (hits.face >= 0) & (signed > -3.0) & ~self._rim[np.maximum(hits.face, 0)]
        real[real] = believed(points[real], signed[real])
        return signed, real


def believed(points: NDArray[np.float64], signed: NDArray[np.float64]) -> NDArray[np.bool_]:
    """(k,) which distances can be true: a distance changes by no more than the way from one point to the next. Where a
    surface is folded a point may seem to lie deep behind it, alone among its neighbours."""
    out = np.ones(len(points), bool)
    deep = np.flatnonzero(signed < -_DEEP_MM)
    if len(deep) == 0 or len(points) < 8:
        return out
    way, near = cKDTree(points).query(points[deep], k=8)
    out[deep] = (signed[near[:, 1:]] <= signed[deep][:, None] + way[:, 1:] + 0.05).all(1)
    return out
