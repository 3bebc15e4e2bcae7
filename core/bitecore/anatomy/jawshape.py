"""The unit of a file, even samples of a surface, and the line about which an arch is its own mirror image."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft
from scipy.ndimage import gaussian_filter

from ..mesh import Mesh
from ..mesh.measures import face_areas_mm2

# Widths of whole-arch scans in mm run from about 45 (child, cropped) to 95 (with cheeks): common practice, no source.
_USUAL_SIZE_MM = 68.0
# Nothing from a mouth is larger than this in any direction (common practice, no source).
_LARGEST_MM = 300.0
UNITS = {"mm": 1.0, "cm": 10.0, "inch": 25.4, "m": 1000.0}


def unit_of(extent: float, *, usual_mm: float = _USUAL_SIZE_MM) -> tuple[str, float]:
    """The unit whose millimetres bring the longest side nearest to a jaw's, and how sure that is (0 to 1)."""
    size = {name: extent * mm for name, mm in UNITS.items()}
    off = {name: abs(np.log(value / usual_mm)) if value > 0 else np.inf for name, value in size.items()}
    # Anything between a single tooth and a large model is taken as millimetres when it is so as it stands.
    if 9.5 <= extent <= 160.0:
        return "mm", 0.99 if 25 <= extent <= 120 else 0.8
    best = min(off, key=lambda name: off[name])
    return best, 0.97 if off[best] < 0.6 else 0.5


def area_samples(mesh: Mesh, count: int) -> NDArray[np.float64]:
    """(count, 3) points spread evenly over the surface, the same every time."""
    area = face_areas_mm2(mesh)
    total = np.cumsum(area)
    pick = np.searchsorted(total, (np.arange(count) + 0.5) / count * total[-1])
    a, b, c = mesh.vertices_mm[mesh.faces[np.minimum(pick, mesh.triangles - 1)]].swapaxes(0, 1)
    return (a + b + c) / 3


def mirror_axis(plan: NDArray, angles_rad: NDArray, *, cell: float = 0.5, soft_mm: float = 1.0) -> tuple[float, float, float]:
    """Best mirror line of plane points: (angle of the line's direction to +y, its offset along x then, score 0..1).

    For each angle the points are binned, and the autocorrelation along x gives every offset at once.
    """
    best = (0.0, 0.0, -1.0)
    x, y = np.ascontiguousarray(plan.T)
    for angle in angles_rad:
        c, s = np.cos(angle), np.sin(angle)
        column, row = (c * x - s * y) / cell, (s * x + c * y) / cell
        low = float(np.floor(column.min())) - 8
        i, j = (column - low).astype(int), (row - np.floor(row.min()) + 8).astype(int)
        shape = (int(i.max()) + 9, int(j.max()) + 9)
        grid = np.bincount(i * shape[1] + j, minlength=shape[0] * shape[1]).reshape(shape).astype(np.float64)
        grid = gaussian_filter(np.minimum(grid, np.quantile(grid[grid > 0], 0.9)), soft_mm / cell)
        size = next_fast_len(2 * shape[0], real=True)
        power = rfft(grid, size, axis=0)
        match = irfft((power * power).sum(1), size)
        at = int(match.argmax())
        score = match[at] / (grid**2).sum()
        if score > best[2]:
            # Parabola through the neighbours: a peak finer than the cell.
            left, right = match[at - 1], match[(at + 1) % size]
            bend = left - 2 * match[at] + right
            shift = 0.5 * (left - right) / bend if bend < 0 else 0.0
            best = (float(angle), float(((at + shift) / 2 + low + 0.5) * cell), float(score))
    return best
