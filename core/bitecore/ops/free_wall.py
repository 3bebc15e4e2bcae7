"""Where on the upright walls of a body there is room for a line of text."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from scipy.spatial import ConvexHull

from ..mesh import GROUP_SCAN, Mesh, border_loops
from .closest import ClosestPoints
from .letters import Bend
from .outline import signed_area
from .segments import Segment, near_any

_STEP_MM = 0.5
# A wall this far inside the hull of a body's foot is no outer one.
_INSIDE_MM = 4.0
# A place over the foot with no surface so near is none of the wall, nor is one with the scan so near; looked at in steps of
# _RISE_MM.
_OFF_MM, _SCAN_MM, _RISE_MM, _HIGHEST_MM = 0.08, 0.6, 0.25, 12.25
# Round a smaller bend than this no line goes (mm).
_LEAST_RADIUS_MM = 7.0


@dataclass(frozen=True)
class Free:
    """The outer wall of a body, z up.

    bend : its foot
    tall : (k,) every step_mm along the foot, how far it goes straight up (mm)
    """

    bend: Bend
    tall: NDArray[np.float64]
    floor: float
    step_mm: float = _STEP_MM

    def starts(self, width: float, height: float) -> NDArray[np.float64]:
        """(k,) for each place along the foot how sharply (1/mm) a line that begins there would have to bend at most; infinite where
        it does not fit."""
        count = len(self.tall)
        long = int(np.ceil(width / _STEP_MM)) + 1
        if long >= count:
            return np.full(count, np.inf)
        s = np.arange(count) * _STEP_MM
        out = self.bend.outward(s)
        angle = np.unwrap(np.arctan2(out[:, 1], out[:, 0]))
        step = round(2.0 / _STEP_MM)
        turned = (np.roll(angle, -step) - angle + np.pi) % (2 * np.pi) - np.pi
        sharp = np.abs(turned) / (step * _STEP_MM)
        # The window lies from each place on: scipy's lies about its middle.
        shift = -(long // 2) + (1 if long % 2 == 0 else 0)
        worst = np.roll(ndimage.maximum_filter1d(sharp, long, mode="wrap"), shift)
        tall = np.where(self._outer(s), self.tall, 0.0)
        least = np.roll(ndimage.minimum_filter1d(tall, long, mode="wrap"), shift)
        return np.where((least >= height) & (worst <= 1 / _LEAST_RADIUS_MM), worst, np.inf)

    def tallest(self, width: float) -> float:
        """How tall a line of that width may stand at most, wherever (mm); 0 where it would have to bend too sharply."""
        rises = np.unique(self.tall[self.tall > 0])
        low, high = 0, len(rises)
        while low < high:
            middle = (low + high) // 2
            low, high = (middle + 1, high) if np.isfinite(self.starts(width, float(rises[middle]))).any() else (low, middle)
        return float(rises[low - 1]) if low else 0.0

    def clear_of(self, lines: Sequence[Segment], clear_mm: float) -> Free:
        """Without the places that lie within clear_mm of a line, seen from above: something stands on the wall there."""
        foot = self.bend.at(np.arange(len(self.tall)) * self.step_mm)
        return replace(self, tall=np.where(near_any(foot, lines, clear_mm), 0.0, self.tall))

    def _outer(self, s: NDArray) -> NDArray[np.bool_]:
        """Which places lie on the outside: near to the hull of the foot. In the hollow of a horseshoe nobody reads."""
        foot = self.bend.at(s)
        hull = ConvexHull(foot).equations
        return (foot @ hull[:, :2].T + hull[:, 2]).max(axis=1) > -_INSIDE_MM


def free_wall(body: Mesh) -> Free | None:
    """Of a body flat underneath at its lowest; None where it has no outer wall."""
    floor = float(body.vertices_mm[:, 2].min())
    bottom = body.of_faces((body.vertices_mm[body.faces][:, :, 2] < floor + 1e-6).all(1))
    if bottom.triangles == 0:
        return None
    # The bottom looks down: seen from above its loops run the other way.
    rings = [bottom.vertices_mm[loop][::-1, :2] for loop in border_loops(bottom)]
    ring = max(rings, key=signed_area)
    bend = Bend(ring)
    s = np.arange(int(bend.length / _STEP_MM)) * _STEP_MM
    return Free(bend, _straight_up(body, bend, s, floor), floor)


def _straight_up(body: Mesh, bend: Bend, s: NDArray, floor: float) -> NDArray[np.float64]:
    """How far up the wall goes over each place: as long as its surface stands over the foot, and no scan is near."""
    foot = bend.at(s)
    rise = np.arange(_RISE_MM, _HIGHEST_MM, _RISE_MM)
    points = np.c_[np.repeat(foot, len(rise), 0), np.tile(floor + rise, len(s))]
    scan = body.groups == GROUP_SCAN
    made = body.of_faces(~scan)
    there = ClosestPoints(made).query(points, within_mm=_OFF_MM).face >= 0
    if scan.any():
        there &= ClosestPoints(body.of_faces(scan)).query(points, within_mm=_SCAN_MM).face < 0
    stands = there.reshape(len(s), len(rise))
    return np.where(stands.all(1), rise[-1], rise[np.argmin(stands, axis=1)] - _RISE_MM)
