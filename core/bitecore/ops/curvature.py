"""How a surface bends: the shape operator at each vertex, by least squares over how normals change to its neighbours (Rusinkiewicz,
Estimating Curvatures and Their Derivatives on Triangle Meshes, 2004, for vertices instead of triangles). Convex is positive."""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh, vertex_normals
from .surface_graph import SurfaceGraph


@nb.njit(cache=True, nogil=True)
def _evened(vectors, start, other, rounds):
    now, then = vectors.copy(), np.empty_like(vectors)
    for _ in range(rounds):
        for i in range(len(now)):
            x, y, z = now[i, 0], now[i, 1], now[i, 2]
            for q in range(start[i], start[i + 1]):
                j = other[q]
                x += now[j, 0]
                y += now[j, 1]
                z += now[j, 2]
            long = np.sqrt(x * x + y * y + z * z) + 1e-30
            then[i, 0], then[i, 1], then[i, 2] = x / long, y / long, z / long
        now, then = then, now
    return now


def evened_normals(mesh: Mesh, graph: SurfaceGraph, rounds: int) -> NDArray[np.float64]:
    """(n, 3) vertex normals, each drawn to the mean of itself and its neighbours so many times."""
    return _evened(vertex_normals(mesh), graph.start, graph.other, rounds)


@nb.njit(cache=True, nogil=True)
def _operators(points, normals, start, other):
    n = len(points)
    tensor, least, way = np.zeros((n, 6)), np.zeros(n), np.zeros((n, 3))
    for i in range(n):
        nx, ny, nz = normals[i, 0], normals[i, 1], normals[i, 2]
        # Two directions in the tangent plane.
        ax, ay = (1.0, 0.0) if abs(nx) < 0.6 else (0.0, 1.0)
        d = ax * nx + ay * ny
        ux, uy, uz = ax - d * nx, ay - d * ny, -d * nz
        long = np.sqrt(ux * ux + uy * uy + uz * uz)
        if long == 0.0:
            continue
        ux, uy, uz = ux / long, uy / long, uz / long
        vx, vy, vz = ny * uz - nz * uy, nz * ux - nx * uz, nx * uy - ny * ux
        # The normal turns by (a x + b y, b x + c y) on the way (x, y).
        xx, xy, yy, r0, r1, r2 = 1e-9, 0.0, 1e-9, 0.0, 0.0, 0.0
        for q in range(start[i], start[i + 1]):
            j = other[q]
            ex, ey, ez = points[j, 0] - points[i, 0], points[j, 1] - points[i, 1], points[j, 2] - points[i, 2]
            gx, gy, gz = normals[j, 0] - nx, normals[j, 1] - ny, normals[j, 2] - nz
            x, y = ex * ux + ey * uy + ez * uz, ex * vx + ey * vy + ez * vz
            p, w = gx * ux + gy * uy + gz * uz, gx * vx + gy * vy + gz * vz
            xx += x * x
            xy += x * y
            yy += y * y
            r0 += x * p
            r1 += y * p + x * w
            r2 += y * w
        both = xx + yy
        det = xx * (both * yy - xy * xy) - xy * xy * yy
        if abs(det) < 1e-18:
            continue
        a = (r0 * (both * yy - xy * xy) - xy * (r1 * yy - xy * r2)) / det
        b = (xx * (r1 * yy - xy * r2) - xy * r0 * yy) / det
        c = (xx * (both * r2 - xy * r1) - xy * xy * r2 + xy * xy * r0) / det
        half, root = 0.5 * (a + c), np.sqrt(0.25 * (a - c) ** 2 + b * b)
        least[i] = half - root
        e0, e1 = b, half - root - a
        if abs(b) <= 1e-12:
            e0, e1 = (1.0, 0.0) if a <= c else (0.0, 1.0)
        long = np.sqrt(e0 * e0 + e1 * e1) + 1e-30
        way[i, 0], way[i, 1], way[i, 2] = (e0 * ux + e1 * vx) / long, (e0 * uy + e1 * vy) / long, (e0 * uz + e1 * vz) / long
        tensor[i, 0] = a * ux * ux + 2 * b * ux * vx + c * vx * vx
        tensor[i, 1] = a * uy * uy + 2 * b * uy * vy + c * vy * vy
        tensor[i, 2] = a * uz * uz + 2 * b * uz * vz + c * vz * vz
        tensor[i, 3] = a * ux * uy + b * (ux * vy + uy * vx) + c * vx * vy
        tensor[i, 4] = a * ux * uz + b * (ux * vz + uz * vx) + c * vx * vz
        tensor[i, 5] = a * uy * uz + b * (uy * vz + uz * vy) + c * vy * vz
    return tensor, least, way


@nb.njit(cache=True, inline="always")
def towards(tensor, i, x, y, z):  # noqa: ANN201
    """Curvature times x² + y² + z² on a way (x, y, z) from vertex i."""
    return (
        tensor[i, 0] * x * x + tensor[i, 1] * y * y + tensor[i, 2] * z * z
        + 2 * (tensor[i, 3] * x * y + tensor[i, 4] * x * z + tensor[i, 5] * y * z)
    )  # fmt: skip


@nb.njit(cache=True, nogil=True)
def _on_edges(points, tensor, edges):
    out = np.empty(len(edges))
    for k in range(len(edges)):
        i, j = edges[k, 0], edges[k, 1]
        x, y, z = points[j, 0] - points[i, 0], points[j, 1] - points[i, 1], points[j, 2] - points[i, 2]
        out[k] = 0.5 * (towards(tensor, i, x, y, z) + towards(tensor, j, x, y, z)) / (x * x + y * y + z * z + 1e-18)
    return out


@dataclass(frozen=True)
class Bend:
    """tensor : (n, 6) xx yy zz xy xz yz of the shape operator, 1/mm, in the mesh's axes
    least  : (n,) smaller principal curvature, 1/mm: a valley where it is well below nought
    across : (n, 3) its direction
    """

    tensor: NDArray[np.float64]
    least: NDArray[np.float64]
    across: NDArray[np.float64]

    def on_edges(self, graph: SurfaceGraph) -> NDArray[np.float64]:
        """(e,) curvature along each edge, 1/mm."""
        return _on_edges(graph.points, self.tensor, graph.edges)


def bend(normals: NDArray[np.float64], graph: SurfaceGraph) -> Bend:
    """Of a surface with these unit normals at its vertices; nought where a vertex has too few neighbours."""
    return Bend(*_operators(graph.points, normals, graph.start, graph.other))
