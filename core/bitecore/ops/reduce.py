"""Fewer triangles over the same surface: edges are drawn together, the one that changes it least first, by the squared distances from the
planes that met there (Garland and Heckbert, Surface simplification using quadric error metrics, 1997). Vertices that are held and
the border stay where they are; no triangle turns over, and the surface stays a manifold (link condition: Dey and others, Topology
preserving edge contraction, 1999)."""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..mesh import Mesh, edge_table
from ..mesh.topology import at_border
from ..progress import QUIET, Run
from .closest import ClosestPoints
from .surface_graph import drop, push

# A triangle may turn by up to this (cosine), and be no thinner than this (its area by its longest side squared; even ones have 0.43).
_TURN, _THIN = 0.5, 0.04
# A try goes by so much of the asked deviation, in the mean over the planes; where more came out, so many usual edges about it stay;
# where that is so of many places, the next goes by less.
_FIRST, _ABOUT, _TRIES, _MANY = 0.7, 3, 6, 0.01


@dataclass(frozen=True)
class Reduced:
    """mesh : of fewer triangles; most_mm, mean_mm : how far both surfaces are from each other"""

    mesh: Mesh
    most_mm: float
    mean_mm: float


@nb.njit(cache=True, inline="always")
def _cost(q, v, x, y, z):
    a = q[v]
    return (
        a[0] * x * x + a[4] * y * y + a[7] * z * z + a[9]
        + 2 * (a[1] * x * y + a[2] * x * z + a[3] * x + a[5] * y * z + a[6] * y + a[8] * z)
    )  # fmt: skip


@nb.njit(cache=True, nogil=True)
def _quadrics(p, faces):
    q, w = np.zeros((len(p), 10)), np.zeros(len(p))
    for f in range(len(faces)):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        ux, uy, uz = p[b, 0] - p[a, 0], p[b, 1] - p[a, 1], p[b, 2] - p[a, 2]
        vx, vy, vz = p[c, 0] - p[a, 0], p[c, 1] - p[a, 1], p[c, 2] - p[a, 2]
        nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        long = np.sqrt(nx * nx + ny * ny + nz * nz)
        if long <= 0:
            continue
        area = long / 2
        nx, ny, nz = nx / long, ny / long, nz / long
        d = -(nx * p[a, 0] + ny * p[a, 1] + nz * p[a, 2])
        k = (nx * nx, nx * ny, nx * nz, nx * d, ny * ny, ny * nz, ny * d, nz * nz, nz * d, d * d)
        for v in (a, b, c):
            for i in range(10):
                q[v, i] += area * k[i]
            w[v] += area
    return q, w


@nb.njit(cache=True, nogil=True)
def _best(p, q, w, held, u, v, out):
    """Where u and v come together at the least cost, into out; returns the mean squared distance there, infinite where they may not."""
    if held[u] and held[v]:
        return np.inf
    s = q[u] + q[v]
    weight = max(w[u] + w[v], 1e-300)
    best = np.inf
    if not held[u] and not held[v]:
        a, b, c, d, e, f, g, h, i = s[0], s[1], s[2], s[1], s[4], s[5], s[2], s[5], s[7]
        det = a * (e * i - f * h) - b * (d * i - f * g) + c * (d * h - e * g)
        if abs(det) > 1e-6 * weight**3:
            x = -(s[3] * (e * i - f * h) - b * (s[6] * i - f * s[8]) + c * (s[6] * h - e * s[8])) / det
            y = -(a * (s[6] * i - f * s[8]) - s[3] * (d * i - f * g) + c * (d * s[8] - s[6] * g)) / det
            z = -(a * (e * s[8] - s[6] * h) - b * (d * s[8] - s[6] * g) + s[3] * (d * h - e * g)) / det
            mx, my, mz = (p[u, 0] + p[v, 0]) / 2, (p[u, 1] + p[v, 1]) / 2, (p[u, 2] + p[v, 2]) / 2
            long = (p[u, 0] - p[v, 0]) ** 2 + (p[u, 1] - p[v, 1]) ** 2 + (p[u, 2] - p[v, 2]) ** 2
            if (x - mx) ** 2 + (y - my) ** 2 + (z - mz) ** 2 < long:
                out[0], out[1], out[2] = x, y, z
                best = max(_cost(q, u, x, y, z) + _cost(q, v, x, y, z), 0.0) / weight
    if best == np.inf:
        for t in (0.5, 0.0, 1.0):
            if (held[u] and t != 0.0) or (held[v] and t != 1.0):
                continue
            x, y, z = p[u, 0] + t * (p[v, 0] - p[u, 0]), p[u, 1] + t * (p[v, 1] - p[u, 1]), p[u, 2] + t * (p[v, 2] - p[u, 2])
            cost = max(_cost(q, u, x, y, z) + _cost(q, v, x, y, z), 0.0) / weight
            if cost < best:
                best = cost
                out[0], out[1], out[2] = x, y, z
    return best


