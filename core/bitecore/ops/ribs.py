"""Upright ribs and honeycombs that stiffen a cavity where it is wide."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from .voxels import Voxels

# A cavity is wide where a circle of this radius fits in its plan; ribs stand so far apart (judgement).
_WIDE_MM, APART_MM = 7.0, 12.0
# Under them resin passes (mm).
PASS_MM = 3.0


@dataclass(frozen=True)
class Stiffened:
    """how : ribs across (the plan's x), or a honeycomb; thick_mm : of each wall of it"""

    how: Literal["ribs", "honeycomb"]
    thick_mm: float

    def field(self, room: NDArray[np.bool_], grid: Voxels, floor: float) -> NDArray[np.float32] | None:
        """For each cell how far (mm) it lies outside of what stiffens, which begins PASS_MM over the floor, and over the room's own bottom
        where that lies higher; None where the room is nowhere wide."""
        deep = ndimage.distance_transform_edt(room.any(2)) * grid.cell
        wide = np.argwhere(deep > _WIDE_MM)
        if len(wide) == 0:
            return None
        x, y = (np.arange(n) * grid.cell + grid.low[axis] for axis, n in enumerate(room.shape[:2]))
        middle = wide.mean(0) * grid.cell + grid.low[:2]
        x, y = np.meshgrid(x - middle[0], y - middle[1], indexing="ij")
        off = _to_lines(y) if self.how == "ribs" else _to_honeycomb(x, y)
        if self.how == "ribs":
            # Only those that cross where it is wide, each from wall to wall.
            number = np.floor(y / APART_MM + 0.5)
            crossed = np.unique(number[tuple(wide[(np.abs(off) < self.thick_mm)[tuple(wide.T)]].T)])
            off = np.where(np.isin(number, crossed), off, APART_MM)
        bottom = np.maximum(grid.low[2] + room.argmax(2) * grid.cell, floor)
        rise = grid.low[2] + np.arange(room.shape[2]) * grid.cell - (bottom + PASS_MM)[:, :, None]
        return np.maximum((off - self.thick_mm / 2)[:, :, None], -rise).astype(np.float32)


def _to_lines(y: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.abs((y + APART_MM / 2) % APART_MM - APART_MM / 2)


def _to_honeycomb(x: NDArray[np.float64], y: NDArray[np.float64]) -> NDArray[np.float64]:
    """How far from the nearest wall of a honeycomb whose cells are APART_MM wide: half the difference between the distances along the
    line through the two nearest middles."""
    a = APART_MM * np.array([1.0, 0.0])
    b = APART_MM * np.array([0.5, np.sqrt(0.75)])
    first, second = np.full(x.shape, np.inf), np.full(x.shape, np.inf)
    near = np.rint(y / b[1])
    for row in (-1, 0, 1):
        n = near + row
        m = np.rint((x - n * b[0]) / a[0])
        for step in (-1, 0, 1):
            square = (x - (m + step) * a[0] - n * b[0]) ** 2 + (y - n * b[1]) ** 2
            second = np.minimum(second, np.maximum(first, square))
            first = np.minimum(first, square)
    # Both middles are APART_MM apart: how far the place lies from the plane half way between them.
    return (second - first) / (2 * APART_MM)
