"""Where on the walls of a body, upright or drafted, there is room for a line of text or a notch."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from scipy.spatial import ConvexHull

from ..mesh import GROUP_SCAN, Mesh, border_loops
from .bends import Bend
from .clip import clip
from .closest import ClosestPoints
from .rings import signed_area
from .segments import Segment, near_any

_STEP_MM = 0.5
# A wall this far inside the hull of a body's foot is no outer one.
_INSIDE_MM = 4.0
# What a wall leans is seen over so much of its height, and evened along it over so much; steeper is none.
_LEAN_OVER_MM, _LEAN_ALONG_MM, _STEEPEST = 1.25, 4.0, 0.4
# A place over the foot with no surface so near is none of the wall, nor is one with the scan so near; looked at in steps of
# _RISE_MM.
_OFF_MM, _SCAN_MM, _RISE_MM, _HIGHEST_MM = 0.08, 0.6, 0.25, 12.25
# The foot of a wall is looked for so far over its edge.
_OVER_MM = 0.02
# Round a smaller bend than this no line goes (mm).
_LEAST_RADIUS_MM = 7.0


@dataclass(frozen=True)
class Free:
    """The outer wall of a body, z up.

    bend : its foot, where the edge of the underside ends
    tall : (k,) every step_mm along the foot, how far it goes up in one plane (mm)
    lean : (k,) mm that it goes inwards for each mm up
    """

    bend: Bend
    tall: NDArray[np.float64]
    lean: NDArray[np.float64]
    floor: float
    step_mm: float = _STEP_MM

    def leans(self, along: NDArray) -> NDArray[np.float64]:
        """At places along the bend."""
        at = np.r_[self.lean, self.lean[:1]]
        return np.interp(np.asarray(along) % self.bend.length, np.append(np.arange(len(self.lean)) * self.step_mm, self.bend.length), at)

    def starts(self, width: float, height: float) -> NDArray[np.float64]:
        """(k,) for each place along the foot how sharply (1/mm) a line that begins there would have to bend at most; infinite where
        it does not fit."""
        count = len(self.tall)
        long = int(np.ceil(width / _STEP_MM)) + 1
        if long >= count:
            return np.full(count, np.inf)
        sharp = self.sharpness()
        # The window lies from each place on: scipy's lies about its middle.
        shift = -(long // 2) + (1 if long % 2 == 0 else 0)
        worst = np.roll(ndimage.maximum_filter1d(sharp, long, mode="wrap"), shift)
        tall = np.where(self.outside(), self.tall, 0.0)
        least = np.roll(ndimage.minimum_filter1d(tall, long, mode="wrap"), shift)
        return np.where((least >= height) & (worst <= self.sharpest), worst, np.inf)

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

    @property
    def sharpest(self) -> float:
        """Round a sharper bend (1/mm) than this no line goes."""
        return 1 / _LEAST_RADIUS_MM

    def sharpness(self) -> NDArray[np.float64]:
        """(k,) how sharply the foot bends over the next 2 mm, 1/mm."""
        out = self.bend.outward(np.arange(len(self.tall)) * _STEP_MM)
        angle = np.unwrap(np.arctan2(out[:, 1], out[:, 0]))
        step = round(2.0 / _STEP_MM)
        turned = (np.roll(angle, -step) - angle + np.pi) % (2 * np.pi) - np.pi
        return np.abs(turned) / (step * _STEP_MM)

    def outside(self) -> NDArray[np.bool_]:
        """(k,) which places lie on the outside: near to the hull of the foot. In the hollow of a horseshoe nobody reads."""
        foot = self.bend.at(np.arange(len(self.tall)) * _STEP_MM)
        hull = ConvexHull(foot).equations
        return (foot @ hull[:, :2].T + hull[:, 2]).max(axis=1) > -_INSIDE_MM


def free_wall(body: Mesh, *, edge_mm: float = 0.0) -> Free | None:
    """Of a body flat underneath at its lowest, with an edge so high there; None where it has no outer wall."""
    low = float(body.vertices_mm[:, 2].min())
    floor = low + edge_mm
    # Just over the edge: what is cut there has the wall's own foot for its border.
    cut = clip(body, body.vertices_mm[:, 2] - (floor + _OVER_MM)).mesh
    rings = [cut.vertices_mm[loop][:, :2] for loop in border_loops(cut)]
    rings = [_stepped(ring) for ring in rings if len(ring) > 2]
    if not rings:
        return None
    bend = Bend(max(rings, key=signed_area))
    s = np.arange(int(bend.length / _STEP_MM)) * _STEP_MM
    if len(s) < 8:
        return None
    scan = body.groups == GROUP_SCAN
    made = body.of_faces(~scan)
    if made.triangles == 0:
        return None
    skin = ClosestPoints(made)
    lean = _lean(skin, bend, s, floor)
    return Free(bend, _up(skin, body.of_faces(scan), bend, s, lean, floor), lean, floor)


def _stepped(ring: NDArray[np.float64]) -> NDArray[np.float64]:
    """Without corners that lie on one another."""
    return ring[np.linalg.norm(ring - np.roll(ring, 1, axis=0), axis=1) > 1e-6]


def _lean(skin: ClosestPoints, bend: Bend, s: NDArray, floor: float) -> NDArray[np.float64]:
    foot, out = bend.at(s), bend.outward(s)
    high = np.c_[foot, np.full(len(s), floor + _LEAN_OVER_MM)]
    hits = skin.query(high, within_mm=_LEAN_OVER_MM)
    inwards = -np.einsum("ij,ij->i", hits.point_mm[:, :2] - foot, out)
    # The nearest place of a leaning wall lies off its level: as far out as the lean's own square.
    rise = np.maximum(hits.point_mm[:, 2] - floor, 0.3)
    lean = np.where(hits.face >= 0, inwards / rise, 0.0)
    lean = np.where(np.abs(lean) < _STEEPEST, lean, 0.0)
    return ndimage.median_filter(lean, round(_LEAN_ALONG_MM / _STEP_MM) | 1, mode="wrap")


def _up(skin: ClosestPoints, scan: Mesh, bend: Bend, s: NDArray, lean: NDArray, floor: float) -> NDArray[np.float64]:
    """How far the wall goes up from each place: as long as its surface stands over the foot, and no scan is near."""
    rise = np.arange(_RISE_MM, _HIGHEST_MM, _RISE_MM)
    plan = bend.at(s)[:, None] - bend.outward(s)[:, None] * (lean[:, None] * rise)[..., None]
    points = np.concatenate([plan, np.broadcast_to(floor + rise, (len(s), len(rise)))[..., None]], axis=2).reshape(-1, 3)
    there = skin.query(points, within_mm=_OFF_MM).face >= 0
    if scan.triangles:
        there &= ClosestPoints(scan).query(points, within_mm=_SCAN_MM).face < 0
    stands = there.reshape(len(s), len(rise))
    return np.where(stands.all(1), rise[-1], rise[np.argmin(stands, axis=1)] - _RISE_MM)
