"""Mend an open scan: double faces, fins, turned faces, loose bits, bow-ties."""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh, edge_table, face_components
from ..mesh.measures import face_areas_mm2
from ..mesh.topology import split_bow_ties


def without_doubles(mesh: Mesh) -> tuple[Mesh, int]:
    """Keep the first of faces that name the same three vertices."""
    key = np.sort(mesh.faces.astype(np.int64), axis=1)
    order = np.lexsort((key[:, 2], key[:, 1], key[:, 0]))
    ranked = key[order]
    again = np.r_[False, (ranked[1:] == ranked[:-1]).all(1)]
    if not again.any():
        return mesh, 0
    keep = np.ones(len(key), bool)
    keep[order[again]] = False
    return mesh.of_faces(keep), int(again.sum())


def without_fins(mesh: Mesh) -> tuple[Mesh, int]:
    """Take faces off edges that more than two share: those that also have a free edge first, then the smallest."""
    removed = 0
    for _ in range(12):
        table = edge_table(mesh)
        crowded = np.flatnonzero(table.count > 2)
        if len(crowded) == 0:
            break
        free = (table.count.reshape(-1, 3) == 1).sum(1)
        area = face_areas_mm2(mesh)
        face = crowded // 3
        lo = np.minimum(mesh.faces[face, crowded % 3], mesh.faces[face, (crowded % 3 + 1) % 3])
        hi = np.maximum(mesh.faces[face, crowded % 3], mesh.faces[face, (crowded % 3 + 1) % 3])
        order = np.lexsort((area[face], -free[face], hi, lo))
        edge_start = np.r_[True, (np.diff(lo[order]) != 0) | (np.diff(hi[order]) != 0)]
        # One face off each crowded edge per round: taking one often frees its neighbours.
        keep = np.ones(mesh.triangles, bool)
        keep[face[order[edge_start]]] = False
        removed += int((~keep).sum())
        mesh = mesh.of_faces(keep)
    return mesh, removed


@nb.njit(cache=True)
def _turns(twin, count, same, m):
    """Per face whether to turn it so that its component agrees; the majority by count stays."""
    turn = np.zeros(m, np.bool_)
    seen = np.zeros(m, np.bool_)
    stack = np.empty(m, np.int64)
    member = np.empty(m, np.int64)
    for seed in range(m):
        if seen[seed]:
            continue
        seen[seed] = True
        stack[0] = seed
        top, size, turned = 1, 0, 0
        while top:
            top -= 1
            f = stack[top]
            member[size] = f
            size += 1
            turned += turn[f]
            for k in range(3):
                h = 3 * f + k
                if count[h] != 2:
                    continue
                g = twin[h] // 3
                if not seen[g]:
                    seen[g] = True
                    turn[g] = turn[f] != same[h]
                    stack[top] = g
                    top += 1
        if 2 * turned > size:
            for i in range(size):
                turn[member[i]] = not turn[member[i]]
    return turn


def turned_alike(mesh: Mesh) -> tuple[Mesh, int]:
    """Every component with one orientation, that of most of its faces. Returns how many faces were turned."""
    table = edge_table(mesh)
    turn = _turns(table.twin, table.count, table.same, mesh.triangles)
    if not turn.any():
        return mesh, 0
    faces = mesh.faces.copy()
    faces[turn] = faces[turn][:, ::-1]
    return mesh.with_faces(faces), int(turn.sum())


def component_areas(mesh: Mesh) -> tuple[NDArray[np.int32], NDArray[np.float64]]:
    """(m,) component of each face and the area of each component in mm^2."""
    n, label = face_components(mesh)
    area = np.bincount(label, face_areas_mm2(mesh), n)
    return label, area.astype(np.float64)


@dataclass(frozen=True)
class Bit:
    """A loose bit: where its middle is, and how wide it is."""

    middle_mm: NDArray[np.float64]
    width_mm: float


def without_loose_bits(mesh: Mesh, *, share: float, stay: NDArray[np.float64] | None = None) -> tuple[Mesh, list[Bit]]:
    """Drop components with less than `share` (0 to 1) of the largest one's area; those at the places `stay` (k, 3) stay. Returns what
    was dropped, the widest first."""
    label, area = component_areas(mesh)
    keep = area >= share * area.max() if len(area) else np.zeros(0, bool)
    if keep.all():
        return mesh, []
    bits = {}
    for k in np.flatnonzero(~keep).tolist():
        points = mesh.vertices_mm[mesh.faces[label == k].ravel()]
        bits[k] = Bit(points.mean(0), float(np.linalg.norm(np.ptp(points, axis=0))))
    for place in [] if stay is None else stay:
        nearest = min(bits, key=lambda k: float(np.linalg.norm(bits[k].middle_mm - place)))
        if np.linalg.norm(bits[nearest].middle_mm - place) < max(bits[nearest].width_mm, 1.0):
            keep[nearest] = True
    dropped = sorted((bit for k, bit in bits.items() if not keep[k]), key=lambda bit: -bit.width_mm)
    return mesh.of_faces(keep[label]), dropped


def largest_piece(mesh: Mesh) -> Mesh:
    if "largest" not in mesh._memo:
        label, area = component_areas(mesh)
        mesh._memo["largest"] = mesh if len(area) == 1 else mesh.of_faces(label == int(area.argmax()))
    return mesh._memo["largest"]


@dataclass(frozen=True)
class Mended:
    mesh: Mesh
    doubles: int
    fins: int
    turned: int
    loose_bits: list[Bit]
    bow_ties: int


def mend(mesh: Mesh, *, loose_share: float = 0.02, stay: NDArray[np.float64] | None = None) -> Mended:
    """All of the above in the order in which one frees the next; nothing else is moved."""
    mesh, doubles = without_doubles(mesh)
    mesh, fins = without_fins(mesh)
    mesh, turned = turned_alike(mesh)
    mesh, bits = without_loose_bits(mesh, share=loose_share, stay=stay)
    mesh, bow_ties = split_bow_ties(mesh)
    return Mended(mesh, doubles, fins, turned, bits, bow_ties)
