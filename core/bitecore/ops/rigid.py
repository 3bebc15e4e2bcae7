"""Rigid transforms as 4x4 matrices, p' = M p."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray


def placed(rotation: ArrayLike, shift_mm: ArrayLike) -> NDArray[np.float64]:
    out = np.eye(4)
    out[:3, :3], out[:3, 3] = rotation, shift_mm
    return out


def frame_to_axes(origin_mm: ArrayLike, x: ArrayLike, y: ArrayLike, z: ArrayLike) -> NDArray[np.float64]:
    """The matrix that takes origin to zero and the unit axes x, y, z to the coordinate axes."""
    rotation = np.stack([np.asarray(x, float), np.asarray(y, float), np.asarray(z, float)])
    return placed(rotation, -rotation @ np.asarray(origin_mm, float))


def turned(*, tilt_deg: float, roll_deg: float, turn_deg: float) -> NDArray[np.float64]:
    """(3, 3) rotation: first tilt about x, then roll about y, then turn about z, right-handed."""
    a, b, c = np.radians([tilt_deg, roll_deg, turn_deg])
    rx = np.array([[1, 0, 0], [0, np.cos(a), -np.sin(a)], [0, np.sin(a), np.cos(a)]])
    ry = np.array([[np.cos(b), 0, np.sin(b)], [0, 1, 0], [-np.sin(b), 0, np.cos(b)]])
    rz = np.array([[np.cos(c), -np.sin(c), 0], [np.sin(c), np.cos(c), 0], [0, 0, 1]])
    return rz @ ry @ rx


def angle_deg(rotation: ArrayLike) -> float:
    """The angle of a rotation matrix, from its skew part too so that small angles keep their digits."""
    r = np.asarray(rotation, float)
    skew = np.array([r[2, 1] - r[1, 2], r[0, 2] - r[2, 0], r[1, 0] - r[0, 1]])
    return float(np.degrees(np.arctan2(np.linalg.norm(skew) / 2, (np.trace(r) - 1) / 2)))


def laid_on(points: ArrayLike, others: ArrayLike) -> NDArray[np.float64]:
    """(4, 4) that takes (k, 3) points to others with the least squares of what is left (Kabsch, Acta Cryst. A32, 1976)."""
    p, q = np.asarray(points, float), np.asarray(others, float)
    u, _, vt = np.linalg.svd((p - p.mean(0)).T @ (q - q.mean(0)))
    turn = vt.T @ np.diag([1.0, 1.0, np.sign(np.linalg.det(vt.T @ u.T))]) @ u.T
    return placed(turn, q.mean(0) - turn @ p.mean(0))


def rounded(values: ArrayLike) -> list:
    """Numbers to 1e-6 as lists, so that what has not changed gives the same key. Never -0."""
    return (np.round(np.asarray(values, float), 6) + 0.0).tolist()


def unit(vector: ArrayLike) -> NDArray[np.float64]:
    v = np.asarray(vector, float)
    return v / np.linalg.norm(v)


def rows(matrix: ArrayLike) -> list[list[float]]:
    """A placement as four rows of four, to 1e-12: what turns and shifts keeps its last digits. Never -0."""
    out: list[list[float]] = (np.round(np.asarray(matrix, float), 12) + 0.0).tolist()
    return out
