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
from .contacts import believed
from .jaw import Jaw

_NEAR_MM, _LEVER_MM = 1.5, 25.0
_EASED_MM = 3e-4
_MOST_TRIES, _CONSTRAINTS = 30, 600


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
    """Two jaws, asked how far they are from each other: points of the lower from the upper's surface, and the other way
    round, for a cusp may go through the middle of a triangle."""

    def __init__(self, upper: Jaw, lower: Jaw) -> None:
        self._upper, self._lower = _Side(upper), _Side(lower)

    @property
    def points(self) -> NDArray[np.float64]:
        """(k, 3) crowns of the lower, in its home."""
        return self._lower.points

    def gaps(self, lower_to_upper: NDArray, within_mm: float) -> tuple[NDArray, NDArray, NDArray]:
        """In the upper's home: (signed distances (k,), minus where they overlap; directions (k, 3) in which the lower
        leaves the upper; where (k, 3)), of all that is within reach."""
        m, back = lower_to_upper, np.linalg.inv(lower_to_upper)
        gap, away, at = self._upper.asked(m, self._lower.points, within_mm)
        other, to_upper, there = self._lower.asked(back, self._upper.points, within_mm)
        turned_back = -(to_upper @ m[:3, :3].T)
        return np.r_[gap, other], np.vstack([away, turned_back]), np.vstack([at, there @ m[:3, :3].T + m[:3, 3]])


class _Side:
    def __init__(self, jaw: Jaw) -> None:
        mesh = largest_piece(jaw.mesh)
        self._tree, self._rim = ClosestPoints(mesh), at_border(mesh)
        self.points = jaw.crowns()

    def asked(self, matrix: NDArray, points: NDArray, within_mm: float) -> tuple[NDArray, NDArray, NDArray]:
        """(signed distances, directions away from this surface, the points) of moved points within reach."""
        p = points @ matrix[:3, :3].T + matrix[:3, 3]
        signed, hits = self._tree.signed(p, within_mm=within_mm)
        real = (hits.face >= 0) & ~self._rim[np.maximum(hits.face, 0)] & (np.abs(signed) < within_mm)
        real[real] = believed(p[real], signed[real])
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
    constraints (Lawson and Hanson, Solving Least Squares Problems, 1974), taken anew from the start with the surfaces as
    they stand at the last answer, until both agree."""
    pivot = jaws.points.mean(0) @ lower_to_upper[:3, :3].T + lower_to_upper[:3, 3]
    x, now = np.zeros(6), np.eye(4)
    for _ in range(_MOST_TRIES):
        gap, away, p = jaws.gaps(now @ lower_to_upper, _NEAR_MM)
        if len(gap) == 0:
            break
        near = np.argsort(gap)[:_CONSTRAINTS]
        g = np.concatenate([np.cross(p[near] - pivot, away[near]) / _LEVER_MM, away[near]], axis=1)
        new = _least_move(g, -tolerance_mm - gap[near] + g @ x)
        step = new - x
        x = x + step * min(1.0, 0.5 / max(float(np.linalg.norm(step)), 1e-12))
        now = _move(x, pivot)
        if np.linalg.norm(step) < _EASED_MM:
            break
    moved = jaws.points @ lower_to_upper[:3, :3].T + lower_to_upper[:3, 3]
    way = moved @ (now[:3, :3] - np.eye(3)).T + now[:3, 3]
    return Moved(now, float(np.linalg.norm(way, axis=1).max()), angle_deg(now[:3, :3]), _axis_words(now, axes))


def _move(x: NDArray, pivot: NDArray) -> NDArray:
    """(4, 4) of a turn about the pivot (first three, mm at the lever's length) and a shift."""
    turn = Rotation.from_rotvec(x[:3] / _LEVER_MM).as_matrix()
    return placed(turn, pivot + x[3:] - turn @ pivot)


def _least_move(g: NDArray, least: NDArray) -> NDArray:
    """Smallest x with g x >= least, by the non-negative least squares of its dual."""
    if (least <= 0).all():
        return np.zeros(6)
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
