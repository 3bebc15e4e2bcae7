"""A margin drawn by hand: along the line tooth and gum are parted by it, and what lay between it and the margin before changes sides."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from ...ops.surface_graph import Spreading, SurfaceGraph
from ..swabbed import close_along

# Places along the line; how far the hand's tremor is evened (standard deviation); ends so near to one another are one.
_STEP_MM, _EVEN_MM, _CLOSED_MM = 0.1, 0.25, 1.5
# A shorter line says nothing; of which tooth it is, is told so near; farther from that tooth's margin it means another.
_LEAST_MM, _NEAR_MM, _FARTHEST_MM = 1.0, 2.5, 5.0
# Past the margin as it was, so that nothing of it stays behind.
_PAST_MM = 0.6


@dataclass(frozen=True)
class DrawnLine:
    """points_mm : (k, 3) where the margin runs, on the surface; a part of it, or all round"""

    points_mm: NDArray[np.float64]


@dataclass(frozen=True)
class _Path:
    """at, along : (k, 3) places and directions, close together; closed : it goes all round"""

    at: NDArray[np.float64]
    along: NDArray[np.float64]
    closed: bool


def parted(graph: SurfaceGraph, normals: NDArray, label: NDArray[np.int32], line: DrawnLine) -> NDArray[np.int32] | None:
    """(n,) labels with the tooth that the line runs along ended by it. label : 0 gum, else the tooth. None where it runs along no tooth."""
    path = _path(line.points_mm)
    if path is None:
        return None
    away, nearest = cKDTree(path.at).query(graph.points, distance_upper_bound=_FARTHEST_MM + _PAST_MM)
    count = np.bincount(label[away < _NEAR_MM])
    if count[1:].sum() == 0:
        return None
    mine = int(count[1:].argmax()) + 1
    i, j = graph.edges.T
    rim = (label[i] == mine) != (label[j] == mine)
    if not rim.any():
        return None
    off = float(cKDTree((graph.points[i[rim]] + graph.points[j[rim]]) / 2).query(path.at)[0].max())
    if off > _FARTHEST_MM:
        return None
    band, side = _sides(graph, normals, path, away, nearest, off + _PAST_MM)
    inner = _inner(label[band] == mine, side)
    out = label.copy()
    out[band[inner & (label[band] == 0)]] = mine
    out[band[~inner & (label[band] == mine)]] = 0
    return _whole(graph, out, mine)


def _path(points: NDArray[np.float64]) -> _Path | None:
    long = float(np.linalg.norm(np.diff(points, axis=0), axis=1).sum()) if len(points) > 1 else 0.0
    if long < _LEAST_MM:
        return None
    closed = bool(np.linalg.norm(points[0] - points[-1]) < _CLOSED_MM < long / 4)
    at = close_along(np.vstack([points, points[:1]]) if closed else points, _STEP_MM)
    at = at[:-1] if closed else at
    at = ndimage.gaussian_filter1d(at, _EVEN_MM / _STEP_MM, axis=0, mode="wrap" if closed else "nearest")
    along = np.roll(at, -1, axis=0) - np.roll(at, 1, axis=0) if closed else np.gradient(at, axis=0)
    return _Path(at, along / np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-9), closed)


def _sides(
    graph: SurfaceGraph, normals: NDArray, path: _Path, away: NDArray, nearest: NDArray, reach: float
) -> tuple[NDArray[np.int64], NDArray[np.float64]]:  # fmt: skip
    """(vertices beside the line, how far (mm) each lies to its left). Over the surface, not through it: never on a crown's other side."""
    start = np.unique(cKDTree(graph.points).query(path.at)[1])
    band = Spreading(graph).reached(start, blocked=np.zeros(len(away), bool), reach_mm=reach)
    band = band[np.isfinite(away[band])]
    at = nearest[band]
    out = np.cross(normals[cKDTree(graph.points).query(path.at)[1]], path.along)
    rel = graph.points[band] - path.at[at]
    side = np.einsum("ij,ij->i", rel, out[at])
    if not path.closed:
        last = len(path.at) - 1
        past = np.einsum("ij,ij->i", rel, path.along[at])
        inside = ~((at == 0) & (past < 0) | (at == last) & (past > 0))
        band, side = band[inside], side[inside]
    return band, side


def _inner(mine: NDArray[np.bool_], side: NDArray[np.float64]) -> NDArray[np.bool_]:
    """On the line's side of the tooth: where more of it is."""
    left, right = side > 0, side < 0
    share = [mine[which].mean() if which.any() else 0.0 for which in (left, right)]
    return left if share[0] >= share[1] else ~left


def _whole(graph: SurfaceGraph, label: NDArray[np.int32], mine: int) -> NDArray[np.int32]:
    """Of the tooth only its largest piece: what the line cut off is gum."""
    on = label == mine
    i, j = graph.edges.T
    both = on[i] & on[j]
    n = len(label)
    count, piece = connected_components(coo_array((np.ones(int(both.sum())), (i[both], j[both])), (n, n)), directed=False)
    largest = np.bincount(piece[on], minlength=count).argmax() if on.any() else -1
    return np.where(on & (piece != largest), 0, label).astype(np.int32)
