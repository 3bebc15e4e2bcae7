"""A small block of known size that goes out beside a jaw and says, when a file comes back with it, where that file lay.

A box with three different edges and one corner cut off: no turn but one lays it on itself. The lower's is longer than the
upper's. It stands where the jaw's own facing puts it, as Intake saw it, so that nothing has to be remembered.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from itertools import product
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import ConvexHull
from scipy.spatial.transform import Rotation

from ..mesh import Mesh, area_mm2, area_vectors, face_areas_mm2, face_components, volume_ml
from ..ops.rigid import placed
from .occlusal import frame_basis

SIZES_MM = {"upper": (10.0, 7.0, 5.0), "lower": (12.0, 7.0, 5.0)}
_CUT_MM = 3.0
# Behind the incisal point and over the tips, between the sides, where neither jaw nor appliance reaches.
_BACK_MM, _OVER_MM = 22.0, 16.0
# A block that went through another program is still so much like itself.
_ALIKE, _SHARE, _WORST_MM = 0.02, 0.012, 0.05
_SAMPLES = 1500
# The error is told for points so far from the block: the far molars.
_LEVER_MM = 40.0


def block(jaw: str) -> Mesh:
    """The block of a jaw about its own middle, closed and outward, mm."""
    half = np.array(SIZES_MM[jaw]) / 2
    corners = [half * s for s in product((-1.0, 1.0), repeat=3) if s != (1.0, 1.0, 1.0)]
    corners += [half - _CUT_MM * np.eye(3)[k] for k in range(3)]
    points = np.array(corners)
    hull = ConvexHull(points)
    faces = hull.simplices.copy()
    a, b, c = (points[faces[:, k]] for k in range(3))
    inward = np.einsum("ij,ij->i", np.cross(b - a, c - a), hull.equations[:, :3]) < 0
    faces[inward] = faces[inward][:, ::-1]
    return Mesh.of(points, faces)


def stands_at(about: Mapping[str, Any]) -> NDArray[np.float64]:
    """(4, 4) block to the jaw's home, from Intake's words about the jaw."""
    up, front = np.array(about["up"]), np.array(about["front"])
    basis = frame_basis(up, front)
    middle = np.array(about["incisal"]) + _BACK_MM * basis[1] + _OVER_MM * basis[2]
    return placed(basis.T, middle)


@dataclass(frozen=True)
class FoundBlock:
    """A reference block that was found in a scan.

    jaw      : whose block
    matrix   : (4, 4) block to the file's own place
    rms_mm   : of its faces off the known ones
    error_mm : RMS error to expect at the far teeth
    """

    jaw: str
    matrix: NDArray[np.float64]
    rms_mm: float
    error_mm: float


def find(mesh: Mesh) -> FoundBlock | None:
    """The block among the pieces of a mesh (mm, outward); None where there is none, or more than one."""
    count, label = face_components(mesh)
    areas = np.bincount(label, face_areas_mm2(mesh), count)
    found = []
    for jaw in SIZES_MM:
        known = block(jaw)
        for c in np.flatnonzero(np.abs(areas / area_mm2(known) - 1) < _ALIKE):
            part = mesh.of_faces(label == c)
            if abs(volume_ml(part) / volume_ml(known) - 1) < _ALIKE:
                best = _laid(part, known, jaw)
                found += [best] if best.rms_mm < _WORST_MM else []
    return found[0] if len(found) == 1 else None


def _laid(part: Mesh, known: Mesh, jaw: str) -> FoundBlock:
    """The known block's faces on a piece's, from all four ways its axes can lie."""
    points, normals = _on_faces(part)
    axes = _axes(part)
    own = _axes(known)
    starts = []
    for flips in product((1.0, -1.0), repeat=3):
        turn = (axes * flips) @ own.T
        if np.linalg.det(turn) > 0:
            starts.append(placed(turn, _middle(part) - turn @ _middle(known)))
    return min((_settled(points, normals, known, start, jaw) for start in starts), key=lambda f: f.rms_mm)


def _middle(mesh: Mesh) -> NDArray:
    area = face_areas_mm2(mesh)
    return (mesh.vertices_mm[mesh.faces].mean(1) * area[:, None]).sum(0) / area.sum()


def _axes(mesh: Mesh) -> NDArray:
    """(3, 3) columns: principal axes of the surface, the widest last."""
    points, _ = _on_faces(mesh)
    return np.linalg.eigh(np.cov(points.T))[1]


def _on_faces(mesh: Mesh) -> tuple[NDArray, NDArray]:
    """(points, normals) spread evenly over the faces, which are flat: their insides lie on the block too."""
    total = np.cumsum(face_areas_mm2(mesh))
    pick = np.minimum(np.searchsorted(total, (np.arange(_SAMPLES) + 0.5) / _SAMPLES * total[-1]), mesh.triangles - 1)
    rng = np.random.default_rng(0)
    u = np.sqrt(rng.random(_SAMPLES))
    v = rng.random(_SAMPLES)
    weights = np.stack([1 - u, u * (1 - v), u * v], axis=1)
    points = np.einsum("kc,kcx->kx", weights, mesh.vertices_mm[mesh.faces[pick]])
    normals = area_vectors(mesh)[pick]
    return points, normals / np.linalg.norm(normals, axis=1, keepdims=True)


def _settled(points: NDArray, normals: NDArray, known: Mesh, start: NDArray, jaw: str) -> FoundBlock:
    """Least squares of the points off the planes of the known faces they look along; Gauss and Newton."""
    planes = area_vectors(known) / face_areas_mm2(known)[:, None]
    offset = np.einsum("ij,ij->i", planes, known.vertices_mm[known.faces[:, 0]])
    back = np.linalg.inv(start)
    for _ in range(8):
        here, look = points @ back[:3, :3].T + back[:3, 3], normals @ back[:3, :3].T
        face = (look @ planes.T).argmax(1)
        n = planes[face]
        r = np.einsum("ij,ij->i", here, n) - offset[face]
        j = np.concatenate([np.cross(here, n), n], axis=1)
        step = np.linalg.solve(j.T @ j, -j.T @ r)
        turn = Rotation.from_rotvec(step[:3]).as_matrix()
        back = placed(turn, step[3:]) @ back
    # A plain box lies on a block's planes too, but has nothing on the cut.
    shares = np.bincount(face, minlength=len(planes)) / len(r)
    same = planes @ planes.T > 0.999
    whole = face_areas_mm2(known) / area_mm2(known)
    alike = np.abs(same @ (shares - whole)).max() < _SHARE
    rms = float(np.sqrt(np.mean(r**2))) if alike else np.inf
    spread = np.linalg.inv(j.T @ j)[:3, :3] * max(float(np.mean(r**2)), 1e-12)
    # Neighbouring points of one face share their error: as if each face's points were but a few.
    error = float(np.sqrt(np.trace(spread) * _SAMPLES / 60)) * _LEVER_MM + rms
    return FoundBlock(jaw, np.linalg.inv(back), rms, error)
