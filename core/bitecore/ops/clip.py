"""Cut a mesh where a number given per vertex changes sign. A plane is the simplest such number."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

import manifold3d
import numba as nb
import numpy as np
from numpy.typing import ArrayLike, NDArray

from ..errors import StepFailed
from ..mesh import GROUP_CUT, Mesh, border_loops


@nb.njit(cache=True)
def _clip(faces, value, twin):
    """Keep value >= 0. New vertices are numbered from n in the order met; each edge is cut once."""
    m, n = faces.shape[0], value.shape[0]
    cut = np.full(3 * m, -1, np.int64)
    edge_a = np.empty(3 * m, np.int64)
    edge_b = np.empty(3 * m, np.int64)
    new = 0
    for h in range(3 * m):
        a, b = faces[h // 3, h % 3], faces[h // 3, (h % 3 + 1) % 3]
        if (value[a] > 0 and value[b] < 0) or (value[a] < 0 and value[b] > 0):
            t = twin[h]
            if t >= 0 and t < h and cut[t] >= 0:
                cut[h] = cut[t]
            else:
                # Always from the kept side, so that both faces compute the same point.
                edge_a[new], edge_b[new] = (a, b) if value[a] > 0 else (b, a)
                cut[h] = n + new
                new += 1
    out = np.empty((2 * m, 3), np.int64)
    parent = np.empty(2 * m, np.int64)
    k = 0
    poly = np.empty(6, np.int64)
    for f in range(m):
        size, inside = 0, False
        for c in range(3):
            v = faces[f, c]
            if value[v] >= 0:
                poly[size] = v
                size += 1
                inside = inside or value[v] > 0
            if cut[3 * f + c] >= 0:
                poly[size] = cut[3 * f + c]
                size += 1
        if not inside or size < 3:
            continue
        for j in range(1, size - 1):
            out[k, 0], out[k, 1], out[k, 2] = poly[0], poly[j], poly[j + 1]
            parent[k] = f
            k += 1
    return out[:k], parent[:k], edge_a[:new], edge_b[:new]


@dataclass(frozen=True)
class Clipped:
    """What a plane leaves of a mesh.

    mesh              : what is kept
    removed_triangles : faces of the input with nothing left
    """

    mesh: Mesh
    removed_triangles: int


class Height(Protocol):
    """A height over the plan: at((k, 3)) gives (k,)."""

    def at(self, points: NDArray) -> NDArray[np.float64]: ...


def clip(mesh: Mesh, values: ArrayLike, *, exactly: Height | None = None) -> Clipped:
    """Keep where the piecewise linear `values` (n,) are >= 0; kept vertices keep their numbers bit for bit.

    exactly : where values are z above a height that is not linear, each cut is placed on it along its edge.
    """
    from ..mesh import edge_table

    value = np.ascontiguousarray(values, np.float64)
    if not (value < 0).any():
        return Clipped(mesh, 0)
    # Crowded edges have no single twin: their cuts stay separate there.
    table = edge_table(mesh)
    twin = np.where(table.count == 2, table.twin, -1)
    faces, parent, a, b = _clip(mesh.faces, value, twin)
    share = value[a] / (value[a] - value[b])
    if exactly is not None:
        share = _placed(mesh.vertices_mm[a], mesh.vertices_mm[b], share, exactly)
    points = mesh.vertices_mm[a] + (mesh.vertices_mm[b] - mesh.vertices_mm[a]) * share[:, None]
    whole = Mesh.of(np.vstack([mesh.vertices_mm, points]), faces, mesh.groups[parent], mesh.source[parent])
    gone = int((value[mesh.faces] <= 0).all(1).sum())
    return Clipped(whole.of_faces(np.ones(whole.triangles, bool)), gone)


def _placed(start: NDArray, end: NDArray, share: NDArray, height: Height) -> NDArray[np.float64]:
    """Where along each edge (value > 0 at its start) z meets the height, by halving around the linear guess."""
    low, high = np.zeros(len(share)), np.ones(len(share))
    for _ in range(18):
        p = start + (end - start) * share[:, None]
        above = p[:, 2] - height.at(p) > 0
        low, high = np.where(above, share, low), np.where(above, high, share)
        share = 0.5 * (low + high)
    return share


def plane_values(mesh: Mesh, *, point_mm: ArrayLike, keep_towards: ArrayLike) -> NDArray[np.float64]:
    """(n,) signed distance in mm from a plane, positive on the side that is kept."""
    normal = np.asarray(keep_towards, np.float64)
    normal = normal / np.linalg.norm(normal)
    values = (mesh.vertices_mm - np.asarray(point_mm, np.float64)) @ normal
    # A vertex within a nanometre of the plane lies on it: no slivers thinner than the numbers can carry.
    values[np.abs(values) < 1e-6] = 0.0
    return values


def frame_of(normal: ArrayLike, front: ArrayLike | None = None) -> NDArray[np.float64]:
    """(3, 3) rotation whose third row is the unit normal and, where `front` is given, whose second one looks away from it."""
    z = np.asarray(normal, np.float64)
    z = z / np.linalg.norm(z)
    back = np.eye(3)[int(np.abs(z).argmin())] if front is None else -np.asarray(front, np.float64)
    x = np.cross(back, z)
    x /= np.linalg.norm(x)
    return np.stack([x, np.cross(z, x), z])


def saw_solid(mesh: Mesh, *, point_mm: ArrayLike, keep_towards: ArrayLike) -> Mesh:
    """Cut a closed body by a plane and close the cut flat. Raises StepFailed when nothing is left."""
    values = plane_values(mesh, point_mm=point_mm, keep_towards=keep_towards)
    if not (values < 0).any():
        return mesh
    kept = clip(mesh, values).mesh
    if kept.triangles == 0:
        raise StepFailed("The saw would take everything away. Move it off the model.", code="saw-takes-all")
    loops = border_loops(kept)
    if not loops:
        return kept
    flat = kept.vertices_mm @ frame_of(keep_towards).T
    rings = [flat[loop][:, :2] for loop in loops]
    faces = triangulate(rings)
    number = np.concatenate(loops)
    # Seen from the kept side the border runs with its faces; the closing faces look the other way.
    cap = number[faces][:, ::-1]
    return kept.plus([], cap, GROUP_CUT)


def triangulate(rings: list[NDArray[np.float64]]) -> NDArray[np.int64]:
    """Triangles over the concatenated corners of plane polygons, outer rings counter-clockwise, holes clockwise."""
    return np.asarray(manifold3d.triangulate(rings, -1.0), np.int64).reshape(-1, 3)
