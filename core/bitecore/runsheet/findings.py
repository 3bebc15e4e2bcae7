"""What is wrong with a scan as it came, as flags with a place."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..engine.model import Flag, Place
from ..mesh import Mesh, edge_table, face_components
from ..ops.flaws import spikes
from ..ops.holes import Hole, holes_of
from ..ops.mend import component_areas, largest_piece

_MOST_SHOWN = 40
SCANNED = ("jaw", "bite", "desk", "before")
# Triangles that differ this much in size within one scan (99th to 1st percentile of edge lengths).
_UNEVEN = 12.0


def findings(piece: str, mesh: Mesh, kind: str, crossing: NDArray[np.bool_]) -> list[Flag]:
    """crossing : (m,) which triangles go through another; the same whichever way the surface faces."""
    flags = [*_loose(mesh), *_holes(piece, mesh, kind), *_folds(piece, mesh, crossing), *_crowded(piece, mesh)]
    if kind in SCANNED:
        # Walls and floors of a model have corners and few, large triangles.
        flags += [*_spikes(piece, mesh), *_uneven(mesh)]
    return flags


def holes_in(mesh: Mesh) -> list[Hole]:
    """Holes of the surface itself: the rims of loose bits are none."""
    if "holes" not in mesh._memo:
        mesh._memo["holes"] = holes_of(largest_piece(mesh))
    return mesh._memo["holes"]


def _loose(mesh: Mesh) -> list[Flag]:
    _, areas = component_areas(mesh)
    loose = int((areas < 0.02 * areas.max()).sum())
    text = f"{loose} loose bit{'s' * (loose > 1)} beside the surface; Trim drops them."
    return [Flag("loose-bits", "note", text)] if loose else []


def _holes(piece: str, mesh: Mesh, kind: str) -> list[Flag]:
    holes = [h for h in holes_in(mesh) if h.width_mm > 0.5] if kind == "jaw" else []
    flags = []
    for hole in sorted(holes, key=lambda h: -h.width_mm)[:_MOST_SHOWN]:
        flags.append(Flag("hole", "note", f"Hole of {hole.width_mm:.1f} mm.", _place(piece, hole.middle_mm, hole.width_mm)))
    return flags


def _folds(piece: str, mesh: Mesh, crossing: NDArray[np.bool_]) -> list[Flag]:
    if not crossing.any():
        return []
    middle, radius, places = _heaps(mesh, crossing)
    text = f"The surface goes through itself in {places} place{'s' * (places > 1)} ({int(crossing.sum())} triangles); Trim cuts that out."
    return [Flag("folds", "note", text, _place(piece, middle, radius))]


def _heaps(mesh: Mesh, faces: NDArray[np.bool_]) -> tuple[NDArray, float, int]:
    """(middle and reach of the largest heap of these faces, how many heaps)."""
    part = mesh.of_faces(faces)
    count, label = face_components(part)
    largest = part.vertices_mm[part.faces[label == np.bincount(label, minlength=count).argmax()].ravel()]
    middle = largest.mean(0)
    return middle, float(np.linalg.norm(largest - middle, axis=1).max()), count


def _crowded(piece: str, mesh: Mesh) -> list[Flag]:
    half = np.flatnonzero(edge_table(mesh).count > 2)
    if len(half) == 0:
        return []
    ends = np.sort(np.stack([mesh.faces[half // 3, half % 3], mesh.faces[half // 3, (half + 1) % 3]], axis=1), axis=1)
    edges = np.unique(ends, axis=0)
    at = mesh.vertices_mm[edges[0]].mean(0)
    text = f"{len(edges)} edge{'s' * (len(edges) > 1)} that more than two triangles share; Trim mends them."
    return [Flag("crowded-edges", "note", text, _place(piece, at, 1.0))]


def _spikes(piece: str, mesh: Mesh) -> list[Flag]:
    found = np.flatnonzero(spikes(mesh))
    if len(found) == 0:
        return []
    text = f"{len(found)} spike{'s' * (len(found) > 1)}: single points that stand out of the surface; Trim takes them off."
    return [Flag("spikes", "note", text, _place(piece, mesh.vertices_mm[found[0]], 1.5))]


def _uneven(mesh: Mesh) -> list[Flag]:
    # An even share of the triangles is as uneven as all.
    corner = mesh.vertices_mm[mesh.faces[:: max(1, mesh.triangles // 200_000)]]
    length = np.linalg.norm(corner - np.roll(corner, 1, axis=1), axis=2).max(1)
    fine, coarse = np.quantile(length, [0.01, 0.99])
    if coarse < 1.0 or coarse < _UNEVEN * max(fine, 1e-6):
        return []
    text = f"Very uneven: the longest edges of triangles run from {fine:.2f} to {coarse:.2f} mm. Coarse parts hold no detail."
    return [Flag("uneven", "note", text)]


def _place(piece: str, point: NDArray, size_mm: float) -> Place:
    return Place(piece, (float(point[0]), float(point[1]), float(point[2])), max(float(size_mm), 1.0))
