"""How two jaws meet when one swings about an axis. In cylindrical coordinates about it a swing is a shift of the angle, so one look tells
at which angle every place of both meets."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from scipy.spatial.transform import Rotation

from ..mesh import Mesh
from .heights import heights

_CELL_MM = 0.1
# What begins to touch so much later than its surroundings is a place of its own; places so near to each other are one.
_STEP_MM, _NEAR_MM = 0.01, 1.0
_NONE = 1e3


@dataclass(frozen=True)
class Axis:
    """at : (3,) a place on it; along : (3,) its direction, of length one; front : (3,) straight away from it, towards the incisors"""

    at: NDArray[np.float64]
    along: NDArray[np.float64]
    front: NDArray[np.float64]

    def polar(self, points: NDArray[np.float64]) -> NDArray[np.float64]:
        """(n, 3): along the axis (mm), away from it (mm), and the angle from `front` (rad), growing as an upper opens."""
        off = points - self.at
        front, up = off @ self.front, off @ self.up
        return np.c_[off @ self.along, np.hypot(front, up), np.arctan2(up, front)]

    def place(self, polar: NDArray[np.float64]) -> NDArray[np.float64]:
        along, away, angle = np.asarray(polar, float).T
        return self.at + np.outer(along, self.along) + np.outer(away * np.cos(angle), self.front) + np.outer(away * np.sin(angle), self.up)

    def turn(self, opened_rad: float) -> NDArray[np.float64]:
        """(4, 4): a lower opened by that about the axis; below nought: closed."""
        turn = Rotation.from_rotvec(self.along * opened_rad).as_matrix()
        out = np.eye(4)
        out[:3, :3], out[:3, 3] = turn, self.at - turn @ self.at
        return out

    @property
    def up(self) -> NDArray[np.float64]:
        """From there an upper goes when it opens. With `along` to the patient's left and `front` to the front."""
        return np.cross(self.front, self.along)


@dataclass(frozen=True)
class Meeting:
    """A place where the jaws touch as they close. open_rad : how far open they still are, below nought past the pose they were given in;
    high_mm : by how much they would go through each other there in that pose, below nought: by how much they miss; at_mm : (3,) there"""

    open_rad: float
    high_mm: float
    at_mm: NDArray[np.float64]


@dataclass(frozen=True)
class Swing:
    """gap : (n, m) by what angle the lower has to be closed for every place to meet; nan where one of both is not. low : (2,) mm along
    the axis and away from it of the first place."""

    axis: Axis
    gap: NDArray[np.float64]
    lower: NDArray[np.float64]
    low: NDArray[np.float64]

    def meetings(self, *, past_mm: float, most: int = 24) -> list[Meeting]:
        """As they come, from the first contact on until the jaws would have gone into each other there by past_mm."""
        gap = np.where(np.isfinite(self.gap), self.gap, _NONE)
        if gap.min() >= _NONE:
            return []
        away = self.low[1] + _CELL_MM * np.arange(gap.shape[1])
        first = np.unravel_index(int(gap.argmin()), gap.shape)
        begins, known = float(gap[first]), np.zeros(gap.shape, bool)
        near = 2 * round(_NEAR_MM / _CELL_MM / 2) + 1
        out: list[Meeting] = []
        for depth in np.arange(_STEP_MM, past_mm + _STEP_MM / 2, _STEP_MM):
            touching = (gap - begins) * away < depth
            label, _ = ndimage.label(ndimage.maximum_filter(touching, size=near))
            fresh = np.setdiff1d(np.unique(label[touching]), label[known])
            for k in fresh:
                where = np.where((label == k) & touching, gap, _NONE)
                i, j = np.unravel_index(int(where.argmin()), gap.shape)
                angle = float(gap[i, j])
                place = self.axis.place(np.array([[self.low[0] + i * _CELL_MM, away[j], self.lower[i, j]]]))[0]
                out.append(Meeting(-angle, -angle * float(away[j]), place))
                known[i, j] = True
            if len(out) >= most:
                break
        return sorted(out, key=lambda m: -m.open_rad)[:most]


def swing(upper: Mesh, lower: Mesh, axis: Axis) -> Swing:
    """Of the parts of two surfaces that may touch, in one frame. Long triangles are told as if they were bent along the swing."""
    turned = {"upper": axis.polar(upper.vertices_mm), "lower": axis.polar(lower.vertices_mm)}
    low = np.maximum(turned["upper"][:, :2].min(0), turned["lower"][:, :2].min(0))
    high = np.minimum(turned["upper"][:, :2].max(0), turned["lower"][:, :2].max(0))
    count = np.maximum(np.ceil((high - low) / _CELL_MM).astype(int) + 1, 1)
    shape = (int(count[0]), int(count[1]))
    if (high <= low).any():
        return Swing(axis, np.full(shape, np.nan), np.full(shape, np.nan), low)
    lowest, _ = heights(turned["upper"], upper.faces, low, shape, _CELL_MM)
    _, highest = heights(turned["lower"], lower.faces, low, shape, _CELL_MM)
    both = np.isfinite(lowest) & np.isfinite(highest)
    gap = np.full(shape, np.nan)
    gap[both] = lowest[both] - highest[both]
    return Swing(axis, gap, np.where(both, highest, np.nan), low)
