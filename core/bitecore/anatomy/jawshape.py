"""What a scan is and which way it faces, from its shape alone.

Facts used (common practice, no source): a jaw scan is open towards the gum and its border lies on that side; an arch
is a horseshoe, nearly its own mirror image, closed in front; the upper jaw has a palate between its sides.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter

from ..mesh import Mesh, area_mm2, edge_table, vector_area_mm2
from ..mesh.measures import area_vectors, corners
from ..ops.border import border_points
from ..ops.mend import largest_piece

# Widths of whole-arch scans in mm run from about 45 (child, cropped) to 95 (with cheeks): common practice, no source.
_USUAL_SIZE_MM = 68.0
# Nothing from a mouth is larger than this in any direction (common practice, no source).
_LARGEST_MM = 300.0
UNITS = {"mm": 1.0, "cm": 10.0, "inch": 25.4, "m": 1000.0}


def unit_of(extent: float) -> tuple[str, float]:
    """The unit whose millimetres bring the longest side nearest to a jaw's, and how sure that is (0 to 1)."""
    size = {name: extent * mm for name, mm in UNITS.items()}
    off = {name: abs(np.log(value / _USUAL_SIZE_MM)) if value > 0 else np.inf for name, value in size.items()}
    # Anything between a single tooth and a large model is taken as millimetres when it is so as it stands.
    if 8.0 <= extent <= 160.0:
        return "mm", 0.99 if 25 <= extent <= 120 else 0.8
    best = min(off, key=lambda name: off[name])
    return best, 0.97 if off[best] < 0.6 else 0.5


@dataclass(frozen=True)
class Shape:
    """kind, jaw (upper, lower or None) with confidences; up : (3,) where the teeth point; front : (3,) to the lips."""

    kind: str
    kind_confidence: float
    jaw: str | None
    confidence: float
    up: NDArray[np.float64]
    front: NDArray[np.float64]
    inside_out: bool
    symmetry: float


def area_samples(mesh: Mesh, count: int) -> NDArray[np.float64]:
    """(count, 3) points spread evenly over the surface, the same every time."""
    area = np.linalg.norm(area_vectors(mesh), axis=1)
    total = np.cumsum(area)
    pick = np.searchsorted(total, (np.arange(count) + 0.5) / count * total[-1])
    a, b, c = corners(mesh)
    pick = np.minimum(pick, mesh.triangles - 1)
    return (a[pick] + b[pick] + c[pick]) / 3


def mirror_axis(plan: NDArray, angles_rad: NDArray, *, cell: float = 0.5, soft_mm: float = 1.0) -> tuple[float, float, float]:
    """Best mirror line of plane points: (angle of the line's direction to +y, its offset along x then, score 0..1).

    For each angle the points are binned, and the autocorrelation along x gives every offset at once.
    """
    best = (0.0, 0.0, -1.0)
    for angle in angles_rad:
        c, s = np.cos(angle), np.sin(angle)
        turned = plan @ np.array([[c, s], [-s, c]])  # columns: x', y'
        low = np.floor(turned.min(0) / cell) - 8
        index = (turned / cell - low).astype(int)
        shape = index.max(0) + 9
        grid = np.zeros(shape)
        np.add.at(grid, (index[:, 0], index[:, 1]), 1.0)
        grid = gaussian_filter(np.minimum(grid, np.quantile(grid[grid > 0], 0.9)), soft_mm / cell)
        size = 2 * shape[0]
        power = np.fft.rfft(grid, size, axis=0)
        match = np.fft.irfft((power * power).sum(1), size)
        at = int(match.argmax())
        score = match[at] / (grid**2).sum()
        if score > best[2]:
            # Parabola through the neighbours: a peak finer than the cell.
            left, right = match[at - 1], match[(at + 1) % size]
            bend = left - 2 * match[at] + right
            shift = 0.5 * (left - right) / bend if bend < 0 else 0.0
            best = (float(angle), float(((at + shift) / 2 + low[0] + 0.5) * cell), float(score))
    return best


def _axis(mesh: Mesh, points: NDArray) -> tuple[NDArray, float]:
    """(3,) where the teeth point, and how clearly (mm between surface and border along it)."""
    spread = np.linalg.svd(points - points.mean(0), full_matrices=False)[2]
    normal = spread[2]
    vector = vector_area_mm2(mesh)
    if np.linalg.norm(vector) > 0.25 * area_mm2(mesh):
        # The open side's normal is steadier than the spread where the jaw is tall.
        mean = normal * np.sign(normal @ vector or 1.0) + vector / np.linalg.norm(vector)
        normal = mean / np.linalg.norm(mean)
    border = border_points(mesh, step_mm=0.5)
    lift = float((points.mean(0) - border.mean(0)) @ normal) if len(border) else 0.0
    return normal * (1.0 if lift >= 0 else -1.0), abs(lift)


