"""Closest points on a mesh: a tree of boxes over triangles, queried exactly.

Triangle regions after Ericson, Real-Time Collision Detection (2005), section 5.1.5.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import ArrayLike, NDArray

from ..mesh import Mesh, vertex_normals

_LEAF = 4
# Rounding may make a disc so much too small; a triangle so much lower than it is wide has no plane.
_SPARE, _NO_PLANE = 1 + 1e-12, 1e-3


@nb.njit(cache=True, nogil=True)
def _spread(x):
    x = (x | (x << 16)) & 0x030000FF
    x = (x | (x << 8)) & 0x0300F00F
    x = (x | (x << 4)) & 0x030C30C3
    return (x | (x << 2)) & 0x09249249


@nb.njit(cache=True, nogil=True)
def _codes(middle, low, extent):
    out = np.empty(len(middle), np.int64)
    for i in range(len(middle)):
        code = np.int64(0)
        for axis in range(3):
            code |= _spread(np.int64((middle[i, axis] - low[axis]) / extent * 1023.0)) << (2 - axis)
        out[i] = code
    return out


@nb.njit(cache=True, nogil=True)
def _boxes(tri, start):
    leaves = len(start) - 1
    box = np.empty((2 * leaves - 1, 6))
    for leaf in range(leaves):
        k = leaves - 1 + leaf
        for axis in range(3):
            lo, hi = np.inf, -np.inf
            for t in range(start[leaf], start[leaf + 1]):
                for c in range(3):
                    lo, hi = min(lo, tri[t, c, axis]), max(hi, tri[t, c, axis])
            box[k, axis], box[k, axis + 3] = lo, hi
    for k in range(leaves - 2, -1, -1):
        for axis in range(3):
            box[k, axis] = min(box[2 * k + 1, axis], box[2 * k + 2, axis])
            box[k, axis + 3] = max(box[2 * k + 1, axis + 3], box[2 * k + 2, axis + 3])
    return box


@nb.njit(cache=True, nogil=True)
def _discs(tri):
    """(m, 7) middle and radius of a disc around each triangle, in its plane, and the normal of that."""
    out = np.empty((len(tri), 7))
    for t in range(len(tri)):
        for axis in range(3):
            out[t, axis] = (tri[t, 0, axis] + tri[t, 1, axis] + tri[t, 2, axis]) / 3
        far = 0.0
        for c in range(3):
            x, y, z = tri[t, c, 0] - out[t, 0], tri[t, c, 1] - out[t, 1], tri[t, c, 2] - out[t, 2]
            far = max(far, x * x + y * y + z * z)
        out[t, 3] = np.sqrt(far) * _SPARE
        ux, uy, uz = tri[t, 1, 0] - tri[t, 0, 0], tri[t, 1, 1] - tri[t, 0, 1], tri[t, 1, 2] - tri[t, 0, 2]
        vx, vy, vz = tri[t, 2, 0] - tri[t, 0, 0], tri[t, 2, 1] - tri[t, 0, 1], tri[t, 2, 2] - tri[t, 0, 2]
        x, y, z = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        length = np.sqrt(x * x + y * y + z * z)
        # What has no plane is within a ball all the same: with no normal it is taken for that.
        flat = length > _NO_PLANE * far
        out[t, 4] = x / length if flat else 0.0
        out[t, 5] = y / length if flat else 0.0
        out[t, 6] = z / length if flat else 0.0
    return out


@nb.njit(cache=True, nogil=True)
def _to_place(key, order, first, last, place):
    """Of order[first:last], what belongs at `place` by its key goes there, with no greater ones before it (Hoare, 1961)."""
    last -= 1
    while last > first:
        pivot = key[order[(first + last) // 2]]
        i, j = first, last
        while i <= j:
            while key[order[i]] < pivot:
                i += 1
            while key[order[j]] > pivot:
                j -= 1
            if i <= j:
                order[i], order[j] = order[j], order[i]
                i, j = i + 1, j - 1
        if place <= j:
            last = j
        elif place >= i:
            first = i
        else:
            return


@nb.njit(cache=True, nogil=True)
def _halved(middle, kind, order, start):
    """The order within each node changed so that its halves lie side by side along its longest side, where all are of a kind."""
    key = np.empty(len(middle))
    stack = np.empty((64, 2), np.int64)
    stack[0, 0], stack[0, 1], top = 0, len(start) - 1, 1
    while top:
        top -= 1
        a, b = stack[top, 0], stack[top, 1]
        first, last, half = start[a], start[b], (a + b) // 2
        if b - a < 2 or last - first < 2:
            continue
        if kind[order[first]] == kind[order[last - 1]]:
            longest, along = -1.0, 0
            for axis in range(3):
                low, high = np.inf, -np.inf
                for t in range(first, last):
                    low, high = min(low, middle[order[t], axis]), max(high, middle[order[t], axis])
                if high - low > longest:
                    longest, along = high - low, axis
            for t in range(first, last):
                key[order[t]] = middle[order[t], along]
            if start[half] < last:
                _to_place(key, order, first, last, start[half])
        stack[top, 0], stack[top, 1] = a, half
        stack[top + 1, 0], stack[top + 1, 1] = half, b
        top += 2


@nb.njit(cache=True, inline="always")
def _box_distance(box, k, px, py, pz):
    x = max(max(box[k, 0] - px, px - box[k, 3]), 0.0)
    y = max(max(box[k, 1] - py, py - box[k, 4]), 0.0)
    z = max(max(box[k, 2] - pz, pz - box[k, 5]), 0.0)
    return x * x + y * y + z * z


@nb.njit(cache=True, nogil=True)
def _on_triangle(px, py, pz, tri, t):
    """Squared distance and the weights v, w of the second and third corner."""
    ax, ay, az = tri[t, 0, 0], tri[t, 0, 1], tri[t, 0, 2]
    abx, aby, abz = tri[t, 1, 0] - ax, tri[t, 1, 1] - ay, tri[t, 1, 2] - az
    acx, acy, acz = tri[t, 2, 0] - ax, tri[t, 2, 1] - ay, tri[t, 2, 2] - az
    apx, apy, apz = px - ax, py - ay, pz - az
    d1 = abx * apx + aby * apy + abz * apz
    d2 = acx * apx + acy * apy + acz * apz
    v, w = 0.0, 0.0
    if not (d1 <= 0 and d2 <= 0):
        bpx, bpy, bpz = px - tri[t, 1, 0], py - tri[t, 1, 1], pz - tri[t, 1, 2]
        d3 = abx * bpx + aby * bpy + abz * bpz
        d4 = acx * bpx + acy * bpy + acz * bpz
        cpx, cpy, cpz = px - tri[t, 2, 0], py - tri[t, 2, 1], pz - tri[t, 2, 2]
        d5 = abx * cpx + aby * cpy + abz * cpz
        d6 = acx * cpx + acy * cpy + acz * cpz
        vc, vb, va = d1 * d4 - d3 * d2, d5 * d2 - d1 * d6, d3 * d6 - d5 * d4
        if d3 >= 0 and d4 <= d3:
            v = 1.0
        elif vc <= 0 and d1 >= 0 and d3 <= 0:
            v = d1 / (d1 - d3) if d1 != d3 else 0.0
        elif d6 >= 0 and d5 <= d6:
            w = 1.0
        elif vb <= 0 and d2 >= 0 and d6 <= 0:
            w = d2 / (d2 - d6) if d2 != d6 else 0.0
        elif va <= 0 and d4 - d3 >= 0 and d5 - d6 >= 0:
            w = (d4 - d3) / ((d4 - d3) + (d5 - d6)) if (d4 - d3) + (d5 - d6) > 0 else 0.0
            v = 1.0 - w
        elif va + vb + vc != 0:
            v, w = vb / (va + vb + vc), vc / (va + vb + vc)
    x, y, z = apx - v * abx - w * acx, apy - v * aby - w * acy, apz - v * abz - w * acz
    return x * x + y * y + z * z, v, w


@nb.njit(cache=True, nogil=True)
def _query(points, tri, disc, box, start, cap, dist, index, weight):
    # Scalars instead of rows: a row of an array is counted while it is held, and two threads wait for that count.
    stack = np.empty(64, np.int64)
    reach = np.empty(64)
    before, leaves = -1, len(start) - 1
    for q in range(len(points)):
        px, py, pz = points[q, 0], points[q, 1], points[q, 2]
        best, found, bv, bw = cap * cap, -1, 0.0, 0.0
        if before >= 0:
            # Neighbours in the list are mostly neighbours in space: the last answer is a good bound for the next.
            d, v, w = _on_triangle(px, py, pz, tri, before)
            if d < best:
                best, found, bv, bw = d, before, v, w
        near = np.sqrt(best)
        stack[0], reach[0], top = 0, _box_distance(box, 0, px, py, pz), 1
        while top:
            top -= 1
            if reach[top] >= best:
                continue
            k = stack[top]
            if k >= leaves - 1:
                leaf = k - leaves + 1
                for t in range(start[leaf], start[leaf + 1]):
                    x, y, z, r = px - disc[t, 0], py - disc[t, 1], pz - disc[t, 2], disc[t, 3]
                    away = x * x + y * y + z * z
                    if away > (near + r) * (near + r):
                        continue
                    above = x * disc[t, 4] + y * disc[t, 5] + z * disc[t, 6]
                    above *= above
                    # Off the plane by so much already, it may be so far aside at most.
                    aside = np.sqrt(max(best * _SPARE - above, 0.0)) + r
                    if above > best * _SPARE or away - above > aside * aside * _SPARE:
                        continue
                    d, v, w = _on_triangle(px, py, pz, tri, t)
                    if d < best:
                        best, found, bv, bw, near = d, t, v, w, np.sqrt(d)
                continue
            left, right = 2 * k + 1, 2 * k + 2
            dl, dr = _box_distance(box, left, px, py, pz), _box_distance(box, right, px, py, pz)
            if dl < dr:
                left, right, dl, dr = right, left, dr, dl
            # The nearer child on top of the stack.
            if dl < best:
                stack[top], reach[top] = left, dl
                top += 1
            if dr < best:
                stack[top], reach[top] = right, dr
                top += 1
        dist[q], index[q], weight[q, 0], weight[q, 1] = np.sqrt(best), found, bv, bw
        before = found


@dataclass(frozen=True)
class Hits:
    """distance_mm (k,), capped; face (k,), -1 beyond the cap; point_mm (k, 3); weights (k, 2) of corners 2 and 3."""

    distance_mm: NDArray[np.float64]
    face: NDArray[np.int64]
    point_mm: NDArray[np.float64]
    weights: NDArray[np.float64]


class ClosestPoints:
    """Built once for a mesh, asked often. Build O(m log m), a question about O(log m)."""

    def __init__(self, mesh: Mesh) -> None:
        self._mesh = mesh
        corner = mesh.vertices_mm[mesh.faces]
        a, b, c = corner[:, 0], corner[:, 1], corner[:, 2]
        middle = (a + b + c) / 3
        low = middle.min(0)
        extent = float((middle.max(0) - low).max()) + 1e-9
        size = np.maximum(np.maximum(a, b), c) - np.minimum(np.minimum(a, b), c)
        side = np.maximum(np.maximum(size[:, 0], size[:, 1]), size[:, 2])
        usual = max(float(np.median(side)), 1e-9)
        # Very large triangles go into leaves of their own, or every box would be as large as they are.
        size_class = np.clip(np.log2(np.maximum(side / (3 * usual), 1e-9)).astype(np.int64) + 1, 0, 12)
        order = np.argsort(_codes(middle, low, extent) + (size_class << 32), kind="stable")
        leaves = 1
        while leaves * _LEAF < len(corner):
            leaves *= 2
        self._start = np.arange(leaves + 1) * len(corner) // leaves
        _halved(middle, size_class, order, self._start)
        self._order = order
        self._tri = np.ascontiguousarray(corner[order])
        self._box = _boxes(self._tri, self._start)
        self._disc = _discs(self._tri)
        self._normals: NDArray | None = None

    def query(self, points_mm: ArrayLike, *, within_mm: float = np.inf) -> Hits:
        """Closest point for each of (k, 3) points; face -1 and the cap as distance where nothing is within_mm."""
        p = np.ascontiguousarray(points_mm, np.float64).reshape(-1, 3)
        dist, index, weight = np.empty(len(p)), np.empty(len(p), np.int64), np.zeros((len(p), 2))
        parts = [slice(s, s + 4096) for s in range(0, len(p), 4096)]

        def one(part: slice) -> None:
            _query(p[part], self._tri, self._disc, self._box, self._start, within_mm, dist[part], index[part], weight[part])

        if len(parts) > 1:
            with ThreadPoolExecutor(2) as pool:
                list(pool.map(one, parts))
        elif parts:
            one(parts[0])
        t = self._tri[np.maximum(index, 0)]
        point = t[:, 0] + weight[:, :1] * (t[:, 1] - t[:, 0]) + weight[:, 1:] * (t[:, 2] - t[:, 0])
        return Hits(dist, np.where(index >= 0, self._order[np.maximum(index, 0)], -1), point, weight)

    def signed(self, points_mm: ArrayLike, *, within_mm: float) -> tuple[NDArray[np.float64], Hits]:
        """Distances, negative behind the surface, by the interpolated normal at the closest point.

        Only meaningful near the surface, so a cap is asked for; beyond it the cap is returned.
        """
        p = np.asarray(points_mm, np.float64).reshape(-1, 3)
        hits = self.query(p, within_mm=within_mm)
        if self._normals is None:
            self._normals = vertex_normals(self._mesh)
        face = self._mesh.faces[np.maximum(hits.face, 0)]
        v, w = hits.weights[:, :1], hits.weights[:, 1:]
        normal = self._normals[face[:, 0]] * (1 - v - w) + self._normals[face[:, 1]] * v + self._normals[face[:, 2]] * w
        behind = np.einsum("ij,ij->i", p - hits.point_mm, normal) < 0
        return np.where(behind & (hits.face >= 0), -hits.distance_mm, hits.distance_mm), hits
