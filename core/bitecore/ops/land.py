"""Outlines of bases that are not the arch's own: the squared one of study models, and a flat one with rounded corners.

In the plan of a jaw that stands on its base, mm: x across from the midline, y to the back. The angles are from memory, without a
source: the back square to the midline; of an upper the sides at 65° and the heels at 130° to the back, the front in two cuts of 27.5°
that meet on the midline; of a lower the sides at 60° and the heels at 120°, its front round from canine to canine. Those sides lie
along the teeth of an arch of the usual form; round a squarer one they are turned with it (sides_deg).
"""

from __future__ import annotations

import manifold3d
import numpy as np
from numpy.typing import NDArray
from scipy.spatial import ConvexHull

SIDE_DEG = {"upper": 65.0, "lower": 60.0}
HEEL_DEG = {"upper": 130.0, "lower": 120.0}
FRONT_DEG = 27.5
# Beside the widest place of the arch sides stand off it by so much more than in front, before they are turned; no steeper than this.
_ASIDE_MM, _STEEPEST_DEG = 4.5, 80
_WIDE_MM = 1.0
# Of the flat one; a corner of a squared one is rounded by the edge alone.
CORNER_MM = 8.0
_FAR_MM, _SEGMENTS = 400.0, 96
# Corners nearer to one another than this are one.
_FINE_MM = 0.01


def sides_deg(shared: NDArray, angles: str) -> float:
    """The angle of the sides to the back, round (n, 2): the customary one of this jaw, or as much steeper, by whole degrees, as the
    arch needs."""
    x, y = np.abs(shared[:, 0]), shared[:, 1]
    widest = int(np.where(x > x.max() - _WIDE_MM, y, -np.inf).argmax())  # the rearmost, where the sides run straight back
    customary = SIDE_DEG[angles]
    for deg in np.arange(customary, _STEEPEST_DEG):
        side = np.radians(deg)
        reach = float((x * np.sin(side) - y * np.cos(side)).max())
        if reach - (x[widest] * np.sin(side) - y[widest] * np.cos(side)) <= _ASIDE_MM:
            return float(deg)
    return float(_STEEPEST_DEG)


def squared(own: NDArray, shared: NDArray, *, jaw: str, angles: str, around_mm: float, back_mm: float, corner_mm: float = 0.0) -> NDArray:
    """(k, 2) counter-clockwise, its halves alike. own : (n, 2) what the front goes round; shared : (n, 2) what sides, heels and back do,
    by the angles of this jaw."""
    side, heel = np.radians(sides_deg(shared, angles)), np.radians(180 - HEEL_DEG[angles])
    cuts = [(np.sin(side), -np.cos(side)), (np.sin(heel), np.cos(heel))]
    shape = _half(manifold3d.CrossSection.square((_FAR_MM, _FAR_MM), True), (0.0, 1.0), back_mm)
    both = np.vstack([shared, shared * [-1, 1]])
    for x, y in cuts:
        reach = float((both @ [x, y]).max()) + around_mm
        shape = _half(_half(shape, (x, y), reach), (-x, y), reach)
    mine = np.vstack([own, own * [-1, 1]])
    if jaw == "upper":
        x, y = np.sin(np.radians(FRONT_DEG)), -np.cos(np.radians(FRONT_DEG))
        reach = float((mine @ [x, y]).max()) + around_mm
        shape = _half(_half(shape, (x, y), reach), (-x, y), reach)
    else:
        # Round as far as what lies in front goes round; from where it runs as the sides do, they take over.
        n = np.array([np.sin(side), -np.cos(side)])
        turn = mine[(mine @ n).argmax()]
        on_side = turn + n * float((both @ n).max() - turn @ n)
        behind = np.array([on_side, on_side + _FAR_MM * np.array([np.cos(side), np.sin(side)])])
        hull = np.vstack([mine, behind, behind * [-1, 1]])
        hull = hull[ConvexHull(hull).vertices]
        shape ^= manifold3d.CrossSection([hull]).offset(around_mm, manifold3d.JoinType.Round, 2.0, _SEGMENTS)
    return _ring(shape, corner_mm)


def flat(shared: NDArray, *, around_mm: float, back_mm: float, corner_mm: float = CORNER_MM) -> NDArray:
    """(k, 2) counter-clockwise: an upright rectangle round all points (n, 2), its halves alike, its corners rounded."""
    wide = float(np.abs(shared[:, 0]).max()) + around_mm
    front = float(shared[:, 1].min()) - around_mm
    square = np.array([[-wide, front], [wide, front], [wide, back_mm], [-wide, back_mm]])
    return _ring(manifold3d.CrossSection([square]), corner_mm)


def _half(shape: manifold3d.CrossSection, out: tuple[float, float], reach: float) -> manifold3d.CrossSection:
    """What of it lies no farther than `reach` along `out`."""
    n = np.array(out) / np.hypot(*out)
    side = np.array([-n[1], n[0]])
    corners = [reach * n - _FAR_MM * side, reach * n + _FAR_MM * side]
    corners += [(reach - 2 * _FAR_MM) * n + _FAR_MM * side, (reach - 2 * _FAR_MM) * n - _FAR_MM * side]
    half = np.array(corners)
    return shape ^ manifold3d.CrossSection([half], manifold3d.FillRule.NonZero)


def _ring(shape: manifold3d.CrossSection, corner_mm: float) -> NDArray[np.float64]:
    if corner_mm > 0:
        shape = shape.offset(-corner_mm, manifold3d.JoinType.Miter)
        shape = shape.offset(corner_mm, manifold3d.JoinType.Round, 2.0, _SEGMENTS)
    ring = max((np.asarray(p, np.float64) for p in shape.to_polygons()), key=len)
    return ring[np.linalg.norm(ring - np.roll(ring, 1, axis=0), axis=1) > _FINE_MM]
