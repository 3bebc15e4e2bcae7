"""Who touches whom: edges, components, borders. Kernels in numba, single-threaded so that results never vary."""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import NDArray

from .mesh import Mesh

# Well above what single precision tells apart some hundred mm from the origin.
_APART_MM = 0.002


@nb.njit(cache=True, nogil=True)
def _edge_table(faces, n_vertices):
    """Half-edges h = 3f + k bucketed by their lower vertex; twin by search within the bucket."""
    m = faces.shape[0]
    start = np.zeros(n_vertices + 1, np.int64)
    for f in range(m):
        for k in range(3):
            a, b = faces[f, k], faces[f, (k + 1) % 3]
            start[min(a, b) + 1] += 1
    for i in range(n_vertices):
        start[i + 1] += start[i]
    slot = start[:-1].copy()
    item = np.empty(3 * m, np.int64)
    other = np.empty(3 * m, np.int64)  # the higher vertex, negative where the half-edge starts there
    for f in range(m):
        for k in range(3):
            a, b = faces[f, k], faces[f, (k + 1) % 3]
            lo = min(a, b)
            item[slot[lo]] = 3 * f + k
            other[slot[lo]] = b if a == lo else -a - 1
            slot[lo] += 1
    twin = np.full(3 * m, -1, np.int64)
    count = np.zeros(3 * m, np.int32)
    same = np.zeros(3 * m, np.bool_)
    for v in range(n_vertices):
        for i in range(start[v], start[v + 1]):
            h = item[i]
            hi = other[i] if other[i] >= 0 else -other[i] - 1
            for j in range(start[v], start[v + 1]):
                if other[j] != hi and other[j] != -hi - 1:
                    continue
                count[h] += 1
                if j != i:
                    twin[h] = item[j]
                    same[h] = other[i] == other[j]
    return twin, count, same


@dataclass(frozen=True)
class EdgeTable:
    """Per half-edge h = 3·face + corner, from that corner to the next.

    twin  : (3m,) the other half-edge, -1 on a border
    count : faces at the edge
    same  : both run the same way
    """

    twin: NDArray[np.int64]
    count: NDArray[np.int32]
    same: NDArray[np.bool_]


def edge_table(mesh: Mesh) -> EdgeTable:
    if "edges" not in mesh._memo:
        mesh._memo["edges"] = EdgeTable(*_edge_table(mesh.faces, len(mesh.vertices_mm)))
    return mesh._memo["edges"]


@nb.njit(cache=True, nogil=True)
def _components(twin, count, m):
    label = np.full(m, -1, np.int32)
    stack = np.empty(m, np.int64)
    n = 0
    for seed in range(m):
        if label[seed] >= 0:
            continue
        stack[0] = seed
        top = 1
        label[seed] = n
        while top:
            top -= 1
            f = stack[top]
            for k in range(3):
                h = 3 * f + k
                if count[h] != 2:
                    continue
                g = twin[h] // 3
                if label[g] < 0:
                    label[g] = n
                    stack[top] = g
                    top += 1
        n += 1
    return n, label


def face_components(mesh: Mesh) -> tuple[int, NDArray[np.int32]]:
    """Number of pieces joined over edges of exactly two faces, and (m,) the piece of each face."""
    table = edge_table(mesh)
    n, label = _components(table.twin, table.count, mesh.triangles)
    return int(n), label