@nb.njit(cache=True, nogil=True)
def _stays(p, faces, alive, head, after, one, other, to):
    """Does every triangle at `one` but those of the edge keep facing its way, and its shape, when that goes to `to`?"""
    slot = head[one]
    while slot >= 0:
        f = slot // 3
        slot = after[slot]
        if not alive[f]:
            continue
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        if other in (a, b, c):
            continue
        if b == one:
            a, b, c = b, c, a
        elif c == one:
            a, b, c = c, a, b
        before, then, long = np.empty(3), np.empty(3), 0.0
        e, g, h = p[b] - p[a], p[c] - p[a], p[c] - p[b]
        before[0], before[1], before[2] = e[1] * g[2] - e[2] * g[1], e[2] * g[0] - e[0] * g[2], e[0] * g[1] - e[1] * g[0]
        e, g = p[b] - to, p[c] - to
        then[0], then[1], then[2] = e[1] * g[2] - e[2] * g[1], e[2] * g[0] - e[0] * g[2], e[0] * g[1] - e[1] * g[0]
        long = max((e * e).sum(), (g * g).sum(), (h * h).sum())
        size = np.sqrt((then * then).sum())
        if size / 2 < _THIN * long or (before * then).sum() < _TURN * np.sqrt((before * before).sum()) * size:
            return False
    return True


@nb.njit(cache=True, nogil=True)
def _neighbours(faces, alive, head, after, v, mark, stamp, out):
    """How many neighbours v has, in out; each is marked with the stamp."""
    n = 0
    slot = head[v]
    while slot >= 0:
        f = slot // 3
        slot = after[slot]
        if not alive[f]:
            continue
        for k in range(3):
            c = faces[f, k]
            if c != v and mark[c] != stamp and n < len(out):
                mark[c] = stamp
                out[n] = c
                n += 1
    return n


