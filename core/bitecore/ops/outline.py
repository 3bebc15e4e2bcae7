"""A smooth outline in the plan a little outside a ragged border: what the walls of a base follow."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw
from scipy import ndimage
from scipy.spatial import cKDTree
from skimage.measure import find_contours

from .rings import signed_area

_CELL_MM, _STEP_MM = 0.2, 0.5
# Dents narrower than twice this are bridged.
_CLOSE_MM = 6.0
# On 12 jaws corners are rounded to 4 mm and more so; with half as much to 1.7, and no border stands more than 2.5 mm off its wall.
_BLUR_MM = 2.5
# What the blur makes too narrow is given back over this width, wider than the blur, so that it stays smooth.
_SPREAD_MM = 4.4
# Contours shorter or smaller than this are specks of the raster.
_LEAST_POINTS, _LEAST_MM2 = 30, 6.0
# Of a wall's top edge (mm): it lies so far under all border near it, less as much as it stands away from it, and evens out over
# _ALONG_MM.
_UNDER_MM, _NEAR_MM, _ALONG_MM = 0.15, 1.2, 2.0


class Outline:
    """rings : (k, 2) each, the outer one counter-clockwise, those round holes clockwise, a point about every half millimetre"""

    def __init__(self, rings: list[NDArray[np.float64]]) -> None:
        self.rings = rings

    def tops(self, border: NDArray[np.float64], *, drop: float) -> list[NDArray[np.float64]]:
        """(k,) for each ring the height of its wall's top edge. border : (n, 3), z up; drop : by how much it falls on its way out
        from the border (mm a mm)."""
        tree = cKDTree(border[:, :2])
        out = []
        for ring in self.rings:
            away, nearest = tree.query(ring)
            height = border[nearest, 2] - drop * np.maximum(away, _UNDER_MM)
            around = tree.query_ball_point(ring, np.maximum(away + 0.35, _NEAR_MM))
            height = np.minimum(height, [border[near, 2].min() - _UNDER_MM for near in around])
            wide = round(_ALONG_MM / _STEP_MM)
            height = ndimage.minimum_filter1d(height, 2 * wide + 1, mode="wrap")
            for _ in range(2):
                height = ndimage.uniform_filter1d(height, wide | 1, mode="wrap")
            out.append(height)
        return out


def outline(rings: list[NDArray[np.float64]], *, gap_mm: float = 0.25) -> Outline | None:
    """Around border rings (k, 2) that do not cross: everywhere at least about gap_mm outside of what they enclose. None where
    that leaves no ring."""
    margin = _CLOSE_MM + gap_mm + 3 * _BLUR_MM
    low = np.vstack(rings).min(0) - margin
    count = np.ceil((np.vstack(rings).max(0) + margin - low) / _CELL_MM).astype(int)
    away = ndimage.distance_transform_edt(~_filled(rings, low, count)) * _CELL_MM
    safe = away <= gap_mm + _CELL_MM
    grown = away <= gap_mm + _CELL_MM + _CLOSE_MM
    wanted = safe | (ndimage.distance_transform_edt(grown) * _CELL_MM > _CLOSE_MM)
    level = (ndimage.distance_transform_edt(~wanted) - ndimage.distance_transform_edt(wanted)).astype(np.float32) * _CELL_MM
    for _ in range(2):
        level = ndimage.gaussian_filter(level, _BLUR_MM / _CELL_MM, truncate=3)
    found = [_evened(c * _CELL_MM + low) for c in find_contours(_held(level, safe), 0.0) if len(c) >= _LEAST_POINTS]
    found = [ring for ring in found if abs(signed_area(ring)) >= _LEAST_MM2]
    if not found:
        return None
    outer = max(found, key=lambda ring: abs(signed_area(ring)))
    return Outline([ring if (signed_area(ring) > 0) == (ring is outer) else ring[::-1] for ring in found])


def _filled(rings: list[NDArray], low: NDArray, count: NDArray) -> NDArray[np.bool_]:
    """Which cells lie within: inside an odd number of the rings."""
    inside = np.zeros(tuple(count), bool)
    for ring in rings:
        image = Image.new("1", (int(count[1]), int(count[0])))
        corners = ((ring - low) / _CELL_MM)[:, ::-1]
        ImageDraw.Draw(image).polygon([(float(x), float(y)) for x, y in corners], fill=1)
        inside ^= np.asarray(image)
    return inside


def _held(level: NDArray, safe: NDArray[np.bool_]) -> NDArray:
    """The blurred distance, less what it is too much where it has to be inside: safe stays within."""
    excess = np.where(safe, np.maximum(level + 0.03, 0), 0).astype(np.float32)
    wide = round(_SPREAD_MM / _CELL_MM) | 1
    excess = ndimage.maximum_filter(excess, 2 * wide + 1)
    for _ in range(2):
        excess = ndimage.uniform_filter(excess, wide)
    return level - excess


def _evened(contour: NDArray) -> NDArray[np.float64]:
    """A closed contour (first point repeated at its end) with a point about every half millimetre."""
    run = np.r_[0, np.cumsum(np.linalg.norm(np.diff(contour, axis=0), axis=1))]
    count = max(round(run[-1] / _STEP_MM), 8)
    at = np.arange(count) / count * run[-1]
    ring = np.c_[np.interp(at, run, contour[:, 0]), np.interp(at, run, contour[:, 1])]
    return ndimage.gaussian_filter1d(ring, 1.5, axis=0, mode="wrap")
