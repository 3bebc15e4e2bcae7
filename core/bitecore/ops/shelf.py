"""Triangles over the plan between rings: the shelf between a border and its wall, terraces and floors."""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix, diags
from scipy.sparse.linalg import spsolve

from .clip import triangulate

_ROUNDS = 40
# Sides within a shelf are halved down to this; so often.
_LONG_MM, _HALVINGS = 0.6, 4
_LEAST_WEIGHT = 1e-3


@nb.njit(cache=True)
def _flipped(points, faces, rounds):
    """Edges between two triangles are turned where that is more nearly Delaunay; edges with one triangle stay (Lawson 1977, from
    memory). points : (n, 2); faces are changed in place."""
    count, many = np.int64(len(points)), len(faces)
    key = np.empty(3 * many, np.int64)
    for _ in range(rounds):
        for i in range(many):
            for k in range(3):
                a, b = faces[i, k], faces[i, (k + 1) % 3]
                key[3 * i + k] = min(a, b) * count + max(a, b)
        order = np.argsort(key)
        used = np.zeros(many, np.bool_)
        turned = 0
        for q in range(3 * many - 1):
            h, g = order[q], order[q + 1]
            i, j = h // 3, g // 3
            if key[h] != key[g] or used[i] or used[j]:
                continue
            a, b, c, d = faces[i, h % 3], faces[i, (h % 3 + 1) % 3], faces[i, (h % 3 + 2) % 3], faces[j, (g % 3 + 2) % 3]
            if _sees(points, a, b, c, d) and _turns(points, a, d, c) and _turns(points, b, c, d):
                faces[i, 0], faces[i, 1], faces[i, 2] = a, d, c
                faces[j, 0], faces[j, 1], faces[j, 2] = d, b, c
                used[i] = used[j] = True
                turned += 1
        if turned == 0:
            return faces
    return faces


@nb.njit(cache=True)
def _sees(p, a, b, c, d):
    """Does d lie within the circle through a, b, c (counter-clockwise)?"""
    ax, ay, bx, by = p[a, 0] - p[d, 0], p[a, 1] - p[d, 1], p[b, 0] - p[d, 0], p[b, 1] - p[d, 1]
    cx, cy = p[c, 0] - p[d, 0], p[c, 1] - p[d, 1]
    a2, b2, c2 = ax * ax + ay * ay, bx * bx + by * by, cx * cx + cy * cy
    return a2 * (bx * cy - cx * by) - b2 * (ax * cy - cx * ay) + c2 * (ax * by - bx * ay) > 1e-12


@nb.njit(cache=True)
def _turns(p, a, b, c):
    return (p[b, 0] - p[a, 0]) * (p[c, 1] - p[a, 1]) - (p[b, 1] - p[a, 1]) * (p[c, 0] - p[a, 0]) > 1e-12


def shelf(rings: list[NDArray[np.float64]]) -> NDArray[np.int64]:
    """Triangles over the corners of plane rings put end to end, outer ones counter-clockwise, holes clockwise; no corner is added,
    and every edge of a ring is one of a single triangle."""
    rings = [np.ascontiguousarray(ring) for ring in rings]
    return _flipped(np.vstack(rings), triangulate(rings).copy(), _ROUNDS)


@dataclass(frozen=True)
class Blend:
    """more : (n, 3) corners beside those of the rings; faces : (m, 3) numbers of the rings' corners end to end, then of these"""

    more: NDArray[np.float64]
    faces: NDArray[np.int64]


def blended(rings: list[NDArray[np.float64]], *, long_mm: float = _LONG_MM) -> Blend:
    """Between rings (k, 3) over the plan: with corners of its own, each as high as the mean of its neighbours, so that what is uneven
    along one ring is gone before it comes to the other. Level ones need none. long_mm : of sides, at most."""
    points = np.vstack(rings)
    faces = shelf([ring[:, :2] for ring in rings])
    fixed = len(points)
    for _ in range(_HALVINGS if np.ptp(points[:, 2]) > 0 else 0):
        points, faces, done = _halved(points, faces, long_mm)
        _flipped(np.ascontiguousarray(points[:, :2]), faces, _ROUNDS)
        if done:
            break
    points[fixed:, 2] = _even_heights(points, faces, fixed)
    return Blend(points[fixed:], faces)


def _halved(points: NDArray, faces: NDArray, long_mm: float) -> tuple[NDArray, NDArray, bool]:
    """(points, faces, was nothing halved?): every side between two triangles that is the longest of both, and too long, halved."""
    ends = np.stack([faces, np.roll(faces, -1, axis=1)], -1)
    long = np.linalg.norm(points[ends[..., 0], :2] - points[ends[..., 1], :2], axis=2)
    longest = long.argmax(1)
    row = np.arange(len(faces))
    side = np.sort(ends[row, longest], axis=1)
    keys, first, count = np.unique(side, axis=0, return_index=True, return_counts=True)
    order = np.lexsort((side[:, 1], side[:, 0]))
    pairs = order[np.searchsorted(np.arange(len(order)), np.r_[0, np.cumsum(count)[:-1]])]
    second = order[np.minimum(np.r_[0, np.cumsum(count)[:-1]] + 1, len(order) - 1)]
    good = (count == 2) & (long[row, longest][first] > long_mm)
    if not good.any():
        return points, faces, True
    new = len(points) + np.arange(int(good.sum()))
    more = points[keys[good]].mean(1)
    out, keep = [], np.ones(len(faces), bool)
    for which in (pairs[good], second[good]):
        a, b = faces[which, longest[which]], faces[which, (longest[which] + 1) % 3]
        c = faces[which, (longest[which] + 2) % 3]
        out += [np.c_[a, new, c], np.c_[new, b, c]]
        keep[which] = False
    return np.vstack([points, more]), np.vstack([faces[keep], *out]), False


def _even_heights(points: NDArray, faces: NDArray, fixed: int) -> NDArray[np.float64]:
    """(n - fixed,) heights of the free corners: harmonic over the plan (weights of cotangents: Pinkall and Polthier, Computing discrete
    minimal surfaces, 1993)."""
    count = len(points) - fixed
    if count == 0:
        return np.zeros(0)
    i, j, w = [], [], []
    for k in range(3):
        a, b, c = (faces[:, (k + turn) % 3] for turn in range(3))
        to_a, to_b = points[a, :2] - points[c, :2], points[b, :2] - points[c, :2]
        over = np.abs(to_a[:, 0] * to_b[:, 1] - to_a[:, 1] * to_b[:, 0])
        cot = (to_a * to_b).sum(1) / np.maximum(over, 1e-6)
        i += [a, b]
        j += [b, a]
        # In a flat triangle the cotangents are all there is of it.
        w += [np.clip(cot, -1e3, 1e3)] * 2
    sides = coo_matrix((np.concatenate(w), (np.concatenate(i), np.concatenate(j))), shape=(len(points), len(points))).tocsr()
    # Where an edge could not be turned its weight is below nought, and heights would go beyond those of the rings.
    sides.data = np.maximum(sides.data, _LEAST_WEIGHT)
    free = sides[fixed:]
    total = np.asarray(free.sum(1)).ravel()
    matrix = diags(total) - free[:, fixed:]
    return spsolve(matrix.tocsc(), free[:, :fixed] @ points[:fixed, 2])
