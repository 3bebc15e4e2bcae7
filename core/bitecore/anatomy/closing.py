"""Moving the lower against the upper: by hand in exact steps, closed to the first contact, eased out of an overlap."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import nnls
from scipy.spatial.transform import Rotation

from ..mesh import face_normals
from ..mesh.topology import at_border
from ..ops.closest import ClosestPoints
from ..ops.mend import largest_piece
from ..ops.rigid import angle_deg, placed, turned, unit
from ..ops.split import finely, usual_edge_mm
from .average import BACK_MM, UP_MM
from .jaw import Jaw
from .relation import believed

_NEAR_MM, _LEVER_MM = 1.5, 25.0
_EASED_MM = 3e-4
_MOST_TRIES, _CONSTRAINTS = 30, 600
# So near to each other the jaws are asked between vertices too.
_FINER_MM = 0.3
_CELL_MM = 0.2


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


def raised(axes: NDArray, pivot: NDArray, *, by_mm: float) -> tuple[NDArray[np.float64], float]:
    """((4, 4) in the anchor's home, by how many degrees): the lower opened about the average hinge axis until its incisal point, the
    pivot (3,), is so much lower. axes : see bench_axes"""
    away = np.hypot(BACK_MM, UP_MM)
    turn = np.arcsin((by_mm + UP_MM) / away) - np.arctan2(UP_MM, BACK_MM)
    axis = pivot + axes.T @ np.array([0.0, BACK_MM, UP_MM])
    degrees = float(np.degrees(turn))
    return by_hand(axes, axis, shift_mm=np.zeros(3), tilt_deg=degrees, roll_deg=0.0, turn_deg=0.0), degrees


class Opposing:
    """Two jaws, asked how far they are from each other: points of the lower from the upper's surface, and the other way
    round, for a cusp may go through the middle of a triangle."""

    def __init__(self, upper: Jaw, lower: Jaw) -> None:
        self._upper, self._lower = _Side(upper), _Side(lower)

    @property
    def points(self) -> NDArray[np.float64]:
        """(k, 3) crowns of the lower, in its home."""
        return self._lower.points

    def finer(self, lower_to_upper: NDArray) -> None:
        """Ask between vertices too, from now on, where the jaws are near each other as they stand here."""
        m, back = lower_to_upper, np.linalg.inv(lower_to_upper)
        self._lower.asks_finely(self._upper, m)
        self._upper.asks_finely(self._lower, back)

    def gaps(self, lower_to_upper: NDArray, within_mm: float) -> tuple[NDArray, NDArray, NDArray]:
        """In the upper's home: (signed distances (k,), minus where they overlap; directions (k, 3) in which the lower
        leaves the upper; where (k, 3)), of all that is within reach."""
        m, back = lower_to_upper, np.linalg.inv(lower_to_upper)
        gap, away, at = self._upper.asked(m, self._lower.probes, within_mm)
        other, to_upper, there = self._lower.asked(back, self._upper.probes, within_mm)
        turned_back = -(to_upper @ m[:3, :3].T)
        return np.r_[gap, other], np.vstack([away, turned_back]), np.vstack([at, there @ m[:3, :3].T + m[:3, 3]])


class _Side:
    def __init__(self, jaw: Jaw) -> None:
        self._mesh = largest_piece(jaw.mesh)
        self._tree, self._rim = ClosestPoints(self._mesh), at_border(self._mesh)
        self.points = self.probes = jaw.crowns()

    def asks_finely(self, other: _Side, matrix: NDArray) -> None:
        at = self._mesh.vertices_mm @ matrix[:3, :3].T + matrix[:3, 3]
        signed, hits = other._tree.signed(at, within_mm=_FINER_MM)
        near = (hits.face >= 0) & (np.abs(signed) < _FINER_MM)
        part = self._mesh.of_faces(near[self._mesh.faces].any(1))
        if part.triangles:
            self.probes = np.vstack([self.points, finely(part, usual_edge_mm(self._mesh)).vertices_mm])

    def asked(self, matrix: NDArray, points: NDArray, within_mm: float) -> tuple[NDArray, NDArray, NDArray]:
        """(signed distances, directions away from this surface, the points) of moved points within reach."""
        p = points @ matrix[:3, :3].T + matrix[:3, 3]
        signed, hits = self._tree.signed(p, within_mm=within_mm)
        real = (hits.face >= 0) & ~self._rim[np.maximum(hits.face, 0)] & (np.abs(signed) < within_mm)
        real[real] = believed(p[real], signed[real])
        away = (p - hits.point_mm)[real] * np.where(signed[real] < 0, -1.0, 1.0)[:, None]
        length = np.linalg.norm(away, axis=1)
        # What just touches has no way to go of its own: the surface says where it is out.
        on = length <= 1e-9
        if on.any():
            away[on] = face_normals(self._mesh)[hits.face[real][on]]
            length[on] = 1.0
        return signed[real], away / length[:, None], p[real]


@dataclass(frozen=True)
class Moved:
    """A movement of the lower that closes or eases the bite.

    matrix                 : (4, 4) to be applied after lower_to_upper
    distance_mm, angle_deg : how far
    axis                   : in words
    """

    matrix: NDArray[np.float64]
    distance_mm: float
    angle_deg: float
    axis: str


def closed(jaws: Opposing, lower_to_upper: NDArray, vertical: NDArray) -> Moved:
    """Along the vertical (3,) unit, up, until the lower first touches the upper; away from it where they overlap."""
    rise = _risen(jaws, lower_to_upper, vertical, 0.0, reach=15.0)
    jaws.finer(placed(np.eye(3), vertical * rise) @ lower_to_upper)
    rise = _risen(jaws, lower_to_upper, vertical, rise, reach=2.0)
    return Moved(placed(np.eye(3), vertical * rise), abs(rise), 0.0, "up" if rise > 0 else "down")


def _risen(jaws: Opposing, lower_to_upper: NDArray, vertical: NDArray, rise: float, *, reach: float) -> float:
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
    return rise


def eased(jaws: Opposing, lower_to_upper: NDArray, *, tolerance_mm: float, axes: NDArray) -> Moved:
    """The smallest rigid movement after which nothing overlaps by more than the tolerance: least squares under linear
    constraints (Lawson and Hanson, Solving Least Squares Problems, 1974), taken anew from the start with the surfaces as
    they stand at the last answer, until both agree."""
    pivot = jaws.points.mean(0) @ lower_to_upper[:3, :3].T + lower_to_upper[:3, 3]
    x = _eased(jaws, lower_to_upper, pivot, np.zeros(6), tolerance_mm)
    jaws.finer(_move(x, pivot) @ lower_to_upper)
    now = _move(_eased(jaws, lower_to_upper, pivot, x, tolerance_mm), pivot)
    moved = jaws.points @ lower_to_upper[:3, :3].T + lower_to_upper[:3, 3]
    way = moved @ (now[:3, :3] - np.eye(3)).T + now[:3, 3]
    return Moved(now, float(np.linalg.norm(way, axis=1).max()), angle_deg(now[:3, :3]), _axis_words(now, axes))


def _eased(jaws: Opposing, lower_to_upper: NDArray, pivot: NDArray, x: NDArray, tolerance_mm: float) -> NDArray[np.float64]:
    """(6,) the move (see _move), from a first guess."""
    for _ in range(_MOST_TRIES):
        gap, away, p = jaws.gaps(_move(x, pivot) @ lower_to_upper, _NEAR_MM)
        if len(gap) == 0:
            break
        near = _spread(np.argsort(gap), p)[:_CONSTRAINTS]
        g = np.concatenate([np.cross(p[near] - pivot, away[near]) / _LEVER_MM, away[near]], axis=1)
        step = _least_move(g, -tolerance_mm - gap[near] + g @ x) - x
        x = x + step * min(1.0, 0.5 / max(float(np.linalg.norm(step)), 1e-12))
        if np.linalg.norm(step) < _EASED_MM:
            break
    return x


def _spread(order: NDArray, points: NDArray) -> NDArray[np.int64]:
    """The first of each cell, in order: one contact alone could take up all the places."""
    _, first = np.unique(np.floor(points[order] / _CELL_MM).astype(np.int64), axis=0, return_index=True)
    return order[np.sort(first)]


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
