"""How two jaws stand to each other: deepest overlap, smallest gap, where they touch."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.spatial import cKDTree

from ..mesh import Mesh, used_vertices
from ..mesh.topology import at_border
from ..ops.closest import ClosestPoints
from ..ops.mend import largest_piece

# Overlaps deeper than this are held against their neighbours before they are believed.
_DEEP_MM = 0.2


@dataclass(frozen=True)
class Relation:
    """overlap_mm : deepest (0 when apart); gap_mm : smallest (0 when overlapping); near_share : of probed points
    closer than 0.3 mm; deepest_mm (3,) and closest_mm (3,) lie on the lower, in the upper's frame."""

    overlap_mm: float
    gap_mm: float
    near_share: float
    deepest_mm: NDArray[np.float64]
    closest_mm: NDArray[np.float64]


def relation(upper: Mesh, lower: Mesh, *, lower_to_upper: ArrayLike, lower_up: ArrayLike, upper_up: ArrayLike) -> Relation:
    """Exact surface distances between the crowns, both in mm: vertices of each jaw from the surface of the other, for a
    cusp may go through the middle of a triangle. lower_up, upper_up : to the tips, each in its jaw's home."""
    # Bits that float beside a scan touch nothing in the mouth.
    upper, lower = largest_piece(upper), largest_piece(lower)
    m = np.asarray(lower_to_upper, np.float64)
    own, own_at, count = _asked(upper, lower, m, np.asarray(lower_up, np.float64))
    other, other_at, more = _asked(lower, upper, np.linalg.inv(m), np.asarray(upper_up, np.float64))
    value = np.r_[own, other]
    if len(value) == 0:
        nowhere = lower.vertices_mm[0] @ m[:3, :3].T + m[:3, 3]
        return Relation(0.0, float("inf"), 0.0, nowhere, nowhere)
    place = np.vstack([own_at, other_at @ m[:3, :3].T + m[:3, 3]])
    at = int(value.argmin())
    near = float((np.abs(value) < 0.3).sum() / (count + more))
    return Relation(max(0.0, -float(value[at])), max(0.0, float(value[at])), near, place[at], place[at])


def _asked(surface: Mesh, probed: Mesh, matrix: NDArray, up: NDArray) -> tuple[NDArray, NDArray, int]:
    """(signed distances, places, how many were asked) of the probed jaw's crowns, in the surface's home."""
    used = probed.vertices_mm[used_vertices(probed)]
    height = used @ up
    crowns = used[height > np.quantile(height, 0.997) - 7.0]
    points = crowns @ matrix[:3, :3].T + matrix[:3, 3]
    points = points[:: max(len(points) // 30_000, 1)]
    tree, rim = ClosestPoints(surface), at_border(surface)
    # Near questions are quick; only jaws that touch nowhere near are asked again from far.
    for reach in (2.0, 30.0):
        signed, hits = tree.signed(points, within_mm=reach)
        # What is nearest to an open border is beside the other jaw, not in front of or behind it.
        real = (hits.face >= 0) & (signed > -3.0) & ~rim[np.maximum(hits.face, 0)]
        real[real] = believed(points[real], signed[real])
        if real.any():
            break
    return signed[real], points[real], len(points)


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
