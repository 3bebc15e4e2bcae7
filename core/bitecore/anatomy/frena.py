"""Frena: folds that run from lip, cheek or tongue onto the gum. Looked for where they are (between the central incisors on the lips' side,
and below on the tongue's; beside canines and premolars towards the cheek: Standring, Gray's Anatomy; from memory), they are told by a back
that is sharp and stands out, where gum over roots is round and flat."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from ..mesh import Mesh, vertex_normals
from ..mesh.topology import border_vertices
from ..ops.curvature import bend, evened_normals
from ..ops.geodesic import distances
from ..ops.surface_graph import SurfaceGraph, surface_graph
from .arch_sides import ArchSides

# Normals are made even over so much; a back is as sharp as this (1/mm), and where it is sharpest so sharp (judged against generated gum,
# whose roots reach 0.6).
_EVEN_MM, _SHARP, _SHARPEST = 0.3, 0.35, 0.75
# It stands out so far over what lies so far to its sides.
_OUT_MM, _BESIDE_MM = 0.1, (1.4, 3.0)
# It begins so far from the teeth, and is looked for so far from the border.
_OFF_TEETH_MM, _OFF_BORDER_MM = 1.5, 0.5
# It is so long away from the teeth, and so many times as long as wide.
_LONG_MM, _SLIM = 2.2, 1.2
# So far to either side of the middle of the front; beyond canine and second premolar.
_FRONT_MM, _ON_MM = 4.0, 2.0
# To either side of its back it is so wide; and it goes on as far as a scan reaches.
_HALF_MM, _AWAY_MM = 1.2, 20.0


@dataclass(frozen=True)
class Frenum:
    """vertices : (k,) of the fold, up to the border; at_mm : (3,) where it comes nearest to the teeth; long_mm;
    where : lips, cheek or tongue"""

    vertices: NDArray[np.int64]
    at_mm: NDArray[np.float64]
    long_mm: float
    where: str


def frena(mesh: Mesh, tooth: NDArray[np.bool_], teeth: Mapping[int, NDArray], sides: ArchSides, up: NDArray[np.float64]) -> list[Frenum]:
    """Of one surface in mm; tooth : (n,) on a tooth; teeth : the middle of each by its FDI number; up : (3,) to the tips."""
    graph = surface_graph(mesh)
    place = sides.nearest(mesh.vertices_mm)
    side, _ = sides.of(mesh.vertices_mm)
    sharp = _sharp(mesh, graph, sides.way[place])
    off = distances(mesh, np.where(tooth, 0.0, np.inf), reach_mm=_OFF_TEETH_MM)
    rim = distances(mesh, np.where(border_vertices(mesh), 0.0, np.inf), reach_mm=_OFF_BORDER_MM)
    free = (sharp > _SHARP) & ~tooth & ~(off < _OFF_TEETH_MM) & ~(rim < _OFF_BORDER_MM)
    normals, out = vertex_normals(mesh), list[Frenum]()
    for where, low, high, inner in _places(teeth, sides):
        here = free & (place >= low) & (place <= high) & ((side > 0) == inner)
        for part in _parts(graph, here):
            if len(part) >= 6 and np.quantile(sharp[part], 0.8) > _SHARPEST and _slim(mesh, part, up, sides.way[place[part]]):
                if _stands_out(mesh, normals, part, sides.way[place[part]].mean(0), up) > _OUT_MM:
                    at, fold = _fold(mesh, part, sides.way[place[part]].mean(0), up)
                    own = fold & ~tooth & ((side > 0) == inner)
                    out.append(Frenum(np.flatnonzero(own), at, float(np.ptp(mesh.vertices_mm[part] @ up)), where))
    return out


def _fold(mesh: Mesh, part: NDArray, way: NDArray, up: NDArray) -> tuple[NDArray, NDArray[np.bool_]]:
    """((3,) where the back comes nearest to the teeth, (n,) the fold: so much to either side of its back, and on away from the teeth, for
    the back itself may end before the border does)."""
    points = mesh.vertices_mm[part]
    at = points[(points @ up).argmax()]
    down, aside = -((points - at) @ up), (points - at) @ way
    order = np.argsort(down, kind="stable")
    off = mesh.vertices_mm - at
    deep = -(off @ up)
    middle = np.interp(deep, down[order], aside[order])
    return at, (deep > -_HALF_MM / 2) & (np.abs(off @ way - middle) < _HALF_MM) & (np.linalg.norm(off, axis=1) < _AWAY_MM)


def _sharp(mesh: Mesh, graph: SurfaceGraph, way: NDArray) -> NDArray[np.float64]:
    """(n,) curvature along the arch, 1/mm."""
    rounds = int(np.clip(round(2 * (_EVEN_MM / graph.length.mean()) ** 2), 1, 12))
    xx, yy, zz, xy, xz, yz = bend(evened_normals(mesh, graph, rounds), graph).tensor.T
    x, y, z = way.T
    return xx * x * x + yy * y * y + zz * z * z + 2 * (xy * x * y + xz * x * z + yz * y * z)


def _places(teeth: Mapping[int, NDArray], sides: ArchSides) -> list[tuple[str, int, int, bool]]:
    """(where, from and to which place of the line, on the inner side?)."""
    step = float(np.linalg.norm(np.diff(sides.line, axis=0), axis=1).mean()) if len(sides.line) > 1 else 1.0
    at = {fdi: int(sides.nearest(middle[None])[0]) for fdi, middle in teeth.items()}
    out = []
    front = [at[fdi] for fdi in at if fdi % 10 == 1]
    if len(front) == 2:
        middle, reach = round(np.mean(front)), round(_FRONT_MM / step)
        out.append(("lips", middle - reach, middle + reach, False))
        if any(fdi // 10 in (3, 4, 7, 8) for fdi in at):
            out.append(("tongue", middle - reach, middle + reach, True))
    for quadrant in (1, 2, 3, 4):
        own = [at[fdi] for fdi in at if (fdi // 10 - 1) % 4 + 1 == quadrant and fdi % 10 in (3, 4, 5)]
        if own:
            on = round(_ON_MM / step)
            out.append(("cheek", min(own) - on, max(own) + on, False))
    return out


def _slim(mesh: Mesh, part: NDArray, up: NDArray, way: NDArray) -> bool:
    points = mesh.vertices_mm[part]
    long, wide = float(np.ptp(points @ up)), float(np.ptp(points @ way.mean(0)))
    return long > _LONG_MM and long > _SLIM * wide


def _stands_out(mesh: Mesh, normals: NDArray, part: NDArray, way: NDArray, up: NDArray) -> float:
    """mm by which its back stands over what lies beside it, in the middle."""
    points, tree = mesh.vertices_mm, cKDTree(mesh.vertices_mm)
    over = []
    for v in part[:: max(len(part) // 20, 1)].tolist():
        near = np.array(tree.query_ball_point(points[v], _BESIDE_MM[1]))
        off = points[near] - points[v]
        aside, level = off @ way, np.abs(off @ up) < 1.0
        flanks = [off[level & (aside * sign > _BESIDE_MM[0])] @ normals[v] for sign in (1, -1)]
        if all(len(f) for f in flanks):
            over.append(-max(float(np.median(f)) for f in flanks))
    return float(np.median(over)) if over else 0.0


def _parts(graph: SurfaceGraph, pick: NDArray[np.bool_]) -> list[NDArray[np.int64]]:
    if not pick.any():
        return []
    i, j = graph.edges[pick[graph.edges].all(1)].T
    n = len(pick)
    label = connected_components(csr_matrix((np.ones(len(i), bool), (i, j)), (n, n)), directed=False)[1]
    chosen = np.flatnonzero(pick)
    order = chosen[np.argsort(label[chosen], kind="stable")]
    return np.split(order, np.flatnonzero(np.diff(label[order])) + 1)
