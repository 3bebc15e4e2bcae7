"""Ease the ragged border of a scan: cut a strip along it and smooth the line that is left."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.spatial import cKDTree

from ..mesh import Mesh, border_loops, edge_table
from ..mesh.measures import face_normals
from ..mesh.topology import split_bow_ties
from .clip import clip
from .fields import smooth_field
from .mend import largest_piece

# Means with the neighbours: the torn edge of a scan is gone from the line after about this many.
_SOFT_ROUNDS = 30


def border_points(mesh: Mesh, *, step_mm: float = 0.15) -> NDArray[np.float64]:
    """Points along every border, at most step_mm apart."""
    table = edge_table(mesh)
    h = np.flatnonzero(table.count == 1)
    a = mesh.vertices_mm[mesh.faces[h // 3, h % 3]]
    b = mesh.vertices_mm[mesh.faces[h // 3, (h % 3 + 1) % 3]]
    parts = np.maximum(np.ceil(np.linalg.norm(b - a, axis=1) / step_mm).astype(int), 1)
    row = np.repeat(np.arange(len(a)), parts)
    share = (np.arange(len(row)) - np.repeat(np.cumsum(parts) - parts, parts)) / parts[row]
    return a[row] + (b - a)[row] * share[:, None]


def cut_strip(mesh: Mesh, points_mm: ArrayLike, *, radius_mm: float) -> Mesh:
    """Take away what lies within radius_mm of the points, along a softened line; the largest piece stays."""
    distance, _ = cKDTree(np.asarray(points_mm)).query(mesh.vertices_mm, distance_upper_bound=3 * radius_mm + 1.0)
    distance = np.minimum(distance, 3 * radius_mm + 1.0)
    value = smooth_field(mesh.faces, distance.copy(), distance < 2 * radius_mm + 0.5, _SOFT_ROUNDS) - radius_mm
    # Cuts that pass close by a vertex go through it: no slivers along the new border.
    value[np.abs(value) < 0.02] = 0.0
    kept = clip(mesh, value).mesh
    if kept.triangles == 0:
        return kept
    return split_bow_ties(largest_piece(kept))[0]


def calmed_border(mesh: Mesh, *, rounds: int = 30, reach_mm: float = 0.4) -> Mesh:
    """Laplacian smoothing of the border lines alone; no vertex goes further than reach_mm or turns a face over."""
    vertices = mesh.vertices_mm.copy()
    loops = border_loops(mesh)
    for loop in loops:
        start = vertices[loop]
        p = start.copy()
        for _ in range(rounds):
            p = 0.5 * p + 0.25 * (np.roll(p, 1, axis=0) + np.roll(p, -1, axis=0))
        move = p - start
        length = np.linalg.norm(move, axis=1, keepdims=True)
        vertices[loop] = start + move * np.minimum(1.0, reach_mm / np.maximum(length, 1e-12))
    return without_turned(mesh, vertices)


def without_turned(mesh: Mesh, vertices: NDArray[np.float64]) -> Mesh:
    """The mesh with these vertices, but for those that would turn a face over: they stay where they were."""
    vertices = vertices.copy()
    moved = mesh.faces[(vertices != mesh.vertices_mm).any(1)[mesh.faces].any(1)]
    before = face_normals(Mesh.of(mesh.vertices_mm, moved))
    # What is so thin that it faces nowhere cannot be turned over.
    faces_some_way = (before != 0).any(1)
    moved, before = moved[faces_some_way], before[faces_some_way]
    for _ in range(6):
        turned = np.einsum("ij,ij->i", before, face_normals(Mesh.of(vertices, moved))) < 0.3
        if not turned.any():
            return mesh.with_vertices(vertices)
        back = moved[turned]
        vertices[back] = mesh.vertices_mm[back]
    return mesh


def ease(mesh: Mesh, *, ease_mm: float) -> Mesh:
    """Cut ease_mm off along every border and smooth what is left. Needs the holes closed first."""
    if ease_mm <= 0:
        return mesh
    points = border_points(mesh)
    if len(points) == 0:
        return mesh
    kept = cut_strip(mesh, points, radius_mm=ease_mm)
    return calmed_border(kept) if kept.triangles else kept
