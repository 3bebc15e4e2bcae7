"""A closed body of the lab's own, put with one of its flat faces on the wall or the underside of a base and united with it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components
from scipy.spatial import ConvexHull

from ..errors import StepFailed
from ..mesh import GROUP_SCAN, Mesh, area_vectors, border_loops, edge_table, face_areas_mm2, face_normals
from ..ops.closest import ClosestPoints
from ..ops.rigid import placed, unit
from .joining import mesh_of, solid_of
from .laying import face_towards

# Sunk so far into the base: two faces in one plane would stay two bodies. What is carried to a round wall overlaps the body so little.
SUNK_MM, _OVERLAP_MM = 0.3, 0.02
# Triangles whose normals differ by less, and that lie in one plane to this, are one flat face; smaller ones are none to stand on.
_ALIKE_DEG, _FLAT_MM, _LEAST_MM2 = 1.0, 0.03, 3.0
_MOST_FACES = 12
# A wall that falls away farther than this under the face is too round for it.
_ROUND_MM = 4.0
# Along its way a place goes on by as much as the wall is away at least, until it is there.
_STEPS, _REACHED_MM = 24, 1e-3
_NEAR_MM = 3.0


@dataclass(frozen=True)
class FlatFace:
    """middle_mm (3,), out : (3,) its outward direction; along : (3,) its longest way; faces : (m,) which of the mesh's are of it"""

    middle_mm: NDArray[np.float64]
    out: NDArray[np.float64]
    along: NDArray[np.float64]
    area_mm2: float
    faces: NDArray[np.bool_]


@dataclass(frozen=True)
class Attached:
    """solid : in the base's home, ready to be united; round_mm : how far the face was carried to the wall where that is round; covers_mm2 :
    how much of the scan lies in it; past_mm : how far it reaches past the face the model stands on"""

    solid: Mesh
    round_mm: float
    covers_mm2: float
    past_mm: float


def flat_faces(mesh: Mesh) -> list[FlatFace]:
    """The flat faces of a body, the largest first."""
    normal, area, twin = face_normals(mesh), face_areas_mm2(mesh), edge_table(mesh).twin
    here = np.flatnonzero(twin >= 0)
    a, b = here // 3, twin[here] // 3
    alike = np.einsum("ij,ij->i", normal[a], normal[b]) > np.cos(np.radians(_ALIKE_DEG))
    graph = coo_array((np.ones(int(alike.sum())), (a[alike], b[alike])), (mesh.triangles, mesh.triangles))
    _, label = connected_components(graph, directed=False)
    whole = np.bincount(label, area)
    out: list[FlatFace] = []
    for k in np.argsort(-whole, kind="stable"):
        if whole[k] < _LEAST_MM2 or len(out) == _MOST_FACES:
            break
        own = label == k
        away = unit(area_vectors(mesh)[own].sum(0))
        points = mesh.vertices_mm[np.unique(mesh.faces[own])]
        middle = (mesh.vertices_mm[mesh.faces[own]].mean(1) * area[own, None]).sum(0) / whole[k]
        if np.abs((points - middle) @ away).max() < _FLAT_MM:
            out.append(FlatFace(middle, away, _longest(points, away), float(whole[k]), own))
    return out


def _longest(points: NDArray, out: NDArray) -> NDArray[np.float64]:
    """(3,) the longer side of the smallest box round the face; where both are as long, always the same."""
    x = unit(np.cross(out, np.eye(3)[int(np.abs(out).argmin())]))
    y = np.cross(out, x)
    flat = np.c_[points @ x, points @ y]
    ring = flat[ConvexHull(flat).vertices]
    best = (np.inf, 0.0, x)
    for edge in np.roll(ring, -1, axis=0) - ring:
        a = edge / np.linalg.norm(edge)
        long, wide = np.ptp(ring @ a), np.ptp(ring @ [-a[1], a[0]])
        way = a if long >= wide else np.array([-a[1], a[0]])
        found = round(float(long * wide), 6), -round(float(max(long, wide)), 6), way[0] * x + way[1] * y
        best = found if found[:2] < best[:2] else best
    way = best[2]
    return unit(way) * (1.0 if way[int(np.abs(way).argmax())] > 0 else -1.0)


