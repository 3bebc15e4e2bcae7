"""Many rough placements of one surface on another, tried at once.

Iterative closest points, point to plane (Chen and Medioni, Object modelling by registration of multiple range images, 1992;
from memory), for all starts side by side; what stays farthest from the best is dropped on the way.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from ..mesh import Mesh, vertex_normals
from ..mesh.measures import face_areas_mm2

# (points used, starts kept afterwards, rounds, reach in mm at the start and at the end)
_ROUNDS = ((120, 12, 5, 5.0, 2.5), (300, 4, 5, 2.5, 1.2), (900, 3, 6, 1.2, 0.5))
# A point counts as met when it lies this near, with the normals this much alike.
_MET_MM, _ALIKE = 0.25, 0.8


@dataclass(frozen=True)
class Samples:
    """Points of a surface.

    points_mm : (k, 3) spread evenly over a surface
    normals   : (k, 3) unit, outward
    """

    points_mm: NDArray[np.float64]
    normals: NDArray[np.float64]

    def tree(self) -> cKDTree:
        return cKDTree(self.points_mm)

    def thinned(self, count: int) -> Samples:
        if len(self.points_mm) <= count:
            return self
        pick = np.linspace(0, len(self.points_mm) - 1, count).astype(int)
        return Samples(self.points_mm[pick], self.normals[pick])

    def turned(self) -> Samples:
        """Of the same surface inside-out."""
        return Samples(self.points_mm, -self.normals)

    def where(self, keep: NDArray[np.bool_]) -> Samples:
        return Samples(self.points_mm[keep], self.normals[keep])


def samples_of(mesh: Mesh, count: int) -> Samples:
    """Vertices, picked evenly over the surface: of a scan they lie on what was scanned, the middles of its triangles
    lie under it. The same every time, in an order without pattern, so that every part of them is spread evenly too."""
    area = face_areas_mm2(mesh)
    total = np.cumsum(area)
    pick = np.minimum(np.searchsorted(total, (np.arange(count) + 0.5) / count * total[-1]), mesh.triangles - 1)
    pick = np.random.default_rng(0).permutation(np.unique(mesh.faces[pick, 0]))
    return Samples(mesh.vertices_mm[pick], vertex_normals(mesh)[pick])


@dataclass(frozen=True)
class Candidate:
    """A rough placement.

    matrix : (4, 4) source to target
    met    : share of the source's points that lie on the target (0 to 1)
    """

    matrix: NDArray[np.float64]
    met: float


def best_of(source: Samples, target: Samples, starts: NDArray[np.float64]) -> list[Candidate]:
    """The placements the (s, 4, 4) starts settle into, the best first; no two of them alike."""
    tree = target.tree()
    poses = np.asarray(starts, np.float64).copy()
    met = np.zeros(len(poses))
    for count, keep, rounds, reach, end in _ROUNDS:
        part = source.thinned(count)
        for q in np.geomspace(reach, end, rounds):
            poses = _stepped(poses, part, target, tree, q)
        met = _met(poses, part, target, tree)
        order = np.argsort(-met, kind="stable")
        order = _apart(poses, order, part.points_mm.mean(0))[:keep]
        poses, met = poses[order], met[order]
    return [Candidate(m, float(s)) for m, s in zip(poses, met, strict=True)]


def _matched(poses: NDArray, part: Samples, target: Samples, tree: cKDTree, reach: float) -> tuple:
    """(y, n, r, w): moved points (s, k, 3), normals of what they meet, distances along them, and who counts (0 or 1)."""
    rotation, shift = poses[:, :3, :3], poses[:, :3, 3]
    y = np.einsum("sij,kj->ski", rotation, part.points_mm) + shift[:, None, :]
    own = np.einsum("sij,kj->ski", rotation, part.normals)
    distance, index = tree.query(y.reshape(-1, 3), distance_upper_bound=reach)
    found = np.isfinite(distance)
    index = np.where(found, index, 0)
    n = target.normals[index].reshape(y.shape)
    r = np.einsum("ski,ski->sk", y - target.points_mm[index].reshape(y.shape), n)
    w = found.reshape(r.shape) & (np.einsum("ski,ski->sk", own, n) > 0.5)
    return y, n, r, w.astype(float)


def _stepped(poses: NDArray, part: Samples, target: Samples, tree: cKDTree, reach: float) -> NDArray:
    y, n, r, w = _matched(poses, part, target, tree, reach)
    # What lies far off counts little: the other half of a bite scan lies on the other jaw.
    w = w / (1 + (r / (0.35 * reach)) ** 2) ** 2
    middle = (w[..., None] * y).sum(1) / np.maximum(w.sum(1), 1e-9)[:, None]
    j = np.concatenate([np.cross(y - middle[:, None, :], n), n], axis=2)
    a = np.einsum("ski,sk,skj->sij", j, w, j) + 1e-3 * np.eye(6)
    b = np.einsum("ski,sk,sk->si", j, w, r)
    x = -np.linalg.solve(a, b[..., None])[..., 0]
    # No step turns further than 12 degrees or moves further than the reach.
    long = np.maximum(np.linalg.norm(x[:, :3], axis=1) / 0.21, np.linalg.norm(x[:, 3:], axis=1) / reach)
    x /= np.maximum(long, 1.0)[:, None]
    turn = Rotation.from_rotvec(x[:, :3]).as_matrix()
    out = poses.copy()
    out[:, :3, :3] = turn @ poses[:, :3, :3]
    out[:, :3, 3] = np.einsum("sij,sj->si", turn, poses[:, :3, 3] - middle) + middle + x[:, 3:]
    return out


def _met(poses: NDArray, part: Samples, target: Samples, tree: cKDTree) -> NDArray:
    _, n, r, w = _matched(poses, part, target, tree, 3 * _MET_MM + 0.5)
    own = np.einsum("sij,kj->ski", poses[:, :3, :3], part.normals)
    alike = np.einsum("ski,ski->sk", own, n) > _ALIKE
    return ((np.abs(r) < _MET_MM) & alike & (w > 0)).mean(1)


def _apart(poses: NDArray, order: NDArray, middle: NDArray) -> NDArray:
    """Of placements within 1 mm and 3 degrees of each other, only the first."""
    at = poses[:, :3, :3] @ middle + poses[:, :3, 3]
    kept: list[int] = []
    for k in order:
        same = [
            i
            for i in kept
            if np.linalg.norm(at[i] - at[k]) < 1.0 and (np.trace(poses[i, :3, :3].T @ poses[k, :3, :3]) - 1) / 2 > np.cos(np.radians(3.0))
        ]
        if not same:
            kept.append(int(k))
    return np.array(kept, int)