def _plan(points: NDArray, up: NDArray) -> tuple[NDArray, NDArray, NDArray]:
    x = np.cross(np.eye(3)[int(np.abs(up).argmin())], up)
    x /= np.linalg.norm(x)
    y = np.cross(up, x)
    return points @ np.stack([x, y], axis=1), x, y


def _tips(points: NDArray, up: NDArray, depth_mm: float) -> NDArray[np.bool_]:
    height = points @ up
    return height > np.quantile(height, 0.997) - depth_mm


def recognise(mesh: Mesh) -> Shape:
    """What one mesh (mm) is. Never raises: a shape that fits nothing is 'other'."""
    if np.ptp(mesh.vertices_mm, axis=0).max() > _LARGEST_MM:
        return Shape("other", 0.9, None, 0.9, np.array([0.0, 0.0, 1.0]), np.array([0.0, -1.0, 0.0]), False, 0.0)
    mesh = largest_piece(mesh)
    points = area_samples(mesh, 12_000)
    up, lift = _axis(mesh, points)
    plan, x, y = _plan(points, up)
    tips = _tips(points, up, 6.5)
    angle, offset, symmetry = mirror_axis(plan[tips], np.radians(np.arange(0, 180, 4.0)))
    angle, offset, symmetry = mirror_axis(plan[tips], angle + np.radians(np.arange(-4, 4.5, 1.0)))
    c, s = np.cos(angle), np.sin(angle)
    local = plan @ np.array([[c, s], [-s, c]]) - [offset, 0.0]
    along = x * s + y * c
    front_sign, closed = _front_side(local[tips])
    front = along * front_sign
    local = local * [1, -front_sign]  # now y grows to the back
    kind, kind_confidence = _kind(mesh, points, up, symmetry, closed)
    jaw, confidence = _jaw(local, tips) if kind == "jaw" else (None, 0.0)
    return Shape(
        kind,
        kind_confidence,
        jaw,
        min(confidence, kind_confidence) if jaw else kind_confidence,
        up,
        front,
        bool(vector_area_mm2(mesh) @ up < 0) if lift > 0.5 else False,
        symmetry,
    )


def _front_side(local: NDArray) -> tuple[float, float]:
    """+1 where the front lies towards +y of the mirrored plan; and how much clearer the front end is closed (0..1)."""
    middle = local[np.abs(local[:, 0]) < 5.0]
    low, high = np.quantile(local[:, 1], [0.01, 0.99])
    band = (high - low) * 0.35
    top = int((middle[:, 1] > high - band).sum())
    bottom = int((middle[:, 1] < low + band).sum())
    return (1.0 if top >= bottom else -1.0), abs(top - bottom) / max(top + bottom, 1)


def _kind(mesh: Mesh, points: NDArray, up: NDArray, symmetry: float, closed: float) -> tuple[str, float]:
    spread = np.linalg.svd(points - points.mean(0), full_matrices=False)[2]
    side = np.sort(np.ptp(points @ spread.T, axis=0))[::-1]
    border = edge_table(mesh).count == 1
    if side[0] > 35 and side[1] > 30 and not border.any():
        return "closed", 0.9
    if 38 <= side[0] <= 110 and side[1] >= 30 and side[2] <= 48:
        sure = symmetry > 0.55 and closed > 0.5
        return ("jaw", 0.97) if sure else ("jaw", 0.7)
    if 14 <= side[0] <= 75 and 7 <= side[1] < 30 and side[2] < 20:
        return "bite", 0.8
    return "other", 0.6


def _jaw(local: NDArray, tips: NDArray) -> tuple[str, float]:
    """Upper or lower by whether the room between the sides is covered: palate or tongue."""
    arch = local[tips]
    front, back = np.quantile(arch[:, 1], [0.01, 0.99])
    depth = back - front
    half = np.quantile(np.abs(arch[:, 0]), 0.9) * 0.38
    lo, hi = front + 0.45 * depth, front + 0.85 * depth
    # Cells of about 2 mm²: a covered one holds several samples.
    cells = np.zeros((12, 12), bool)
    room = (np.abs(local[:, 0]) < half) & (local[:, 1] > lo) & (local[:, 1] < hi)
    inside = local[room]
    i = ((inside[:, 0] + half) / (2 * half) * 12).astype(int).clip(0, 11)
    j = ((inside[:, 1] - lo) / (hi - lo) * 12).astype(int).clip(0, 11)
    cells[i, j] = True
    covered = float(cells.mean())
    if covered > 0.5:
        return "upper", 0.97 if covered > 0.75 else 0.8
    # An upper scanned without its palate looks much like a lower: open middles are never called sure alone.
    return "lower", 0.88 if covered < 0.15 else 0.7