def attached(
    body: Mesh, part: Mesh, face: FlatFace, at: NDArray, *, turn_deg: float, up: NDArray, front: NDArray, name: str
) -> Attached:  # fmt: skip
    """The part with its face on the body near a place (3,), its longest way level along the wall and then turned about the wall's normal.
    up, front : of the base. Raises StepFailed where it cannot stand there."""
    hit = ClosestPoints(body).query(np.asarray(at, float)[None])
    if hit.face[0] < 0 or np.linalg.norm(hit.point_mm[0] - at) > _NEAR_MM:
        raise StepFailed(f"{name} stands where nothing of the base is any more. Place it anew.", code="part-lost")
    if body.groups[hit.face[0]] == GROUP_SCAN:
        raise StepFailed(f"{name} would stand on the scan. Place it on the base: its wall or its underside.", code="part-on-scan")
    out = face_towards(body, hit.point_mm[0])
    matrix = _stands(face, hit.point_mm[0], out, turn_deg, up, front)
    moved = part.moved(matrix)
    gap = _gap(body, moved, face, out)
    if gap > _ROUND_MM:
        text = f"{name} cannot stand there: under its face the base falls away by more than {_ROUND_MM:.0f} mm. Place it"
        raise StepFailed(f"{text} farther from the wall's edges or where it is straighter, or on a smaller face.", code="part-round")
    solid = solid_of(moved)
    if gap > 0:
        solid = solid + solid_of(_carried(moved, face, -out, gap + SUNK_MM))
    made = mesh_of(solid)
    if len((solid_of(body) + solid).decompose()) != 1:
        if (own := len(solid_of(part).decompose())) > 1:
            raise StepFailed(f"{name} is {own} bodies that do not hang together. Bring it in as one, or each by itself.", code="part-apart")
        raise StepFailed(f"{name} does not become one body with the base there. Place it elsewhere.", code="part-apart")
    low = float((body.vertices_mm @ up).min())
    return Attached(made, max(gap, 0.0), _covers(body, made), max(low - float((made.vertices_mm @ up).min()) - 1e-6, 0.0))


def _stands(face: FlatFace, at: NDArray, out: NDArray, turn_deg: float, up: NDArray, front: NDArray) -> NDArray[np.float64]:
    """(4, 4) of the part: its face looks into the wall, sunk a little."""
    level = np.cross(up, out)
    if np.linalg.norm(level) < 0.2:
        # On the underside: across, from side to side.
        level = np.cross(front, out)
    level = unit(level - (level @ out) * out)
    turn = np.radians(turn_deg)
    along = np.cos(turn) * level + np.sin(turn) * np.cross(out, level)
    own = np.stack([face.along, np.cross(face.out, face.along), face.out])
    there = np.stack([along, np.cross(-out, along), -out])
    rotation = there.T @ own
    return placed(rotation, at - out * SUNK_MM - rotation @ face.middle_mm)


def _gap(body: Mesh, part: Mesh, face: FlatFace, out: NDArray) -> float:
    """How far the wall falls away under the face, sunk as it is (mm); below nought where it nowhere does."""
    corner = part.vertices_mm[part.faces[face.faces]]
    between = np.array([[i, j, 6 - i - j] for i in range(7) for j in range(7 - i)]) / 6.0
    points = np.einsum("km,fmd->fkd", between, corner).reshape(-1, 3)
    wall, fallen = ClosestPoints(body), np.zeros(len(points))
    for _ in range(_STEPS):
        away, hits = wall.signed(points - np.outer(fallen, out), within_mm=_ROUND_MM + 2.0)
        # Beyond reach and outside is too far, however far.
        away = np.where(hits.face < 0, _ROUND_MM + 1.0, away)
        if (away < _REACHED_MM).all() or fallen.max() > _ROUND_MM:
            break
        fallen += np.maximum(away, 0.0)
    return float((fallen + away).max())


def _carried(part: Mesh, face: FlatFace, into: NDArray, deep: float) -> Mesh:
    """The face as a prism, from a little within the part to as deep in the base."""
    flat = part.of_faces(face.faces)
    n = len(flat.vertices_mm)
    low, high = flat.vertices_mm + into * deep, flat.vertices_mm - into * _OVERLAP_MM
    faces = [flat.faces, flat.faces[:, ::-1] + n]
    for loop in border_loops(flat):
        a, b = np.asarray(loop), np.roll(np.asarray(loop), -1)
        faces += [np.c_[b, a, a + n], np.c_[b, a + n, b + n]]
    return Mesh.of(np.vstack([low, high]), np.vstack(faces))


def _covers(body: Mesh, solid: Mesh) -> float:
    """mm² of the scan that would lie within it."""
    scan = np.flatnonzero(body.groups == GROUP_SCAN)
    low, high = solid.vertices_mm.min(0), solid.vertices_mm.max(0)
    middle = body.vertices_mm[body.faces[scan]].mean(1)
    near = ((middle > low) & (middle < high)).all(1)
    if not near.any():
        return 0.0
    reach = float(np.linalg.norm(high - low))
    within = ClosestPoints(solid).signed(middle[near], within_mm=reach)[0] < 0
    return float(face_areas_mm2(body)[scan[near][within]].sum())
