"""What is settled on what: surfaces with their trees, links between bodies, and the equations they give at some poses."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh, vertex_normals
from ..mesh.topology import at_border
from .closest import ClosestPoints
from .starts import Samples


class Target:
    """A surface to settle on, with its tree; made once."""

    def __init__(self, mesh: Mesh) -> None:
        self.mesh = mesh
        self._tree = ClosestPoints(mesh)
        self._rim = at_border(mesh)
        self._normals = vertex_normals(mesh)

    def meet(self, points: NDArray, reach: float) -> tuple[NDArray, NDArray, NDArray]:
        """(closest (k, 3), normals (k, 3), found (k,)); what is nearest to an open border has not been met.

        Triangles lie under the round surface that was scanned: the closest point is lifted half way to the tangent
        planes of its corners (after Boubekeur and Alexa, Phong tessellation, 2008; from memory; half is exact on a circle).
        """
        hits = self._tree.query(points, within_mm=reach)
        face = np.maximum(hits.face, 0)
        corner = self.mesh.faces[face]
        v, w = hits.weights[:, :1], hits.weights[:, 1:]
        n, lift = np.zeros_like(hits.point_mm), np.zeros_like(hits.point_mm)
        for k, share in enumerate((1 - v - w, v, w)):
            own = self._normals[corner[:, k]]
            n += own * share
            off = np.einsum("ij,ij->i", self.mesh.vertices_mm[corner[:, k]] - hits.point_mm, own)
            lift += own * off[:, None] * share
        n /= np.maximum(np.linalg.norm(n, axis=1), 1e-12)[:, None]
        return hits.point_mm + 0.5 * lift, n, (hits.face >= 0) & ~self._rim[face]


@dataclass(frozen=True)
class Link:
    """Points of body `moving`, in its own frame, lie on the surface of body `on`."""

    moving: str
    on: str
    points: Samples
    target: Target


@dataclass
class Rows:
    """One link's equations at the poses of now: J of a point of the moving body (that of `on` is its negative);

    w     : weights
    slope : how much a change of r counts, which is less, as the weight changes with it
    """

    j: NDArray
    r: NDArray
    w: NDArray
    slope: NDArray
    y: NDArray
    n: NDArray
    used: NDArray


def moved_by(m: NDArray, points: NDArray) -> NDArray:
    return points @ m[:3, :3].T + m[:3, 3]


def rows_of(link: Link, now: Mapping[str, NDArray], reach: float, middle: NDArray) -> Rows:
    y = moved_by(now[link.moving], link.points.points_mm)
    own = link.points.normals @ now[link.moving][:3, :3].T
    base = now[link.on]
    back = np.linalg.inv(base)
    point, normal, found = link.target.meet(moved_by(back, y), reach)
    n = normal @ base[:3, :3].T
    r = np.einsum("ij,ij->i", y - moved_by(base, point), n)
    used = found & (np.einsum("ij,ij->i", own, n) > 0.7)
    scatter = 1.4826 * float(np.median(np.abs(r[used]))) + 1e-6 if used.sum() > 20 else reach
    u2 = (r / (3 * scatter)) ** 2
    w = np.where(used, 1 / (1 + u2) ** 2, 0.0) / scatter**2
    slope = np.where(used, (1 - 3 * u2) / (1 + u2) ** 3, 0.0) / scatter**2
    return Rows(np.concatenate([np.cross(y - middle, n), n], axis=1), r, w, slope, y, n, used)
