"""Which side of an arch a place lies on: towards cheeks and lips, or palate and tongue; and what lies behind its last teeth."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

_STEP_MM = 0.5


@dataclass(frozen=True)
class ArchSides:
    """line : (k, 3) through the middles of the teeth, close; way : (k, 3) along it, of length one; inward : (k, 3) to the inner side
    ends : of each end, where the last tooth is over, and the way on
    """

    line: NDArray[np.float64]
    way: NDArray[np.float64]
    inward: NDArray[np.float64]
    ends: list[tuple[NDArray[np.float64], NDArray[np.float64]]]

    def of(self, points_mm: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """((n,) mm to the inner side, (n,) 0 to 1 how straight it lies behind the last teeth)."""
        at = self.nearest(points_mm)
        side = np.einsum("ij,ij->i", points_mm - self.line[at], self.inward[at])
        back = np.zeros(len(points_mm))
        for place, way in self.ends:
            off = points_mm - place
            along = off @ way
            aside = np.abs(off @ np.cross(way, self._up))
            straight = np.where(along > 0, along / np.maximum(np.hypot(along, aside), 1e-9), 0.0)
            back = np.maximum(back, straight**2)
        return side, back

    def nearest(self, points_mm: NDArray[np.float64]) -> NDArray[np.int64]:
        """(n,) which place of the line is nearest."""
        return cKDTree(self.line).query(points_mm)[1]

    @property
    def _up(self) -> NDArray[np.float64]:
        return np.cross(self.way[0], self.inward[0])


def arch_sides(centres_mm: NDArray[np.float64], wide_mm: NDArray[np.float64], *, up: NDArray, front: NDArray) -> ArchSides:
    """centres_mm : (k, 3) middles of the teeth from one end of the arch to the other; wide_mm : (k,) how wide each is along it;
    up, front : (3,) of the jaw."""
    flat = centres_mm - (centres_mm @ up)[:, None] * up
    if len(flat) == 1:
        side = np.cross(up, front)
        flat = np.vstack([flat[0] - side * 0.5, flat[0] + side * 0.5])
    line = [flat[:1]]
    for a, b in itertools.pairwise(flat):
        parts = max(int(np.linalg.norm(b - a) / _STEP_MM), 1)
        line.append(a + (b - a) * (np.arange(1, parts + 1) / parts)[:, None])
    points = np.vstack(line)
    way = np.gradient(points, axis=0)
    way /= np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-9)
    inward = np.cross(up, way)
    # At the incisors the inner side is away from the lips; the ends say it where an arch is only one of its sides.
    chord = points[0] + points[-1] - 2 * points[len(points) // 2]
    towards = chord if np.linalg.norm(chord) > 4 else -front
    if inward[len(points) // 2] @ towards < 0:
        inward = -inward
    height = float(np.mean(centres_mm @ up))
    ends = [
        (points[0] - way[0] * wide_mm[0] / 2, -way[0]),
        (points[-1] + way[-1] * wide_mm[-1] / 2, way[-1]),
    ]
    lifted = points + up * height
    return ArchSides(lifted, way, inward, [(at + up * height, to) for at, to in ends])
