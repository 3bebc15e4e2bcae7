"""Where the jaws touch, as articulating paper shows it: patches of each jaw's surface nearer to the other than a foil is thick."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh, area_mm2, face_components, used_vertices
from ..mesh.measures import area_vectors
from ..mesh.topology import at_border
from ..ops.clip import clip
from ..ops.closest import ClosestPoints
from ..ops.mend import largest_piece
from .adjusting import bench_axes
from .jaw import Jaw

_REACH_MM = 1.0
# Patches smaller than this are specks of the scan's noise.
_LEAST_MM2 = 0.02


@dataclass(frozen=True)
class Contact:
    """point_mm : (3,) the deepest place, in the jaw's home; depth_mm : overlap there, negative for a gap; side : left,
    right or front; behind_mm : how far behind the incisors."""

    point_mm: NDArray[np.float64]
    depth_mm: float
    area_mm2: float
    side: str
    behind_mm: float


@dataclass(frozen=True)
class Touching:
    """touch : the surface within the foil; deep : the part of it that overlaps by more than the tolerance; None where
    there is none. distance_mm : (n,) signed distance of each vertex, NaN beyond 1 mm."""

    touch: Mesh | None
    deep: Mesh | None
    contacts: tuple[Contact, ...]
    distance_mm: NDArray[np.float64]


def distances(mesh: Mesh, other: Mesh, to_other: NDArray) -> NDArray[np.float64]:
    """(n,) signed exact distance (mm, minus inside) of each vertex from the other surface; NaN beyond 1 mm and where
    only the other's border is near."""
    main = largest_piece(other)
    tree, rim = ClosestPoints(main), at_border(main)
    used = used_vertices(mesh)
    points = mesh.vertices_mm[used] @ to_other[:3, :3].T + to_other[:3, 3]
    low, high = main.vertices_mm.min(0) - _REACH_MM, main.vertices_mm.max(0) + _REACH_MM
    near = ((points > low) & (points < high)).all(1)
    out = np.full(len(mesh.vertices_mm), np.nan)
    signed, hits = tree.signed(points[near], within_mm=_REACH_MM)
    real = (hits.face >= 0) & ~rim[np.maximum(hits.face, 0)]
    out[used[near]] = np.where(real, signed, np.nan)
    return out


def touching(jaw: Jaw, other: Mesh, to_other: NDArray, *, foil_mm: float, hard_mm: float, upper: bool) -> Touching:
    """The contacts of one jaw with the other. Patches end where the distance is the foil's, between vertices too."""
    main = largest_piece(jaw.mesh)
    distance = distances(main, other, to_other)
    touch = _within(main, distance, foil_mm)
    deep = _within(main, distance, -hard_mm)
    contacts = () if touch is None else tuple(_contacts(touch, jaw, other, to_other, upper))
    return Touching(touch, deep, contacts, distance)


def _within(mesh: Mesh, distance: NDArray, most_mm: float) -> Mesh | None:
    """The part of the surface where the distance is at most so much. Only triangles all of whose corners were measured."""
    known = np.isfinite(distance)[mesh.faces].all(1)
    some = (np.where(np.isfinite(distance), distance, np.inf)[mesh.faces] <= most_mm).any(1) & known
    if not some.any():
        return None
    part = mesh.of_faces(some)
    used = np.zeros(len(mesh.vertices_mm), bool)
    used[mesh.faces[some].ravel()] = True
    kept = clip(part, most_mm - distance[used]).mesh
    return kept if kept.triangles else None


def _contacts(touch: Mesh, jaw: Jaw, other: Mesh, to_other: NDArray, upper: bool) -> list[Contact]:
    main = largest_piece(other)
    count, label = face_components(touch)
    size = np.bincount(label, np.linalg.norm(area_vectors(touch), axis=1), count)
    points = touch.vertices_mm @ to_other[:3, :3].T + to_other[:3, 3]
    signed, _ = ClosestPoints(main).signed(points, within_mm=_REACH_MM)
    axes = bench_axes(jaw, upper=upper)
    out = []
    for k in np.flatnonzero(size > _LEAST_MM2):
        corner = np.unique(touch.faces[label == k])
        deepest = corner[signed[corner].argmin()]
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
