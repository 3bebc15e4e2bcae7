"""A denture, or a piece that was split off, as one body with the jaw it lies on, though some hundredths of a millimetre are between them.

Two scans of the surface where they meet go in and out of each other: a plain union gives splinters and pockets. So the side of the other
body that faces the jaw is pushed into it by the widest gap and a little more, less and less towards its rim; all else stays where it is,
and the union is one solid.
"""

from __future__ import annotations

from dataclasses import dataclass

import manifold3d
import numpy as np
from numpy.typing import NDArray

from ..errors import StepFailed
from ..mesh import GROUP_CUT, GROUP_PATCH, MADE, Mesh, vertex_normals, volume_ml, volumes_mm3
from ..mesh.topology import check_solid, face_components
from ..ops.assembly import CRUMB_MM3
from ..ops.closest import ClosestPoints
from ..ops.geodesic import distances
from ..ops.holes import close_holes
from ..ops.mend import mend
from ..progress import QUIET, Run
from ..words import capital

# It goes so much deeper than the widest gap, and again where pockets are left; over so much from the rim it comes to that.
_DEEPER_MM, _RIM_MM = 0.05, 0.8
_TRIES = 4
# From this share of the push on a place is no longer at the rim.
_INNER = 0.5
_HARDLY = 0.01
# Two surfaces face each other where the cosine between their normals is below this; farther off, nothing is looked at.
_FACING = -0.3
_LOOKED_MM = 4.0
# Holes up to this width are closed.
_HOLE_MM = 8.0
_SMOOTHED = 4


@dataclass(frozen=True)
class Joined:
    """A body ready to be united with its jaw's, in the jaw's home.

    solid       : closed, with its facing side pushed in
    gap_mm      : the widest gap that was between them; deep_mm : how deep they were in each other, but for a hundredth of
                  that side
    pushed_mm   : how far a point of the facing side was moved, at most; nothing else was
    facing_mm2  : how much of it faces the jaw within reach
    pockets_mm3 : of hollows that stay between them
    """

    solid: Mesh
    gap_mm: float
    deep_mm: float
    pushed_mm: float
    facing_mm2: float
    pockets_mm3: float


def whole(mesh: Mesh, name: str) -> Mesh:
    """Closed and facing outwards, small holes closed. Raises StepFailed for what is open."""
    mesh = mend(mesh).mesh
    if not check_solid(mesh).ok:
        mesh = close_holes(mesh, up_to_mm=_HOLE_MM)[0]
    check = check_solid(mesh)
    if check.open_edges:
        text = f"{capital(name)} is open ({check.open_edges} open edges): only a closed body can be one with a model."
        raise StepFailed(f"{text} Scan its other side too, or save it closed.", code="join-open")
    return mesh if volume_ml(mesh) > 0 else mesh.turned_inside_out()


def joined_on(body: Mesh, other: Mesh, *, reach_mm: float, name: str = "it", run: Run = QUIET) -> Joined:
    """`other` made ready to be one with `body`, both closed and in the jaw's home. reach_mm : gaps up to this are closed. Raises
    StepFailed where nothing of it is so near."""
    run.tick(0.1, "looking where they meet")
    away, hits = ClosestPoints(body).signed(other.vertices_mm, within_mm=_LOOKED_MM)
    normals = vertex_normals(other)
    facing = (hits.face >= 0) & (np.einsum("ij,ij->i", normals, _normals_at(body, hits.face)) < _FACING)
    near = facing & (away < reach_mm)
    if not near[other.faces].all(1).any():
        least = float(away[facing].min(initial=np.inf))
        more = f"it is {least:.2f} mm off at the least" if np.isfinite(least) else f"nothing of it is within {_LOOKED_MM:.0f} mm"
        raise StepFailed(f"{capital(name)} does not lie on the model: {more}. Look where it lies, or join across more.", code="join-apart")
    share, inwards = _share(other, near), _smoothed(other, normals)
    inner = near & (share >= _INNER)
    # At the rim the two part, as they should.
    met = away[inner if inner.any() else near]
    gap = max(float(met.max()), 0.0)
    best: tuple[Mesh, float, float] | None = None
    for k in range(_TRIES):
        run.tick(0.3 + 0.15 * k, "pushing it in")
        push = gap + _DEEPER_MM * (k + 1)
        moved = Mesh.of(other.vertices_mm + inwards * (push * share)[:, None], other.faces)
        bodies, pockets = _united(body, moved)
        if bodies == 1 and (best is None or pockets < best[2]):
            best = moved, push * float(share.max()), pockets
        if best is not None and not best[2]:
            break
    if best is None:
        raise StepFailed(f"{capital(name)} and the model do not become one body: they touch too little.", code="join-apart")
    made = np.full(other.triangles, MADE, np.int32)
    return Joined(
        solid=Mesh.of(best[0].vertices_mm, other.faces, np.full(other.triangles, GROUP_PATCH, np.uint8), made), gap_mm=gap,
        deep_mm=max(float(-np.quantile(met, _HARDLY)), 0.0), pushed_mm=best[1], facing_mm2=_area(other, near), pockets_mm3=best[2],
    )  # fmt: skip


