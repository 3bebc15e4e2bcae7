"""Touch-up by hand: add, carve, smooth, a dab after the other along a stroke.

The page draws the same while the brush moves (web/src/steps/trim/touching.ts): what is changed here is changed there, and a browser
test holds the two to a micrometre. So every step of it goes by what does not depend on the order of vertices or triangles.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh
from .geodesic import around
from .surface_graph import drop, push

# Of a dab at full strength: so far goes the middle of it, in radii of the brush; and dabs follow each other in these steps of a radius.
DAB_SHARE, DAB_STEP = 0.04, 0.25
# Ways along edges are too long by up to this (2 over the root of 3, in even triangles): so much is let off before they count.
EDGES_TOO_LONG = 1.1547005383792515
ADD, CARVE, SMOOTH = 0, 1, 2
KINDS = {"add": ADD, "carve": CARVE, "smooth": SMOOTH}


@dataclass(frozen=True)
class Touch:
    """One stroke.

    points_mm : (k, 3) its dabs: each at the vertex that is nearest
    strength  : 0 to 1
    """

    kind: str
    points_mm: NDArray[np.float64]
    radius_mm: float
    strength: float


@nb.njit(cache=True, nogil=True)
def _reached(p, faces, start, which, first, radius, away, keys, items, touched):
    """Vertices whose way along edges from the first is below radius times EDGES_TOO_LONG: how many, named in touched, away set."""
    most = radius * EDGES_TOO_LONG
    count = 1
    touched[0] = first
    away[first] = 0.0
    m = push(keys, items, 0, 0.0, first)
    while m > 0:
        key, i = keys[0], items[0]
        m = drop(keys, items, m)
        if key > away[i]:
            continue
        for q in range(start[i], start[i + 1]):
            f = which[q]
            for k in range(3):
                c = faces[f, k]
                if c == i:
                    continue
                x, y, z = p[i, 0] - p[c, 0], p[i, 1] - p[c, 1], p[i, 2] - p[c, 2]
                t = key + np.sqrt(x * x + y * y + z * z)
                if t < most and t < away[c] and m < len(keys):
                    if away[c] == np.inf:
                        touched[count] = c
                        count += 1
                    away[c] = t
                    m = push(keys, items, m, t, c)
    return count


@nb.njit(cache=True, nogil=True)
def _weights(p, first, radius, away, touched, count, weight):
    """How much each of them is touched: by how far it lies straight across, or over the surface where that is farther round."""
    for q in range(count):
        i = touched[q]
        x, y, z = p[i, 0] - p[first, 0], p[i, 1] - p[first, 1], p[i, 2] - p[first, 2]
        far = max(np.sqrt(x * x + y * y + z * z), away[i] / EDGES_TOO_LONG) / radius
        weight[q] = (1.0 - far * far) ** 2 if far < 1.0 else 0.0


@nb.njit(cache=True, nogil=True)
def _facing(p, faces, start, which, touched, count, weight):
    """The direction the touched part faces on the whole."""
    out = np.zeros(3)
    for q in range(count):
        i = touched[q]
        for e in range(start[i], start[i + 1]):
            f = which[e]
            a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
            ux, uy, uz = p[b, 0] - p[a, 0], p[b, 1] - p[a, 1], p[b, 2] - p[a, 2]
            vx, vy, vz = p[c, 0] - p[a, 0], p[c, 1] - p[a, 1], p[c, 2] - p[a, 2]
            out[0] += weight[q] * (uy * vz - uz * vy)
            out[1] += weight[q] * (uz * vx - ux * vz)
            out[2] += weight[q] * (ux * vy - uy * vx)
    long = np.sqrt((out * out).sum())
    return out / long if long > 0 else out


@nb.njit(cache=True, nogil=True)
def _dab(p, faces, start, which, first, kind, radius, strength, held, away, keys, items, touched, weight, moved):
    count = _reached(p, faces, start, which, first, radius, away, keys, items, touched)
    _weights(p, first, radius, away, touched, count, weight)
    if kind == SMOOTH:
        for q in range(count):
            i = touched[q]
            x, y, z, n = 0.0, 0.0, 0.0, 0
            for e in range(start[i], start[i + 1]):
                f = which[e]
                for k in range(3):
                    c = faces[f, k]
                    if c != i:
                        x += p[c, 0]
                        y += p[c, 1]
                        z += p[c, 2]
                        n += 1
            share = strength * weight[q] / n
            moved[q, 0] = share * (x - n * p[i, 0])
            moved[q, 1] = share * (y - n * p[i, 1])
            moved[q, 2] = share * (z - n * p[i, 2])
    else:
        way = _facing(p, faces, start, which, touched, count, weight)
        far = radius * DAB_SHARE * strength * (1.0 if kind == ADD else -1.0)
        for q in range(count):
            for k in range(3):
                moved[q, k] = far * weight[q] * way[k]
    for q in range(count):
        i = touched[q]
        away[i] = np.inf
        if held[i]:
            continue
        for k in range(3):
            p[i, k] += moved[q, k]


def touched_up(mesh: Mesh, strokes: list[tuple[Touch, NDArray[np.bool_]]]) -> NDArray[np.float64]:
    """(n, 3) mm where the vertices are after all strokes, the older first. Each comes with (n,) which vertices it may not move."""
    p = mesh.vertices_mm.copy()
    n = len(p)
    start, which = around(mesh.faces, n)
    away, touched = np.full(n, np.inf), np.empty(n, np.int32)
    keys, items = np.empty(8 * n + 16), np.empty(8 * n + 16, np.int32)
    weight, moved = np.empty(n), np.empty((n, 3))
    for stroke, held in strokes:
        for point in stroke.points_mm:
            first = int(((p - point) ** 2).sum(1).argmin())
            _dab(
                p, mesh.faces, start, which, first, KINDS[stroke.kind], stroke.radius_mm, stroke.strength, held, away, keys, items,
                touched, weight, moved,
            )  # fmt: skip
    return p
