"""What lies within a line drawn round it as an eye sees it: all the way through, or the near side alone."""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from ..mesh import Mesh, vertex_normals
from .bins import bins
from .clip import frame_of
from .fields import signed, smooth_field

# What lies less deep behind the first surface than this is an undercut of the near side, if all that hangs together with it does
# (about what a crown's bulge hides; common practice, no source).
_UNDERCUT_MM = 2.5
# A vertex lies on the surface it belongs to within this.
_SAME_MM = 0.02
_CELLS = 400
_SOFT_ROUNDS = 6


@dataclass(frozen=True)
class Fenced:
    """inside : (n,) about how many mm within the fence, negative without
    behind : (n,) mm behind the first surface that is met there; nought for what is seen, and outside of the fence
    depth  : (n,) mm from the eye
    faces  : (n,) does the surface face the eye there?
    """

    inside: NDArray[np.float64]
    behind: NDArray[np.float64]
    depth: NDArray[np.float64]
    faces: NDArray[np.bool_]


@nb.njit(cache=True, nogil=True)
def _within(x, y, ring):
    """(n,) how far within a polygon (k, 2), even-odd where it crosses itself; negative without."""
    out = np.empty(len(x))
    for i in range(len(x)):
        best, odd = np.inf, False
        for k in range(len(ring)):
            ax, ay = ring[k - 1, 0], ring[k - 1, 1]
            bx, by = ring[k, 0], ring[k, 1]
            dx, dy = bx - ax, by - ay
            long = dx * dx + dy * dy
            t = ((x[i] - ax) * dx + (y[i] - ay) * dy) / long if long > 0 else 0.0
            t = min(max(t, 0.0), 1.0)
            px, py = x[i] - ax - t * dx, y[i] - ay - t * dy
            best = min(best, px * px + py * py)
            if (ay > y[i]) != (by > y[i]) and x[i] < ax + (y[i] - ay) / (by - ay) * dx:
                odd = not odd
        out[i] = np.sqrt(best) if odd else -np.sqrt(best)
    return out


@nb.njit(cache=True, nogil=True)
def _first_hits(x, y, asked, faces, depth, start, item, low, cell, ny):
    """(k,) the least depth of a face that covers each asked vertex, its own faces left out; infinite where none does."""
    out = np.full(len(asked), np.inf)
    for q in range(len(asked)):
        v = asked[q]
        c = int((x[v] - low[0]) / cell) * ny + int((y[v] - low[1]) / cell)
        for e in range(start[c], start[c + 1]):
            i, j, k = faces[item[e], 0], faces[item[e], 1], faces[item[e], 2]
            if v in (i, j, k):
                continue
            area = (x[j] - x[i]) * (y[k] - y[i]) - (x[k] - x[i]) * (y[j] - y[i])
            if area == 0:
                continue
            a = ((x[j] - x[v]) * (y[k] - y[v]) - (x[k] - x[v]) * (y[j] - y[v])) / area
            b = ((x[k] - x[v]) * (y[i] - y[v]) - (x[i] - x[v]) * (y[k] - y[v])) / area
            if a < 0 or b < 0 or a + b > 1:
                continue
            # Straight ways on the picture are straight in space where one over the depth is taken as linear.
            at = 1.0 / (a / depth[i] + b / depth[j] + (1.0 - a - b) / depth[k])
            out[q] = min(out[q], at)
    return out


