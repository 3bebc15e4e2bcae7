"""How far a surface stands off another one, asked again only where it has moved."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh
from ..mesh.topology import edge_table
from .closest import ClosestPoints


class StandOff:
    """Of the corners, face middles and side middles of a closed surface that keeps its faces while its corners move.

    reach_mm : farther is not asked; above_mm : nor what lies no higher than this (z).
    """

    def __init__(self, made: Mesh, skin: ClosestPoints, reach_mm: float, above_mm: float) -> None:
        self.faces, self.sides = made.faces, _sides(made)
        self.reach_mm, self.above_mm, self._skin = reach_mm, above_mm, skin
        count = len(made.vertices_mm) + made.triangles + len(self.sides)
        self._place, self._nearest, self._distance = np.full((count, 3), np.nan), np.zeros((count, 3)), np.full(count, np.inf)

    def of(self, points: NDArray) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
        """points : (n, 3) where the corners are now. Places (k, 3), the points nearest to them (k, 3) and how far off those are (k,),
        infinite beyond reach; corners first, then faces, then sides."""
        place = np.vstack([points, points[self.faces].mean(1), points[self.sides].mean(1)])
        new = (place != self._place).any(1)
        self._place = place
        self._distance[new] = np.inf
        new &= place[:, 2] > self.above_mm
        hits = self._skin.query(place[new], within_mm=self.reach_mm)
        self._nearest[new] = hits.point_mm
        self._distance[new] = np.where(hits.face >= 0, hits.distance_mm, np.inf)
        return self._place, self._nearest, self._distance

    def least(self, made: Mesh, *, up_to_mm: float) -> float:
        """The least of all (mm), at most up_to_mm."""
        place, _, distance = self.of(made.vertices_mm)
        least = float(distance.min())
        if np.isfinite(least):
            return least
        # Hardly ever is it farther off everywhere.
        return float(self._skin.query(place[place[:, 2] > self.above_mm], within_mm=up_to_mm).distance_mm.min())


def _sides(made: Mesh) -> NDArray[np.int64]:
    """(k, 2) the corners of each side of a closed surface."""
    half = np.flatnonzero(edge_table(made).twin > np.arange(3 * made.triangles))
    return np.stack([made.faces[half // 3, half % 3], made.faces[half // 3, (half + 1) % 3]], axis=1).astype(np.int64)
