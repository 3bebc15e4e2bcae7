"""Triangles over the plan between rings, evened: the shelf between a border and its wall, and floors."""

from __future__ import annotations

import numba as nb
import numpy as np
from numpy.typing import NDArray

from .clip import triangulate

_ROUNDS = 40


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
