"""How two jaws stand to each other: deepest overlap, smallest gap, where they touch."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from ..mesh import Mesh, used_vertices
from ..mesh.topology import at_border
from ..ops.closest import ClosestPoints
from ..ops.mend import largest_piece


@dataclass(frozen=True)
class Relation:
    """overlap_mm : deepest (0 when apart); gap_mm : smallest (0 when overlapping); near_share : of probed points
    closer than 0.3 mm; deepest_mm (3,) and closest_mm (3,) lie on the lower, in the upper's frame."""

    overlap_mm: float
    gap_mm: float
    near_share: float
    deepest_mm: NDArray[np.float64]
    closest_mm: NDArray[np.float64]


def relation(upper: Mesh, lower: Mesh, *, lower_to_upper: ArrayLike, lower_up: ArrayLike) -> Relation:
    """Exact surface distances from the crowns of the lower to the upper, both in mm; probes at the vertices."""
    # Bits that float beside a scan touch nothing in the mouth.
    upper, lower = largest_piece(upper), largest_piece(lower)
    m = np.asarray(lower_to_upper, np.float64)
    used = lower.vertices_mm[used_vertices(lower)]
    height = used @ np.asarray(lower_up, np.float64)
    crowns = used[height > np.quantile(height, 0.997) - 7.0]
    points = crowns @ m[:3, :3].T + m[:3, 3]
    points = points[:: max(len(points) // 30_000, 1)]
    tree, rim = ClosestPoints(upper), at_border(upper)
    # Near questions are quick; only jaws that touch nowhere near are asked again from far.
    for reach in (2.0, 30.0):
        signed, hits = tree.signed(points, within_mm=reach)
        # What is nearest to an open border is beside the other jaw, not in front of or behind it.
        real = (hits.face >= 0) & (signed > -3.0) & ~rim[np.maximum(hits.face, 0)]
        if real.any():
            break
    else:
        return Relation(0.0, float("inf"), 0.0, points[0], points[0])
    value, place = signed[real], points[real]
    at = int(value.argmin())
    near = float((np.abs(value) < 0.3).sum() / len(points))
    return Relation(max(0.0, -float(value[at])), max(0.0, float(value[at])), near, place[at], place[at])
