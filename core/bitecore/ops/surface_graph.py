"""A surface as a graph: every edge once, and what meets at each vertex; distances over it.

Distances run along edges (Dijkstra 1959), so they are too long, mostly by less than a sixth: good for what is nearest, no measure.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh

FAR = 1e18


@dataclass(frozen=True)
class SurfaceGraph:
    """edges  : (e, 2) the lower vertex first
    start  : (n + 1,) where the neighbours of each vertex begin in other and edge
    other  : (2e,) the neighbour
    edge   : (2e,) the edge to it
    length : (e,) mm
    """

    points: NDArray[np.float64]
    edges: NDArray[np.int32]
    start: NDArray[np.int64]
    other: NDArray[np.int32]
    edge: NDArray[np.int32]
    length: NDArray[np.float64]


@nb.njit(cache=True, nogil=True)
def _meeting(edges, n):
    start = np.zeros(n + 1, np.int64)
    for k in range(len(edges)):
        start[edges[k, 0] + 1] += 1
        start[edges[k, 1] + 1] += 1
    for i in range(n):
        start[i + 1] += start[i]
    slot = start[:-1].copy()
    other, edge = np.empty(2 * len(edges), np.int32), np.empty(2 * len(edges), np.int32)
    for k in range(len(edges)):
        for side in range(2):
            a, b = edges[k, side], edges[k, 1 - side]
            other[slot[a]], edge[slot[a]] = b, k
            slot[a] += 1
    return start, other, edge


def surface_graph(mesh: Mesh) -> SurfaceGraph:
    """Time grows with the triangles times their logarithm."""
    n = len(mesh.vertices_mm)
    faces = mesh.faces.astype(np.int64)
    a, b = faces[:, [0, 1, 2]].ravel(), faces[:, [1, 2, 0]].ravel()
    key = np.sort(np.minimum(a, b) * n + np.maximum(a, b))
    key = key[np.r_[True, key[1:] != key[:-1]]]
    edges = np.stack([key // n, key % n], 1).astype(np.int32)
    start, other, edge = _meeting(edges, n)
    length = np.linalg.norm(mesh.vertices_mm[edges[:, 0]] - mesh.vertices_mm[edges[:, 1]], axis=1)
    return SurfaceGraph(mesh.vertices_mm, edges, start, other, edge, length)


@nb.njit(cache=True, inline="always")
def push(keys, items, m, key, item):  # noqa: ANN201
    """Onto a heap of m with its least on top; m + 1 after it."""
    p = m
    while p > 0:
        q = (p - 1) // 2
        if keys[q] <= key:
            break
        keys[p], items[p] = keys[q], items[q]
        p = q
    keys[p], items[p] = key, item
    return m + 1


@nb.njit(cache=True, inline="always")
def drop(keys, items, m):  # noqa: ANN201
    """The top off a heap of m; m - 1 after it."""
    m -= 1
    if m > 0:
        key, item, p = keys[m], items[m], 0
        while True:
            c = 2 * p + 1
            if c >= m:
                break
            if c + 1 < m and keys[c + 1] < keys[c]:
                c += 1
            if keys[c] >= key:
                break
            keys[p], items[p] = keys[c], items[c]
            p = c
        keys[p], items[p] = key, item
    return m


@nb.njit(cache=True, nogil=True)
def _flooded(seed, cost, start, other, edge):
    n = len(seed)
    label, away = seed.copy(), np.full(n, np.inf)
    keys, items, m = np.empty(4 * len(other) + n + 16), np.empty(4 * len(other) + n + 16, np.int32), 0
    for i in range(n):
        if seed[i] > 0:
            away[i] = 0.0
            m = push(keys, items, m, 0.0, i)
    while m > 0:
        key, i = keys[0], items[0]
        m = drop(keys, items, m)
        if key > away[i]:
            continue
        for q in range(start[i], start[i + 1]):
            j, d = other[q], key + cost[edge[q]]
            if d < away[j] and seed[j] == 0:
                away[j], label[j] = d, label[i]
                m = push(keys, items, m, d, j)
    return label, away


def flooded(seed: NDArray[np.int32], cost: NDArray[np.float64], graph: SurfaceGraph) -> tuple[NDArray[np.int32], NDArray[np.float64]]:
    """((n,) label of the seed that reaches each vertex at the least cost, 0 where none does; (n,) that cost).

    seed : (n,) labels above 0, 0 elsewhere; cost : (e,) of going along each edge, not negative
    """
    return _flooded(np.asarray(seed, np.int32), np.asarray(cost, float), graph.start, graph.other, graph.edge)


@nb.njit(cache=True, nogil=True)
def _spread(sources, blocked, points, start, other, reach, away, touched):
    n, room = 0, 6 * len(points) + 16
    keys, items, m = np.empty(room), np.empty(room, np.int32), 0
    for k in range(len(sources)):
        away[sources[k]] = 0.0
        touched[n] = sources[k]
        n += 1
        m = push(keys, items, m, 0.0, sources[k])
    while m > 0:
        key, i = keys[0], items[0]
        m = drop(keys, items, m)
        if key > away[i]:
            continue
        for q in range(start[i], start[i + 1]):
            j = other[q]
            if blocked[j]:
                continue
            x, y, z = points[j, 0] - points[i, 0], points[j, 1] - points[i, 1], points[j, 2] - points[i, 2]
            d = key + np.sqrt(x * x + y * y + z * z)
            if d > reach or d >= away[j] or m >= room:
                continue
            if away[j] >= FAR:
                touched[n] = j
                n += 1
            away[j] = d
            m = push(keys, items, m, d, j)
    return n


class Spreading:
    """Distances from a few vertices as far as a reach, asked often: room is made once."""

    def __init__(self, graph: SurfaceGraph) -> None:
        self.graph = graph
        self.away = np.full(len(graph.points), FAR)
        self._touched = np.empty(len(graph.points), np.int32)
        self._count = 0

    def reached(self, sources: NDArray, *, blocked: NDArray[np.bool_], reach_mm: float) -> NDArray[np.int32]:
        """(k,) the vertices within reach_mm, over none that is blocked; their distances stand in `away` until the next question."""
        self.away[self._touched[: self._count]] = FAR
        g = self.graph
        self._count = _spread(np.asarray(sources, np.int32), blocked, g.points, g.start, g.other, reach_mm, self.away, self._touched)
        return self._touched[: self._count].copy()
