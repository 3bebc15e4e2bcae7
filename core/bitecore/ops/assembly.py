"""Solids joined to a body and cut from it in as few boolean passes as can be. Where the body's surface came from is kept for
every face; a face that no solid touches keeps its corners bit for bit."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import manifold3d
import numpy as np
from numpy.typing import NDArray

from ..errors import StepFailed
from ..mesh import GROUP_CUT, GROUP_SCAN, MADE, Mesh, volumes_mm3
from ..mesh.topology import check_solid, face_components
from ..progress import QUIET, Run
from ..words import capital

_AREA_MM2 = 1e-9
# A piece so small is a splinter.
CRUMB_MM3 = 1.0


@dataclass(frozen=True)
class Assembled:
    """body     : one mesh, perhaps of several parts
    moved_um : how far a corner of what is left of the body's own faces lies off the face it came from, at most
    touched  : how many of the body's faces were cut, or taken away
    """

    body: Mesh
    moved_um: float
    touched: int


class _Bodies:
    """Meshes for the library, each face with its own number across all of them."""

    def __init__(self) -> None:
        self.meshes: list[Mesh] = []
        self.ids: list[int] = []

    def take(self, mesh: Mesh, name: str) -> manifold3d.Manifold:
        """Raises StepFailed for what is no closed solid."""
        number = manifold3d.Manifold.reserve_ids(1)
        # The library wants arrays it may own: locked ones it refuses.
        solid = manifold3d.Manifold(
            manifold3d.Mesh64(
                np.array(mesh.vertices_mm), np.array(mesh.faces, np.uint64),
                run_original_id=np.array([number], np.uint32), run_index=np.array([0, 3 * mesh.triangles], np.uint64),
                face_id=np.arange(mesh.triangles, dtype=np.uint64),
            )
        )  # fmt: skip
        if solid.status() != manifold3d.Error.NoError or solid.is_empty():
            raise StepFailed(f"{capital(name)} is not one closed solid, so it cannot be put together.", code="not-solid")
        self.meshes.append(mesh)
        self.ids.append(number)
        return solid

    def back(self, solid: manifold3d.Manifold) -> tuple[Mesh, NDArray[np.int64], NDArray[np.int64]]:
        """(mesh, (m,) which of the meshes each face came from, (m,) which face of it)."""
        out = solid.to_mesh64()
        corners = np.asarray(out.vert_properties)[:, :3]
        faces = np.asarray(out.tri_verts).astype(np.int64)
        # Corners on a seam are there once for each side.
        merge = np.arange(len(corners))
        merge[np.asarray(out.merge_from_vert).astype(np.int64)] = np.asarray(out.merge_to_vert).astype(np.int64)
        ends = np.asarray(out.run_index).astype(np.int64) // 3
        which = np.full(len(faces), -1, np.int64)
        for number, start, end in zip(np.asarray(out.run_original_id), ends[:-1], ends[1:], strict=False):
            which[start:end] = self.ids.index(int(number))
        face = np.asarray(out.face_id).astype(np.int64)
        groups = np.full(len(faces), GROUP_CUT, np.uint8)
        source = np.full(len(faces), MADE, np.int32)
        for index, mesh in enumerate(self.meshes):
            own = which == index
            groups[own], source[own] = mesh.groups[face[own]], mesh.source[face[own]]
        # What no scan has is never taken for a scan's surface, whatever a solid's own groups say.
        groups[(source == MADE) & (groups == GROUP_SCAN)] = GROUP_CUT
        made = Mesh.of(corners, merge[faces], groups, source)
        return made.of_faces(np.ones(made.triangles, bool)), which, face


def assemble(
    body: Mesh, *, add: Sequence[tuple[str, Mesh]] = (), cut: Sequence[tuple[str, Mesh]] = (), only: tuple[str, Mesh] | None = None,
    filled: bool = False, run: Run = QUIET,
) -> Assembled:  # fmt: skip
    """The body with `add` joined to it, then without `cut`, and of that only what lies within `only`; each solid with what it
    is called.

    All that is added goes in one pass, all that is cut in a second; splinters that cutting leaves are dropped, and `filled` fills hollows
    as small. Raises StepFailed where
    one of them is not a closed solid, or nothing is left.
    """
    bodies = _Bodies()
    out = bodies.take(body, "the body")
    if add:
        run.tick(0.1, "joining")
        out = manifold3d.Manifold.batch_boolean([out, *(bodies.take(m, name) for name, m in add)], manifold3d.OpType.Add)
    if cut:
        run.tick(0.4, "cutting")
        out = manifold3d.Manifold.batch_boolean([out, *(bodies.take(m, name) for name, m in cut)], manifold3d.OpType.Subtract)
    if only is not None:
        run.tick(0.7, "splitting")
        out = out ^ bodies.take(only[1], only[0])
    if out.status() != manifold3d.Error.NoError or out.num_tri() == 0:
        raise StepFailed("Nothing is left of the body when everything is put together.", code="nothing-left")
    run.tick(0.8, "checking")
    made, which, face = bodies.back(out)
    if cut or only is not None or filled:
        keep = _whole(made)
        made, which, face = made.of_faces(keep), which[keep], face[keep]
    check = check_solid(made)
    if check.open_edges:
        raise StepFailed(f"What was put together is not closed ({check.open_edges} open edges).", code="body-open")
    moved, whole = _moved(made, body, which == 0, face)
    return Assembled(made, moved, body.triangles - whole)


def _whole(mesh: Mesh) -> NDArray[np.bool_]:
    """(m,) faces of all but splinters that a cut leaves in the air beside the body, of use to nobody."""
    count, piece = face_components(mesh)
    # A cavity is a piece too, of a volume below nought.
    large = np.abs(volumes_mm3(mesh, piece, count)) > CRUMB_MM3
    return large[piece] if large.any() else np.ones(mesh.triangles, bool)


def _moved(made: Mesh, body: Mesh, own: NDArray[np.bool_], face: NDArray[np.int64]) -> tuple[float, int]:
    """(how far corners of the body's own faces lie off the plane of the face they came from, at most, in µm; how many of its
    faces are there bit for bit)."""
    now, was = made.vertices_mm[made.faces[own]], body.vertices_mm[body.faces[face[own]]]
    # The library may begin a face at another of its corners.
    same = np.zeros(len(now), bool)
    for turn in range(3):
        same |= (now == np.roll(was, turn, axis=1)).all((1, 2))
    now, was = now[~same], was[~same]
    normal = np.cross(was[:, 1] - was[:, 0], was[:, 2] - was[:, 0])
    area = np.linalg.norm(normal, axis=1)
    sound = area > _AREA_MM2
    off = np.abs(np.einsum("ikj,ij->ik", now - was[:, :1], normal / np.maximum(area, _AREA_MM2)[:, None]))[sound]
    return 1000.0 * float(off.max(initial=0.0)), int(same.sum())
