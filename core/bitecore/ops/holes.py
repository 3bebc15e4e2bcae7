"""Close holes with a patch that continues the curvature around it.

Patch: plane triangulation where the rim projects to a simple polygon, else the triangulation of least area by
dynamic programming (Barequet and Sharir 1995). Shape: bilaplacian fairing with cotangent weights, the rim and its
neighbourhood fixed (after Liepa, Filling Holes in Meshes, 2003).
"""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import NDArray
from scipy import sparse
from scipy.sparse.linalg import spsolve
from scipy.spatial import Delaunay
from scipy.spatial.distance import pdist

from ..mesh import GROUP_PATCH, Mesh, border_loops
from ..progress import QUIET, Run
from .clip import frame_of


@dataclass(frozen=True)
class Hole:
    """One hole in a surface.

    rim      : vertex numbers in border direction; middle_mm
    width_mm : the longest way straight across
    """

    rim: NDArray[np.int32]
    middle_mm: NDArray[np.float64]
    width_mm: float


def holes_of(mesh: Mesh, *, rim: bool = True) -> list[Hole]:
    """Every closed border, widest first; but the outer one (the longest), where there is a rim: what came as a closed solid has none."""
    return [Hole(loop, mesh.vertices_mm[loop].mean(0), _across(mesh.vertices_mm[loop])) for loop in border_loops(mesh)[int(rim) :]]


