"""Cut an open jaw along a curtain: the graph of a smooth height over the plan, on or above the border everywhere."""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from ..mesh import Mesh, border_loops
from ..mesh.topology import split_bow_ties
from .border import border_points, without_turned
from .clip import clip
from .mend import largest_piece

_CELL_MM = 0.15
_SNAP_MM = 0.03
_DEEP = -1e3
# Smoothing of the border in the plan: rounds, and how far a point may go (well inside what counts as the cut).
_EVEN_ROUNDS = 30
_EVEN_MM = 0.25


@dataclass(frozen=True)
class Curtain:
    """height : (nx, ny) mm at low + cell * (i, j); bilinear between."""

    low: NDArray[np.float64]
    cell_mm: float
    height: NDArray[np.float64]

    def at(self, points: NDArray) -> NDArray[np.float64]:
        """Heights under (k, 2 or more) points; very deep outside."""
        where = (points[:, :2] - self.low) / self.cell_mm
        return ndimage.map_coordinates(self.height, where.T, order=1, mode="constant", cval=_DEEP)


@nb.njit(cache=True)
def _cones(height, low, cell, points, slope, floor):
    """Raise the grid to the upper envelope of cones that fall away from each point."""
    nx, ny = height.shape
    for b in range(len(points)):
        x, y, z = points[b, 0], points[b, 1], points[b, 2]
        reach = (z - floor) / slope + cell
        i0, i1 = max(int((x - reach - low[0]) / cell), 0), min(int((x + reach - low[0]) / cell) + 1, nx - 1)
        j0, j1 = max(int((y - reach - low[1]) / cell), 0), min(int((y + reach - low[1]) / cell) + 1, ny - 1)
        for i in range(i0, i1 + 1):
            for j in range(j0, j1 + 1):
                dx, dy = low[0] + i * cell - x, low[1] + j * cell - y
                # Half a cell is given away: between grid points the envelope must not dip under the border.
                value = z - slope * max(np.sqrt(dx * dx + dy * dy) - 0.75 * cell, 0.0)
                if value > height[i, j]:
                    height[i, j] = value
    return height


def curtain_over(points: NDArray, *, slope: float, round_mm: float, cell_mm: float = _CELL_MM) -> Curtain:
    """The smooth curtain over (k, 3) border points, z up.

    Dilating by the radius of the smoothing kernel first keeps the smoothed height on or above the envelope.
    """
    margin = round_mm * 2 + 1.0
    low = points[:, :2].min(0) - margin - 0.0137
    count = np.ceil((points[:, :2].max(0) + margin - low) / cell_mm).astype(int) + 1
    floor = float(points[:, 2].min())
    height = _cones(np.full(tuple(count), floor - 1.0), low, cell_mm, points, slope, floor - 1.0)
    radius = max(round(round_mm / cell_mm), 1)
    i, j = np.mgrid[-radius : radius + 1, -radius : radius + 1]
    disc = i * i + j * j <= radius * radius
    wide = ndimage.grey_dilation(height, footprint=disc)
    # Two box passes of half the radius reach no further than the disc.
    half = max(radius // 2, 1)
    for _ in range(2):
        wide = ndimage.uniform_filter(wide, 2 * (half // 2) + 1, mode="nearest")
    return Curtain(low, cell_mm, np.maximum(wide, height))


def above_curtain(local: Mesh, *, slope: float, round_mm: float) -> tuple[Mesh, Curtain]:
    """(what of an open mesh (z up) lies above the curtain over its own border, the curtain); the new border lies on it."""
    curtain = curtain_over(border_points(local), slope=slope, round_mm=round_mm)
    value = local.vertices_mm[:, 2] - curtain.at(local.vertices_mm)
    near = np.abs(value) < _SNAP_MM
    vertices = local.vertices_mm.copy()
    vertices[near, 2] -= value[near]
    value[near] = 0.0
    kept = clip(local.with_vertices(vertices), value, exactly=curtain).mesh
    if kept.triangles == 0:
        return kept, curtain
    return split_bow_ties(largest_piece(kept))[0], curtain


def evened(mesh: Mesh, curtain: Curtain) -> Mesh:
    """The border with its fine zigzag smoothed out in the plan and laid on the curtain again, so that walls are even."""
    vertices = mesh.vertices_mm.copy()
    for loop in border_loops(mesh):
        start = vertices[loop, :2]
        plan = start.copy()
        # In and out by turns, so that round borders do not shrink (Taubin, A signal processing approach, 1995).
        for weight in _EVEN_ROUNDS * (0.5, -0.526):
            plan = plan + weight * (0.5 * (np.roll(plan, 1, axis=0) + np.roll(plan, -1, axis=0)) - plan)
        move = plan - start
        length = np.linalg.norm(move, axis=1, keepdims=True)
        vertices[loop, :2] = start + move * np.minimum(1.0, _EVEN_MM / np.maximum(length, 1e-12))
        vertices[loop, 2] = curtain.at(vertices[loop])
    return without_turned(mesh, vertices)
