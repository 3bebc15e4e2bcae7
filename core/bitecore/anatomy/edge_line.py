"""The edge line: up to which gum a scan is kept, so far from the margins of its teeth over the surface; smooth, and off every tooth.

Where teeth are missing the crest of the ridge between their neighbours counts as a margin, so that the line runs on across the gap.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh
from ..ops.geodesic import distances
from ..ops.rims import Rim, rims
from ..ops.surface_graph import SurfaceGraph, surface_graph

# A margin bends about like this; the line is made even over so much of the surface, in at most so many rounds.
_ROUND_MM, _EVEN_MM, _ROUNDS = 4.0, 1.2, 120
# The crest of a gap: so near to the straight way from tooth to tooth, seen from above; wider gaps than this have one.
_CREST_MM, _GAP_MM, _STEP_MM = 1.0, 2.0, 0.3


def kept(mesh: Mesh, tooth: NDArray[np.bool_], crest: NDArray[np.bool_], *, gum_mm: float, off_mm: float) -> NDArray[np.float64]:
    """(n,) above nought where the surface is kept: within gum_mm of teeth and crests, made even, and nowhere nearer to a tooth than off_mm.

    tooth : (n,) on a tooth; crest : (n,) on the crest of a gap
    """
    graph = surface_graph(mesh)
    first = np.where(crest, 0.0, np.inf)
    i, j = graph.edges.T
    for a, b in ((i, j), (j, i)):
        over = tooth[a] & ~tooth[b]
        # The margin runs half way between them.
        np.minimum.at(first, b[over], graph.length[over] / 2)
    first[tooth] = np.inf
    away = distances(mesh, first, reach_mm=gum_mm + 4 * _EVEN_MM, round_mm=_ROUND_MM)
    inside = np.clip(gum_mm - np.where(np.isfinite(away), away, gum_mm + 4 * _EVEN_MM), -3 * _EVEN_MM, 3 * _EVEN_MM)
    inside[tooth] = 3 * _EVEN_MM
    even = _evened(graph, inside)
    return np.where(tooth, 3 * _EVEN_MM, np.maximum(even, off_mm - np.where(np.isfinite(away), away, np.inf)))


def _evened(graph: SurfaceGraph, value: NDArray) -> NDArray[np.float64]:
    """Each vertex between itself and its neighbours, as often as it takes."""
    i, j = graph.edges.T
    n = len(graph.points)
    many = np.maximum(np.bincount(i, minlength=n) + np.bincount(j, minlength=n), 1)
    rounds = int(np.clip(round(4 * (_EVEN_MM / graph.length.mean()) ** 2), 1, _ROUNDS))
    out = value.astype(float)
    for _ in range(rounds):
        mean = (np.bincount(i, out[j], n) + np.bincount(j, out[i], n)) / many
        out = 0.5 * (out + mean)
    return out


def crests(mesh: Mesh, up: NDArray, gaps: list[tuple[NDArray, NDArray]]) -> NDArray[np.bool_]:
    """(n,) vertices on the crests of gaps: the highest of what lies about the straight way from tooth to tooth. gaps : the ends of
    each, (3,) mm."""
    out = np.zeros(len(mesh.vertices_mm), bool)
    height = mesh.vertices_mm @ up
    for a, b in gaps:
        way = (b - a) - up * ((b - a) @ up)
        long = float(np.linalg.norm(way))
        if long < _GAP_MM:
            continue
        way /= long
        side = np.cross(up, way)
        along, aside = (mesh.vertices_mm - a) @ way, (mesh.vertices_mm - a) @ side
        near = np.flatnonzero((along > 0) & (along < long) & (np.abs(aside) < 6 * _CREST_MM))
        step = (along[near] / _STEP_MM).astype(int)
        order = np.lexsort((-height[near], step))
        first = np.r_[True, np.diff(step[order]) != 0]
        out[near[order[first]]] = True
    return out


def line_of(mesh: Mesh, value: NDArray) -> list[Rim]:
    """The edge lines: closed, exactly through the triangles, the longest first."""
    return rims(mesh, value)
