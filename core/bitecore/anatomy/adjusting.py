"""Moving the lower against the upper: by hand in exact steps, closed to the first contact, eased out of an overlap."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import nnls
from scipy.spatial.transform import Rotation

from ..mesh.topology import at_border
from ..ops.closest import ClosestPoints
from ..ops.mend import largest_piece
from ..ops.rigid import angle_deg, placed, turned, unit
from .jaw import Jaw

_NEAR_MM, _LEVER_MM = 1.5, 25.0
_EASED_MM = 5e-4


def bench_axes(anchor: Jaw, *, upper: bool) -> NDArray[np.float64]:
    """(3, 3) rows in the anchor's home: the patient's left, back, up; up is the vertical that Intake saw."""
    z = unit(-anchor.up if upper else anchor.up)
    y = -anchor.front
    y = unit(y - z * (y @ z))
    return np.stack([np.cross(y, z), y, z])


def by_hand(axes: NDArray, pivot: NDArray, *, shift_mm: NDArray, tilt_deg: float, roll_deg: float, turn_deg: float) -> NDArray:
    """(4, 4): turned about the pivot and shifted along left, back, up; in the anchor's home."""
    turn = axes.T @ turned(tilt_deg=tilt_deg, roll_deg=roll_deg, turn_deg=turn_deg) @ axes
    return placed(turn, pivot - turn @ pivot + axes.T @ np.asarray(shift_mm, float))


class Opposing:
    """The upper, asked how far points of the lower are from it."""

    def __init__(self, upper: Jaw, lower: Jaw) -> None:
        mesh = largest_piece(upper.mesh)
        self._tree, self._rim = ClosestPoints(mesh), at_border(mesh)
        self.points = lower.crowns()

    def gaps(self, lower_to_upper: NDArray, within_mm: float, points: NDArray | None = None) -> tuple:
        """(signed distances (k,), directions away from the upper (k, 3), moved points (k, 3)) of those within reach."""
        own = self.points if points is None else points
        p = own @ lower_to_upper[:3, :3].T + lower_to_upper[:3, 3]
        signed, hits = self._tree.signed(p, within_mm=within_mm)
        real = (hits.face >= 0) & ~self._rim[np.maximum(hits.face, 0)] & (np.abs(signed) < within_mm)
        away = (p - hits.point_mm)[real]
        length = np.linalg.norm(away, axis=1)
        fine = length > 1e-9
        return signed[real][fine], (away * np.sign(signed[real])[:, None])[fine] / length[fine, None], p[real][fine]


@dataclass(frozen=True)
class Moved:
    """matrix : (4, 4) to be applied after lower_to_upper; distance_mm, angle_deg : how far; axis : in words."""

    matrix: NDArray[np.float64]
    distance_mm: float
    angle_deg: float
    axis: str


def closed(jaws: Opposing, lower_to_upper: NDArray, vertical: NDArray) -> Moved:
    """Along the vertical (3,) unit, up, until the lower first touches the upper; away from it where they overlap."""
    rise = 0.0
    reach = 15.0
    for _ in range(60):
        at = placed(np.eye(3), vertical * rise) @ lower_to_upper
        gap, away, _ = jaws.gaps(at, reach)
        if len(gap) == 0:
            if reach > 40:
                break
            reach *= 2
            continue
        least = float(gap.min())
        if abs(least) < 2e-4:
            break
        if least > 0:
            rise += least  # nothing can be nearer than the nearest
        else:
            k = gap < 0.9 * least
            rise += float((gap[k] / np.maximum(-(away[k] @ vertical), 0.3)).min())
        reach = min(reach, max(2.0, 3 * abs(least)))
    return Moved(placed(np.eye(3), vertical * rise), abs(rise), 0.0, "up" if rise > 0 else "down")


def eased(jaws: Opposing, lower_to_upper: NDArray, *, tolerance_mm: float, axes: NDArray) -> Moved:
    """The smallest rigid movement after which nothing overlaps by more than the tolerance: least squares under linear
    constraints (Lawson and Hanson, Solving Least Squares Problems, 1974), taken again where the surfaces are then."""
    now = np.eye(4)
    pivot = jaws.points.mean(0) @ lower_to_upper[:3, :3].T + lower_to_upper[:3, 3]
    for _ in range(25):
        gap, away, p = jaws.gaps(now @ lower_to_upper, _NEAR_MM)
        if len(gap) == 0 or gap.min() > -tolerance_mm - _EASED_MM:
            break
        tight = gap < max(0.0, -float(gap.min())) * 0.5 + 0.05
        g = np.concatenate([np.cross(p[tight] - pivot, away[tight]) / _LEVER_MM, away[tight]], axis=1)
        x = _least_move(g, -tolerance_mm - gap[tight])
        turn = Rotation.from_rotvec(x[:3] / _LEVER_MM).as_matrix()
        now = placed(turn, pivot + x[3:] - turn @ pivot) @ now
    moved = jaws.points @ lower_to_upper[:3, :3].T + lower_to_upper[:3, 3]
    step = moved @ (now[:3, :3] - np.eye(3)).T + now[:3, 3]
    turn_deg = angle_deg(now[:3, :3])
    return Moved(now, float(np.linalg.norm(step, axis=1).max()), turn_deg, _axis_words(now, axes))


def _least_move(g: NDArray, least: NDArray) -> NDArray:
    """Smallest x with g x >= least, by the non-negative least squares of its dual."""
    e = np.vstack([g.T, least[None, :]])
    f = np.zeros(7)
    f[6] = 1.0
    u, _ = nnls(e, f, maxiter=50 * max(len(least), 10))
    r = e @ u - f
    return -r[:6] / r[6] if abs(r[6]) > 1e-12 else np.zeros(6)


def _axis_words(m: NDArray, axes: NDArray) -> str:
    axis = axes @ Rotation.from_matrix(m[:3, :3]).as_rotvec()
    if np.linalg.norm(axis) < np.radians(0.005):
        return ""
    return ("left-right axis", "front-back axis", "vertical axis")[int(np.abs(axis).argmax())]