@nb.njit(cache=True, nogil=True)
def _reduced(points, triangles, held, most, fewest):
    p, faces = points.copy(), triangles.copy()
    n, m = len(p), len(faces)
    q, w = _quadrics(p, faces)
    head, tail, after = np.full(n, -1, np.int64), np.full(n, -1, np.int64), np.full(3 * m, -1, np.int64)
    for s in range(3 * m):
        v = faces[s // 3, s % 3]
        after[s] = head[v]
        head[v] = s
        if tail[v] < 0:
            tail[v] = s
    alive, gone, version = np.ones(m, np.bool_), np.zeros(n, np.bool_), np.zeros(n, np.int64)
    room = 16 * m + 64
    keys, items = np.empty(room), np.empty(room, np.int64)
    eu, ev, su, sv = np.empty(room, np.int32), np.empty(room, np.int32), np.empty(room, np.int64), np.empty(room, np.int64)
    made, size, to = 0, 0, np.empty(3)
    for f in range(m):
        for k in range(3):
            u, v = faces[f, k], faces[f, (k + 1) % 3]
            if u < v:
                cost = _best(p, q, w, held, u, v, to)
                if cost < most:
                    eu[made], ev[made], su[made], sv[made] = u, v, 0, 0
                    size = push(keys, items, size, cost, made)
                    made += 1
    left, stamp = m, 0
    mark, near_u, near_v = np.zeros(n, np.int64), np.empty(512, np.int64), np.empty(512, np.int64)
    while size > 0 and left > fewest:
        it = items[0]
        size = drop(keys, items, size)
        u, v = eu[it], ev[it]
        if gone[u] or gone[v] or version[u] != su[it] or version[v] != sv[it]:
            continue
        if held[v]:
            u, v = v, u
        if _best(p, q, w, held, u, v, to) == np.inf:
            continue
        stamp += 1
        nu = _neighbours(faces, alive, head, after, u, mark, stamp, near_u)
        common = 0
        own = stamp
        stamp += 1
        nv = _neighbours(faces, alive, head, after, v, near_mark(mark, near_u, nu, own), stamp, near_v)
        for k in range(nv):
            for j in range(nu):
                if near_u[j] == near_v[k]:
                    common += 1
                    break
        if common != 2 or nu > 60 or nv > 60:
            continue
        if not _stays(p, faces, alive, head, after, u, v, to) or not _stays(p, faces, alive, head, after, v, u, to):
            continue
        for k in range(3):
            p[u, k] = to[k]
        for k in range(10):
            q[u, k] += q[v, k]
        w[u] += w[v]
        slot = head[v]
        while slot >= 0:
            f = slot // 3
            if alive[f]:
                if u in (faces[f, 0], faces[f, 1], faces[f, 2]):
                    alive[f] = False
                    left -= 1
                else:
                    faces[f, slot % 3] = u
            slot = after[slot]
        after[tail[u]] = head[v]
        tail[u] = tail[v]
        gone[v] = True
        version[u] += 1
        stamp += 1
        nu = _neighbours(faces, alive, head, after, u, mark, stamp, near_u)
        for k in range(nu):
            c = near_u[k]
            cost = _best(p, q, w, held, u, c, to)
            if cost < most and made < room:
                eu[made], ev[made], su[made], sv[made] = u, c, version[u], version[c]
                size = push(keys, items, size, cost, made)
                made += 1
    return p, faces, alive


@nb.njit(cache=True, inline="always")
def near_mark(mark, near, count, own):  # noqa: ANN201
    """The marks, without those of the first of two: a neighbour of both is to be met at each."""
    for k in range(count):
        if mark[near[k]] == own:
            mark[near[k]] = 0
    return mark


def reduced(
    mesh: Mesh, *, deviation_mm: float = np.inf, triangles: int = 0, held: NDArray[np.bool_] | None = None, run: Run = QUIET
) -> Reduced:
    """As few triangles as leave the surface within deviation_mm, or so many. held : (n,) vertices that stay as they are.

    The border stays. The deviation reached is measured, between both surfaces, and never above the one that was asked.
    """
    fixed = np.zeros(len(mesh.vertices_mm), bool) if held is None else held.copy()
    fixed[mesh.faces[at_border(mesh)].ravel()] = True
    crowded = np.flatnonzero(edge_table(mesh).count > 2)
    fixed[mesh.faces[crowded // 3].ravel()] = True
    asked = (deviation_mm * _FIRST) ** 2 if np.isfinite(deviation_mm) else np.inf
    before, tree = ClosestPoints(mesh), cKDTree(mesh.vertices_mm)
    edge = float(np.linalg.norm(mesh.vertices_mm[mesh.faces[:, 0]] - mesh.vertices_mm[mesh.faces[:, 1]], axis=1).mean())
    for attempt in range(_TRIES):
        run.tick(attempt / _TRIES, "reducing")
        p, faces, alive = _reduced(mesh.vertices_mm, mesh.faces, fixed, asked, triangles)
        part = Mesh.of(p, faces, mesh.groups, mesh.source, mesh.channel).of_faces(alive)
        off, places = _apart(mesh, part, before)
        if off.max() <= deviation_mm:
            return Reduced(part, float(off.max()), float(off[-len(mesh.vertices_mm) :].mean()))
        if (off > deviation_mm).mean() > _MANY:
            asked *= (0.9 * deviation_mm / float(np.quantile(off, 1 - _MANY / 4))) ** 2
            continue
        # Where it came out farther off, what lies about stays as it is.
        about = tree.query_ball_point(places[off > deviation_mm], (_ABOUT + attempt) * edge)
        fixed[np.unique(np.concatenate([np.asarray(a, int) for a in about]))] = True
    return Reduced(mesh, 0.0, 0.0)


def _apart(mesh: Mesh, part: Mesh, before: ClosestPoints) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """((k,) mm between both surfaces, (k, 3) where): at corners and middles of the new triangles, and at the old corners."""
    asked = np.vstack([part.vertices_mm, part.vertices_mm[part.faces].mean(1)])
    there, back = before.query(asked).distance_mm, ClosestPoints(part).query(mesh.vertices_mm).distance_mm
    return np.r_[there, back], np.vstack([asked, mesh.vertices_mm])
