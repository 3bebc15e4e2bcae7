"""Where the jaws touch, as articulating paper shows it: patches of each jaw's surface nearer to the other than a foil is thick."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh, area_mm2, face_components
from ..mesh.measures import face_areas_mm2
from ..mesh.topology import at_border
from ..ops.clip import clip
from ..ops.closest import ClosestPoints
from ..ops.mend import largest_piece
from ..ops.split import finely, usual_edge_mm
from .closing import bench_axes
from .jaw import Jaw
from .relation import believed

_REACH_MM = 1.0
# A facing cusp may stand over the middle of a triangle: triangles whose corners are nearer than they are wide are split
# before they are asked.
_WIDEST_MM = 0.25
# Patches smaller than this are specks of the scan's noise.
_LEAST_MM2 = 0.02


@dataclass(frozen=True)
class Contact:
    """One contact between the jaws.

    point_mm  : (3,) the deepest place, in the jaw's home
    depth_mm  : overlap there, negative for a gap
    side      : left, right or front
    behind_mm : how far behind the incisors
    """

    point_mm: NDArray[np.float64]
    depth_mm: float
    area_mm2: float
    side: str
    behind_mm: float


@dataclass(frozen=True)
class Touching:
    """Where one jaw touches the other.

    touch : the surface within the foil
    deep  : the part of it that overlaps by more than the tolerance; None where there is none
    """

    touch: Mesh | None
    deep: Mesh | None
    contacts: tuple[Contact, ...]


def touching(jaw: Jaw, other: Mesh, to_other: NDArray, *, foil_mm: float, hard_mm: float, upper: bool) -> Touching:
    """The contacts of one jaw with the other. Patches end where the distance is the foil's, between vertices too; near
    the other jaw the surface is asked at finer points than its own vertices."""
    main, facing = largest_piece(jaw.mesh), largest_piece(other)
    asked = _Asked(facing, to_other)
    distance = asked.distances(main)
    edge = usual_edge_mm(main)
    near = np.abs(np.where(np.isfinite(distance), distance, np.inf))[main.faces].min(1) < foil_mm + min(edge, _WIDEST_MM)
    if not near.any():
        return Touching(None, None, ())
    part = finely(main.of_faces(near), edge)
    fine = asked.distances(part)
    touch, deep = _within(part, fine, foil_mm), _within(part, fine, -hard_mm)
    return Touching(touch, deep, () if touch is None else tuple(_contacts(touch, jaw, asked, upper)))


class _Asked:
    """The facing surface, asked how far points of the other jaw are from it."""

    def __init__(self, facing: Mesh, to_facing: NDArray) -> None:
        self._tree, self._rim, self._m = ClosestPoints(facing), at_border(facing), to_facing
        self._low, self._high = facing.vertices_mm.min(0) - _REACH_MM, facing.vertices_mm.max(0) + _REACH_MM

    def distances(self, mesh: Mesh) -> NDArray[np.float64]:
        """(n,) signed exact distance (mm, minus inside) of each vertex; NaN beyond 1 mm and where only a border is near."""
        points = mesh.vertices_mm @ self._m[:3, :3].T + self._m[:3, 3]
        near = ((points > self._low) & (points < self._high)).all(1)
        out = np.full(len(points), np.nan)
        signed, hits = self._tree.signed(points[near], within_mm=_REACH_MM)
        real = (hits.face >= 0) & ~self._rim[np.maximum(hits.face, 0)]
        real[real] = believed(points[near][real], signed[real])
        out[near] = np.where(real, signed, np.nan)
        return out


def _within(mesh: Mesh, distance: NDArray, most_mm: float) -> Mesh | None:
    """The part of the surface where the distance is at most so much. Only triangles all of whose corners were measured."""
    known = np.isfinite(distance)[mesh.faces].all(1)
    some = (np.where(np.isfinite(distance), distance, np.inf)[mesh.faces] <= most_mm).any(1) & known
    if not some.any():
        return None
    used = np.zeros(len(mesh.vertices_mm), bool)
    used[mesh.faces[some].ravel()] = True
    kept = clip(mesh.of_faces(some), most_mm - distance[used]).mesh
    return kept if kept.triangles else None


def _contacts(touch: Mesh, jaw: Jaw, asked: _Asked, upper: bool) -> list[Contact]:
    count, label = face_components(touch)
    size = np.bincount(label, face_areas_mm2(touch), count)
    signed = asked.distances(touch)
    axes = bench_axes(jaw, upper=upper)
    out = []
    for k in np.flatnonzero(size > _LEAST_MM2):
        corner = np.unique(touch.faces[label == k])
        deepest = corner[np.nan_to_num(signed[corner], nan=np.inf).argmin()]
        point = touch.vertices_mm[deepest]
        left, behind, _ = axes @ (point - jaw.incisal)
        side = "front" if abs(left) < 8.0 and behind < 10.0 else "left" if left > 0 else "right"
        out.append(Contact(point, -float(signed[deepest]), float(size[k]), side, float(behind)))
    return sorted(out, key=lambda c: -c.depth_mm)


def balance(touches: Touching) -> tuple[float, float]:
    """Touching area (mm²) on the patient's left and right, what lies in front left out."""
    left = sum(c.area_mm2 for c in touches.contacts if c.side == "left")
    right = sum(c.area_mm2 for c in touches.contacts if c.side == "right")
    return float(left), float(right)


def area_of(mesh: Mesh | None) -> float:
    return area_mm2(mesh) if mesh is not None else 0.0
