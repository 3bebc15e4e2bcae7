"""Where a lower stands when its condyles have moved on their paths: shifted, then turned about the line through both until it first touches
the upper. The turn comes of one look in cylindrical coordinates about that line (see swing.py), not of probing."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from ..mesh import Mesh
from .rigid import unit
from .swing import Axis, Meeting, swing

Way = Literal["forward", "left", "right"]


@dataclass(frozen=True)
class Joints:
    """Both condyles and how they move, on the bench (mm, degrees; x to the patient's left, y back, z up).

    left, right  : (3,) where they are
    path_deg     : how steeply they go down as they go forward, against the occlusal plane
    side_deg     : by how much the one that moves alone goes inwards (Bennett)
    """

    left: NDArray[np.float64]
    right: NDArray[np.float64]
    path_deg: float
    side_deg: float

    def step(self, way: Way, by_mm: float) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """(where the left condyle is, where the right is) when the ones that move have gone so far. To the right the left one moves."""
        ahead = by_mm * np.array([0.0, -np.cos(np.radians(self.path_deg)), -np.sin(np.radians(self.path_deg))])
        if way == "forward":
            return self.left + ahead, self.right + ahead
        inwards = Rotation.from_euler("z", -self.side_deg if way == "right" else self.side_deg, degrees=True).apply(ahead)
        return (self.left + inwards, self.right) if way == "right" else (self.left, self.right + inwards)


@dataclass(frozen=True)
class Pose:
    """way, by_mm : what the condyles did; matrix : (4, 4) of the lower, on the bench; meets : what touches there, the first first"""

    way: Way
    by_mm: float
    matrix: NDArray[np.float64]
    meets: list[Meeting]


def shifted(joints: Joints, way: Way, by_mm: float) -> NDArray[np.float64]:
    """(4, 4): the condyle that moves is where its path has it; the other one slides along the line through both, for they keep their
    distance: the lower as a whole goes a little to its side."""
    left, right = joints.step(way, by_mm)
    goes, was = (right, joints.right) if way == "left" else (left, joints.left)
    turn = _between(joints.left - joints.right, left - right)
    out = np.eye(4)
    out[:3, :3], out[:3, 3] = turn, goes - turn @ was
    return out


def _between(a: NDArray, b: NDArray) -> NDArray[np.float64]:
    """The least rotation from one direction to another."""
    a, b = unit(a), unit(b)
    about = np.cross(a, b)
    sine = float(np.linalg.norm(about))
    if sine < 1e-12:
        return np.eye(3)
    return Rotation.from_rotvec(about / sine * np.arctan2(sine, float(a @ b))).as_matrix()


def glide(upper: Mesh, lower: Mesh, joints: Joints, way: Way, by_mm: float, *, past_mm: float) -> Pose | None:
    """None where the jaws never meet then. upper, lower : what of them may touch, on the bench; past_mm : see Swing.meetings"""
    there = shifted(joints, way, by_mm)
    moved = lower.with_vertices(lower.vertices_mm @ there[:3, :3].T + there[:3, 3])
    at = there[:3, :3] @ joints.right + there[:3, 3]
    along = unit(there[:3, :3] @ (joints.left - joints.right))
    front = -at - ((-at) @ along) * along
    axis = Axis(at, along, unit(front))
    met = swing(upper, moved, axis).meetings(past_mm=past_mm)
    if not met:
        return None
    # Closed, or opened, until the first touches.
    first = met[0].open_rad
    close = axis.turn(first)
    touching = []
    for each in met:
        away = float(np.linalg.norm(np.cross(each.at_mm - at, along)))
        touching.append(Meeting(each.open_rad - first, (each.open_rad - first) * away, _moved(close, each.at_mm)))
    return Pose(way, by_mm, close @ there, touching)


def _moved(matrix: NDArray, point: NDArray) -> NDArray[np.float64]:
    return matrix[:3, :3] @ point + matrix[:3, 3]


def joints_of(axis_at: NDArray[np.float64], side_mm: float, path_deg: float, side_deg: float) -> Joints:
    """Condyles half of side_mm to either side of the midline, on the hinge axis."""
    half = np.array([side_mm / 2, 0.0, 0.0])
    return Joints(axis_at + half, axis_at - half, path_deg, side_deg)


def crowns(mesh: Mesh, sign: float, within_mm: float) -> Mesh:
    """What lies near the occlusal plane or beyond it: nothing else touches. sign : +1 of a lower, -1 of an upper, on the bench."""
    near = (sign * mesh.vertices_mm[:, 2] > -within_mm)[mesh.faces].any(1)
    return mesh.of_faces(near)


def table(upper: Mesh, lower: Mesh, joints: Joints, steps: Mapping[Way, tuple[float, ...]], *, past_mm: float) -> list[Pose]:
    """Of every way the poses that are reached."""
    made = [glide(upper, lower, joints, way, by, past_mm=past_mm) for way, amounts in steps.items() for by in amounts]
    return [pose for pose in made if pose is not None]