def _across(p: NDArray) -> float:
    """The largest distance between two points of the rim; of a very long rim every few points are enough."""
    return float(pdist(p[:: max(len(p) // 800, 1)]).max())


@nb.njit(cache=True)
def _least_area(p):
    n = len(p)
    weight = np.zeros((n, n))
    split = np.full((n, n), -1, np.int64)
    for span in range(2, n):
        for i in range(n - span):
            k = i + span
            best, at = np.inf, -1
            for m in range(i + 1, k):
                cross = np.cross(p[m] - p[i], p[k] - p[i])
                w = weight[i, m] + weight[m, k] + np.sqrt((cross * cross).sum())
                if w < best:
                    best, at = w, m
            weight[i, k], split[i, k] = best, at
    out = np.empty((n - 2, 3), np.int64)
    stack = np.empty((2 * n, 2), np.int64)
    stack[0, 0], stack[0, 1] = 0, n - 1
    top, c = 1, 0
    while top:
        top -= 1
        i, k = stack[top]
        if k - i < 2:
            continue
        m = split[i, k]
        out[c, 0], out[c, 1], out[c, 2] = i, m, k
        c += 1
        stack[top, 0], stack[top, 1] = i, m
        stack[top + 1, 0], stack[top + 1, 1] = m, k
        top += 2
    return out


@nb.njit(cache=True)
def _inside(polygon, points):
    out = np.zeros(len(points), np.bool_)
    n = len(polygon)
    for q in range(len(points)):
        x, y = points[q]
        for i in range(n):
            ax, ay = polygon[i]
            bx, by = polygon[(i + 1) % n]
            if (ay > y) != (by > y) and x < (bx - ax) * (y - ay) / (by - ay) + ax:
                out[q] = not out[q]
    return out


def _grid_points(q: NDArray, step: float) -> NDArray:
    low, high = q.min(0), q.max(0)
    rows = np.arange(low[1] + step * 0.5, high[1], step * 0.866)
    columns = [np.arange(low[0] + (i % 2) * step / 2, high[0], step) for i in range(len(rows))]
    grid = [np.stack([x, np.full(len(x), y)], axis=1) for x, y in zip(columns, rows, strict=True)]
    if not grid:
        return np.zeros((0, 2))
    points = np.vstack(grid)
    points = points[_inside(q, points)]
    if len(points) == 0:
        return points
    gap = np.linalg.norm(points[:, None] - q[None], axis=2).min(1)
    return points[gap > 0.6 * step]


def _plane_patch(p: NDArray, step: float) -> tuple[NDArray, NDArray] | None:
    """(new points, faces over rim then new) or None where the rim does not project to a simple polygon."""
    normal = np.cross(p, np.roll(p, -1, axis=0)).sum(0)
    if np.linalg.norm(normal) < 1e-12:
        return None
    frame, middle = frame_of(normal), p.mean(0)
    q = np.ascontiguousarray(((p - middle) @ frame.T)[:, :2])
    inner = _grid_points(q, step)
    flat = np.vstack([q, inner])
    try:
        faces = Delaunay(flat).simplices.astype(np.int64)
    except (ValueError, RuntimeError):
        return None
    faces = faces[_inside(q, flat[faces].mean(1))]
    e, g = flat[faces[:, 1]] - flat[faces[:, 0]], flat[faces[:, 2]] - flat[faces[:, 0]]
    area = e[:, 0] * g[:, 1] - e[:, 1] * g[:, 0]
    faces[area < 0] = faces[area < 0][:, ::-1]
    faces = faces[np.abs(area) > 1e-12]
    return (middle + inner @ frame[:2], faces) if _fits(faces, len(p)) else None


def _fits(faces: NDArray, n: int) -> bool:
    """The border of the patch is exactly the rim, once around, and every other edge has two faces."""
    half = np.vstack([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]])
    pairs = set(map(tuple, half.tolist()))
    free = {(a, b) for a, b in pairs if (b, a) not in pairs}
    return len(pairs) == len(half) and free == {(i, (i + 1) % n) for i in range(n)}


def _split_large(p: NDArray, faces: NDArray, step: float) -> tuple[NDArray, NDArray]:
    """Points in the middle of faces much larger than the mesh around, so that the fairing has something to move."""
    points = list(p)
    for _ in range(3):
        out = []
        for a, b, c in faces.tolist():
            middle = (points[a] + points[b] + points[c]) / 3
            if min(np.linalg.norm(points[k] - middle) for k in (a, b, c)) > 0.9 * step:
                points.append(middle)
                k = len(points) - 1
                out += [(a, b, k), (b, c, k), (c, a, k)]
            else:
                out.append((a, b, c))
        if len(out) == len(faces):
            break
        faces = np.array(out)
    return np.array(points[len(p) :]).reshape(-1, 3), faces


def _laplacian(p: NDArray, faces: NDArray) -> sparse.csr_matrix:
    i, j, k = faces.T
    edges = (p[k] - p[j], p[i] - p[k], p[j] - p[i])
    double = np.maximum(np.linalg.norm(np.cross(edges[0], edges[1]), axis=1), 1e-12)
    cot = [np.clip(-np.einsum("ij,ij->i", edges[a], edges[b]) / double, 1e-3, 1e3) for a, b in ((1, 2), (2, 0), (0, 1))]
    row, col = np.r_[j, k, k, i, i, j], np.r_[k, j, i, k, j, i]
    weight = 0.5 * np.r_[cot[0], cot[0], cot[1], cot[1], cot[2], cot[2]]
    w = sparse.coo_matrix((weight, (row, col)), shape=(len(p), len(p))).tocsr()
    total = np.asarray(w.sum(1)).ravel()
    return (sparse.diags(1 / np.maximum(total, 1e-12)) @ (w - sparse.diags(total))).tocsr()


def _fair(vertices: NDArray, faces: NDArray, first_new: int) -> NDArray:
    """Bilaplacian: the new vertices (numbers from first_new) continue the curvature of the faces around."""
    used, local = np.unique(faces, return_inverse=True)
    local = local.reshape(-1, 3)
    p = vertices[used].copy()
    free = used >= first_new
    edge = np.sort(np.vstack([local[:, [0, 1]], local[:, [1, 2]], local[:, [2, 0]]]), axis=1)
    unique, count = np.unique(edge, axis=0, return_counts=True)
    whole = np.ones(len(used), bool)
    whole[unique[count == 1].ravel()] = False
    for _ in range(2):
        lap = _laplacian(p, local)[whole]
        m = (lap.T @ lap).tocsr()
        p[free] = np.asarray(spsolve(m[free][:, free].tocsc(), -(m[free][:, ~free] @ p[~free]))).reshape(-1, 3)
    return p[free]


def close_holes(
    mesh: Mesh, *, up_to_mm: float, rim: bool = True, open_at: NDArray[np.float64] | None = None, run: Run = QUIET
) -> tuple[Mesh, list[Hole], list[Hole]]:
    """Close every hole up to that width. Returns the mesh, the holes closed and those left open. open_at : (k, 3) places of holes that
    stay open as they are; those are in neither list. rim : see holes_of."""
    todo = [h for h in holes_of(mesh, rim=rim) if not _meant(h, open_at)]
    small = [h for h in todo if h.width_mm <= up_to_mm and len(h.rim) <= 1200]
    left = [h for h in todo if not (h.width_mm <= up_to_mm and len(h.rim) <= 1200)]
    if not small:
        return mesh, [], left
    around = _faces_around(mesh)
    edge = mesh.vertices_mm[mesh.faces[:, 0]] - mesh.vertices_mm[mesh.faces[:, 1]]
    step = float(np.linalg.norm(edge, axis=1).mean())
    vertices, faces, added = [mesh.vertices_mm], [mesh.faces], len(mesh.vertices_mm)
    for number, hole in enumerate(small):
        run.tick(number / len(small), "closing holes")
        new, patch = _patch(mesh, hole, step, around, added)
        vertices.append(new)
        faces.append(patch)
        added += len(new)
    return mesh.plus(np.vstack(vertices[1:]), np.vstack(faces[1:]), GROUP_PATCH) if small else mesh, small, left


def _meant(hole: Hole, places: NDArray | None) -> bool:
    return (
        places is not None and len(places) > 0 and bool(np.linalg.norm(places - hole.middle_mm, axis=1).min() < max(hole.width_mm / 2, 1.0))
    )


def _faces_around(mesh: Mesh) -> sparse.csr_matrix:
    row = mesh.faces.ravel()
    col = np.repeat(np.arange(mesh.triangles), 3)
    return sparse.csr_matrix((np.ones(len(row), np.int8), (row, col)), shape=(len(mesh.vertices_mm), mesh.triangles))


def _patch(mesh: Mesh, hole: Hole, step: float, around: sparse.csr_matrix, first_new: int) -> tuple[NDArray, NDArray]:
    rim = hole.rim[::-1].astype(np.int64)  # the patch runs against the border
    p = mesh.vertices_mm[rim]
    found = _plane_patch(p, step) if len(rim) > 4 else None
    if found is None:
        new, local = _split_large(p, _least_area(np.ascontiguousarray(p)), step)
    else:
        new, local = found
    patch = np.r_[rim, first_new + np.arange(len(new))][local]
    if len(new):
        ring = np.unique(mesh.faces[np.unique(around[rim].indices)])
        near = np.unique(around[ring].indices)
        # Numbers between the scan and first_new belong to other patches: leave room for them.
        table = np.vstack([mesh.vertices_mm, np.zeros((first_new - len(mesh.vertices_mm), 3)), new])
        fair = _fair(table, np.vstack([mesh.faces[near], patch]), first_new)
        # A fairing that runs away (a rim folded onto itself) is worse than none.
        new = fair if np.isfinite(fair).all() and np.abs(fair - new).max() < 2 * hole.width_mm + 1 else new
    return new, patch