@nb.njit(cache=True, nogil=True)
def _loops(faces, border, source_first, source_next, n_border):
    """Chain border half-edges head to tail; a vertex passed twice uses up its half-edges in order."""
    used = np.zeros(n_border, np.bool_)
    order = np.empty(n_border, np.int64)
    bounds = np.zeros(n_border + 1, np.int64)
    closed = np.zeros(n_border, np.bool_)
    n_loops, at = 0, 0
    for i in range(n_border):
        if used[i]:
            continue
        first = faces[border[i] // 3, border[i] % 3]
        cur = i
        while True:
            used[cur] = True
            order[at] = border[cur]
            at += 1
            h = border[cur]
            v = faces[h // 3, (h % 3 + 1) % 3]
            if v == first:
                closed[n_loops] = True
                break
            nxt = source_first[v]
            while nxt >= 0 and used[nxt]:
                nxt = source_next[nxt]
            if nxt < 0:
                break
            cur = nxt
        n_loops += 1
        bounds[n_loops] = at
    return n_loops, order, bounds, closed


def border_loops(mesh: Mesh) -> list[NDArray[np.int32]]:
    """Closed borders as lists of vertex numbers in the direction of their faces, longest (in mm) first."""
    table = edge_table(mesh)
    border = np.flatnonzero(table.count == 1)
    if len(border) == 0:
        return []
    source = mesh.faces[border // 3, border % 3]
    first = np.full(len(mesh.vertices_mm), -1, np.int64)
    follow = np.full(len(border), -1, np.int64)
    for i in range(len(border) - 1, -1, -1):
        follow[i] = first[source[i]]
        first[source[i]] = i
    n, order, bounds, closed = _loops(mesh.faces, border, first, follow, len(border))
    loops = [
        mesh.faces[order[bounds[i] : bounds[i + 1]] // 3, order[bounds[i] : bounds[i + 1]] % 3]
        for i in range(n)
        if closed[i] and bounds[i + 1] - bounds[i] >= 3
    ]
    return sorted(loops, key=lambda loop: -loop_length_mm(mesh, loop))


def border_vertices(mesh: Mesh) -> NDArray[np.bool_]:
    """(n,) vertices on a border."""
    out = np.zeros(len(mesh.vertices_mm), bool)
    half = np.flatnonzero(edge_table(mesh).count == 1)
    out[mesh.faces[half // 3, half % 3]] = out[mesh.faces[half // 3, (half % 3 + 1) % 3]] = True
    return out


def at_border(mesh: Mesh) -> NDArray[np.bool_]:
    """(m,) faces that touch a border with a corner."""
    return np.asarray(border_vertices(mesh)[mesh.faces].any(axis=1))


def loop_length_mm(mesh: Mesh, loop: NDArray) -> float:
    p = mesh.vertices_mm[loop]
    return float(np.linalg.norm(p - np.roll(p, -1, axis=0), axis=1).sum())


@dataclass(frozen=True)
class SolidCheck:
    """What a printable body must be: no open edge, no edge of three faces, one piece, one orientation."""

    open_edges: int
    crowded_edges: int
    turned_edges: int
    components: int
    pinched_vertices: int

    @property
    def ok(self) -> bool:
        return self == SolidCheck(0, 0, 0, 1, 0)


def check_solid(mesh: Mesh) -> SolidCheck:
    table = edge_table(mesh)
    n, _ = face_components(mesh)
    return SolidCheck(
        int((table.count == 1).sum()),
        int((table.count > 2).sum()),
        int((table.same & (table.count == 2)).sum() // 2),
        n,
        len(_fans(mesh)[1]),
    )


@nb.njit(cache=True, nogil=True)
def _fan_labels(faces, twin, count, same):
    """Union-find over corners: corners of one vertex joined across shared, well-turned edges."""
    n = faces.size
    parent = np.arange(n)
    for h in range(n):
        t = twin[h]
        if count[h] != 2 or same[h] or t < h:
            continue
        for pair in range(2):
            if pair == 0:
                a, b = h, (t // 3) * 3 + (t % 3 + 1) % 3
            else:
                a, b = (h // 3) * 3 + (h % 3 + 1) % 3, t
            while parent[a] != a:
                parent[a] = parent[parent[a]]
                a = parent[a]
            while parent[b] != b:
                parent[b] = parent[parent[b]]
                b = parent[b]
            if a < b:
                parent[b] = a
            else:
                parent[a] = b
    for h in range(n):
        r = h
        while parent[r] != r:
            r = parent[r]
        parent[h] = r
    return parent


def _fans(mesh: Mesh) -> tuple[NDArray, NDArray]:
    """(3m,) fan of each corner, and the fans beyond the first at their vertex (bow-ties)."""
    table = edge_table(mesh)
    fan = _fan_labels(mesh.faces, table.twin, table.count, table.same)
    roots = np.flatnonzero(fan == np.arange(len(fan)))
    vertex = mesh.faces.ravel()[roots]
    _, first = np.unique(vertex, return_index=True)
    return fan, np.delete(roots, first)


def split_bow_ties(mesh: Mesh) -> tuple[Mesh, int]:
    """Give each extra fan of faces at a vertex a vertex of its own, a little towards its fan: at one place in a file they would be
    one vertex again. Returns the mesh and how many were split."""
    fan, extra = _fans(mesh)
    if len(extra) == 0:
        return mesh, 0
    corner_vertex = mesh.faces.ravel().astype(np.int64)
    number = np.full(len(fan), -1, np.int64)
    number[extra] = len(mesh.vertices_mm) + np.arange(len(extra))
    moved = number[fan]
    corner_vertex = np.where(moved >= 0, moved, corner_vertex)
    at = mesh.vertices_mm[mesh.faces.ravel()[extra]]
    corner = np.flatnonzero(moved >= 0)
    number_of, middle = moved[corner] - len(mesh.vertices_mm), mesh.vertices_mm[mesh.faces[corner // 3]].mean(1)
    mean = np.stack([np.bincount(number_of, middle[:, k], len(extra)) for k in range(3)], 1)
    mean = mean / np.bincount(number_of, minlength=len(extra))[:, None] - at
    apart = mean * np.minimum(_APART_MM / np.maximum(np.linalg.norm(mean, axis=1, keepdims=True), 1e-12), 0.5)
    return Mesh.of(np.vstack([mesh.vertices_mm, at + apart]), corner_vertex.reshape(-1, 3), mesh.groups, mesh.source), len(extra)