def fenced(mesh: Mesh, *, eye_mm: ArrayLike, ring_mm: ArrayLike) -> Fenced:
    """eye_mm : (3,) from where it was drawn; ring_mm : (k, 3) the line, anywhere on the ways from the eye through it."""
    eye, ring = np.asarray(eye_mm, float), np.asarray(ring_mm, float) - np.asarray(eye_mm, float)
    ways = ring / np.linalg.norm(ring, axis=1, keepdims=True)
    frame = frame_of(ways.mean(0))
    flat, seen = ring @ frame.T, (mesh.vertices_mm - eye) @ frame.T
    front = seen[:, 2] > 1e-3
    depth = np.where(front, seen[:, 2], 1.0)
    # On a plane as far away as the surface is on the whole, so that lengths are about mm.
    away = float(np.median(depth[front])) if front.any() else 1.0
    outline = np.ascontiguousarray(flat[:, :2] / flat[:, 2:] * away)
    x, y = seen[:, 0] / depth * away, seen[:, 1] / depth * away
    low, high = outline.min(0), outline.max(0)
    margin = 1.0
    near = front & (x > low[0] - margin) & (x < high[0] + margin) & (y > low[1] - margin) & (y < high[1] + margin)
    inside = np.full(len(x), -margin)
    inside[near] = np.maximum(_within(x[near], y[near], outline), -margin)
    # Farther away the fence is wider.
    inside[near] *= depth[near] / away
    faces = np.einsum("ij,ij->i", vertex_normals(mesh), mesh.vertices_mm - eye) < 0
    return Fenced(inside, _behind(mesh, inside, x, y, depth, low, high), np.where(front, seen[:, 2], np.inf), faces)


def _behind(mesh: Mesh, inside: NDArray, x: NDArray, y: NDArray, depth: NDArray, low: NDArray, high: NDArray) -> NDArray[np.float64]:
    out = np.zeros(len(inside))
    asked = np.flatnonzero(inside > 0)
    faces = mesh.faces[(inside[mesh.faces] > -0.5).any(1)].astype(np.int64)
    if len(asked) == 0 or len(faces) == 0:
        return out
    corners = np.stack([x[faces], y[faces]], 2)
    low, high = np.minimum(low, corners.min((0, 1))), np.maximum(high, corners.max((0, 1)))
    cell = float((high - low).max()) / _CELLS + 1e-9
    nx, ny = (int(s) + 2 for s in (high - low) / cell)
    start, item = bins(np.ascontiguousarray(corners.min(1)), np.ascontiguousarray(corners.max(1)), low, cell, nx, ny)
    hit = _first_hits(x, y, asked, faces, depth, start, item, low, cell, ny)
    back = depth[asked] - hit
    out[asked] = np.where(back > _SAME_MM, back, 0.0)
    return out


def near_side(mesh: Mesh, found: Fenced) -> NDArray[np.bool_]:
    """(n,) of what is within the fence, what is seen first, with its undercuts. Far is what is hidden behind it, if that hangs together
    with what lies deeper; and what is seen past it or through a gap: from its back, or well behind what most of the fence shows."""
    inside, hidden = found.inside > 0, found.behind > 0
    label, count = _parts(mesh, hidden)
    deepest = np.zeros(count)
    np.maximum.at(deepest, label[hidden], found.behind[hidden])
    # A far part that reaches the edge of what is seen also begins there with little depth: it is its deepest that counts.
    near = inside & (~hidden | (deepest[label] < _UNDERCUT_MM))
    label, count = _parts(mesh, near)
    size = np.bincount(label[near], minlength=count)
    if not size.any():
        return near
    main = near & (label == size.argmax())
    first = np.full(count, np.inf)
    np.minimum.at(first, label[near], found.depth[near])
    facing = np.bincount(label[near], np.where(found.faces[near], 1.0, -1.0), count)
    alike = (facing >= 0) == (facing[size.argmax()] >= 0)
    return near & alike[label] & (first[label] <= found.depth[main].max() + _UNDERCUT_MM)


def _parts(mesh: Mesh, of: NDArray[np.bool_]) -> tuple[NDArray, int]:
    """((n,) which part each vertex is of, how many): of vertices that hang together."""
    faces = mesh.faces.astype(np.int64)
    a, b = faces.ravel(), faces[:, [1, 2, 0]].ravel()
    both = of[a] & of[b]
    count, label = connected_components(coo_array((np.ones(int(both.sum())), (a[both], b[both])), shape=(len(of), len(of))), directed=False)
    return label, int(count)


def near_field(mesh: Mesh, found: Fenced, near: NDArray[np.bool_]) -> NDArray[np.float64]:
    """(n,) the near side as a region: the fence, and where it ends within the fence an even line."""
    inside = found.inside > 0
    if (near == inside).all():
        return found.inside
    edge = smooth_field(mesh.faces, np.where(near, 1.0, np.where(inside, -1.0, 0.0)), inside, _SOFT_ROUNDS)
    return np.minimum(found.inside, signed(mesh, edge, reach_mm=1.0))
