"""The rim of a region of a surface: closed lines that run exactly through its triangles, and along the surface's border where the
region ends there."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh, edge_table


@dataclass(frozen=True)
class Rim:
    """A closed line, the region on its left, the first point not repeated.

    points_mm : (k, 3)
    ends      : (k, 2) vertices between which each point lies, the one inside first; twice the same for a vertex of the border
    share     : (k,) how far from the first of them to the second, 0 to 1
    """

    points_mm: NDArray[np.float64]
    ends: NDArray[np.int32]
    share: NDArray[np.float64]

    @property
    def length_mm(self) -> float:
        return float(np.linalg.norm(self.points_mm - np.roll(self.points_mm, -1, axis=0), axis=1).sum())


def rims(mesh: Mesh, value: NDArray[np.float64], *, of: NDArray | None = None) -> list[Rim]:
    """Of the region where `value` (n,) is above nought, taken as linear over each triangle; the longest first. of : numbers of the
    only faces that are asked, where the others lie all in or all out of it and none at a border within."""
    which = np.arange(mesh.triangles) if of is None else np.asarray(of)
    faces = mesh.faces[which].astype(np.int64)
    n = len(mesh.vertices_mm)
    inside = value > 0
    starts, ends = _across(faces, inside, n)
    half = (3 * which[:, None] + np.arange(3)).ravel()
    free = edge_table(mesh).count[half] == 1
    a, b = faces.ravel()[free], faces[:, [1, 2, 0]].ravel()[free]
    along = inside[a] | inside[b]
    a, b = a[along], b[along]
    starts = np.r_[starts, np.where(inside[a], _node(a, a, n), _node(b, a, n))]
    ends = np.r_[ends, np.where(inside[b], _node(b, b, n), _node(a, b, n))]
    out = [_rim(mesh, value, nodes, n) for nodes in _chained(starts, ends)]
    return sorted(out, key=lambda rim: -rim.length_mm)


def _node(inner: NDArray, outer: NDArray, n: int) -> NDArray[np.int64]:
    """A number for the place where the rim crosses the edge between them; twice the same: the vertex itself."""
    return inner * n + outer


def _across(faces: NDArray, inside: NDArray, n: int) -> tuple[NDArray, NDArray]:
    """Where the rim comes into each triangle it crosses, and where it leaves it."""
    corner = inside[faces]
    count = corner.sum(1)
    starts, ends = [], []
    for k in range(3):
        a, b, c = faces[:, k], faces[:, (k + 1) % 3], faces[:, (k + 2) % 3]
        one = (count == 1) & corner[:, k]
        starts.append(_node(a[one], b[one], n))
        ends.append(_node(a[one], c[one], n))
        two = (count == 2) & ~corner[:, k]
        starts.append(_node(c[two], a[two], n))
        ends.append(_node(b[two], a[two], n))
    # Of one corner inside, a: from the edge to the next corner to that from the last; so the inside is on the left.
    return np.concatenate(starts), np.concatenate(ends)


def _chained(starts: NDArray, ends: NDArray) -> list[list[int]]:
    after = dict(zip(starts.tolist(), ends.tolist(), strict=True))
    out = []
    while after:
        first, at = after.popitem()
        chain = [first]
        while at != first and at in after:
            chain.append(at)
            at = after.pop(at)
        if at == first and len(chain) > 2:
            out.append(chain)
    return out


def _rim(mesh: Mesh, value: NDArray, nodes: list[int], n: int) -> Rim:
    key = np.array(nodes)
    inner, outer = key // n, key % n
    a, b = value[inner], value[outer]
    share = np.where(inner == outer, 0.0, a / np.where(inner == outer, 1.0, a - b))
    p, q = mesh.vertices_mm[inner], mesh.vertices_mm[outer]
    return Rim(p + (q - p) * share[:, None], np.stack([inner, outer], 1).astype(np.int32), share)