def _normals_at(body: Mesh, face: NDArray) -> NDArray[np.float64]:
    """(n, 3) of the body's faces; nought where there is none."""
    corner = body.vertices_mm[body.faces]
    normal = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1), 1e-30)[:, None]
    return np.where((face >= 0)[:, None], normal[np.maximum(face, 0)], 0.0)


def _share(mesh: Mesh, near: NDArray[np.bool_]) -> NDArray[np.float64]:
    """(n,) how much of the push each vertex gets: none where it belongs to a face that stays, all so far from there."""
    inside = near[mesh.faces].all(1)
    stays = np.zeros(len(near), bool)
    stays[mesh.faces[~inside]] = True
    first = np.where(stays, 0.0, np.inf)
    far = np.minimum(distances(mesh, first, reach_mm=_RIM_MM), _RIM_MM) / _RIM_MM
    return np.where(near & ~stays, far * far * (3 - 2 * far), 0.0)


def _smoothed(mesh: Mesh, normals: NDArray) -> NDArray[np.float64]:
    """Unit normals evened out over their neighbours: pushed along them, noise does not fold."""
    i, j = mesh.faces.ravel(), np.roll(mesh.faces, -1, axis=1).ravel()
    for _ in range(_SMOOTHED):
        total = normals.copy()
        for axis in range(3):
            total[:, axis] += np.bincount(i, normals[j, axis], len(normals)) + np.bincount(j, normals[i, axis], len(normals))
        normals = total / np.maximum(np.linalg.norm(total, axis=1), 1e-30)[:, None]
    return normals


def _united(body: Mesh, other: Mesh) -> tuple[int, float]:
    """(how many bodies, mm³ of hollows that the union has and neither of the two; those that the assembly fills do not count)."""
    solids = [solid_of(body), solid_of(other)]
    both = manifold3d.Manifold.batch_boolean(solids, manifold3d.OpType.Add)
    volumes, had = _volumes(both), sum(int((_volumes(s) < -CRUMB_MM3).sum()) for s in solids)
    hollows = np.sort(-volumes[volumes < -CRUMB_MM3])
    return int((volumes > CRUMB_MM3).sum()), float(hollows[: max(len(hollows) - had, 0)].sum())


def solid_of(mesh: Mesh) -> manifold3d.Manifold:
    """Of the library; raises StepFailed for what is not closed."""
    solid = manifold3d.Manifold(manifold3d.Mesh64(np.array(mesh.vertices_mm), np.array(mesh.faces, np.uint64)))
    if solid.status() != manifold3d.Error.NoError or solid.is_empty():
        raise StepFailed("What is to be joined is not one closed solid.", code="not-solid")
    return solid


def mesh_of(solid: manifold3d.Manifold) -> Mesh:
    """A solid of the library, made by us: no face is the scan's."""
    out = solid.to_mesh64()
    corners = np.asarray(out.vert_properties)[:, :3]
    # Corners on a seam are there once for each side.
    merge = np.arange(len(corners))
    merge[np.asarray(out.merge_from_vert).astype(np.int64)] = np.asarray(out.merge_to_vert).astype(np.int64)
    faces = merge[np.asarray(out.tri_verts).astype(np.int64)]
    return Mesh.of(corners, faces, np.full(len(faces), GROUP_CUT, np.uint8), np.full(len(faces), MADE, np.int32))


def _volumes(solid: manifold3d.Manifold) -> NDArray[np.float64]:
    """(k,) mm³ of its pieces: hollows are below nought."""
    mesh = mesh_of(solid)
    count, piece = face_components(mesh)
    return volumes_mm3(mesh, piece, count)


def _area(mesh: Mesh, near: NDArray[np.bool_]) -> float:
    part = mesh.faces[near[mesh.faces].all(1)]
    a, b, c = (mesh.vertices_mm[part[:, k]] for k in range(3))
    return float(np.linalg.norm(np.cross(b - a, c - a), axis=1).sum() / 2)
