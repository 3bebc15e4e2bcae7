"""Marks by hand on a jaw: fences, strokes of the swab, saws, whole pieces, put together in the order they were made into one region."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..mesh import Mesh
from ..mesh.topology import face_components
from ..ops.fence import fenced, near_field, near_side
from ..ops.fields import grown
from ..ops.geodesic import distances
from .swabbed import close_along

# Outside of every mark the region is so far away.
_FAR_MM = 5.0
# Farther than this from where a mark was made, nothing of the surface is left there.
_LOST_MM = 3.0
# A stroke begins on vertices so near to where it went, in usual edges; and points along it lie so close.
_FROM_EDGES, _ALONG_MM = 1.5, 0.2


@dataclass(frozen=True)
class Mark:
    """See runsheet/steps/marked.py; points_mm (k, 3), eye and towards (3,) in the jaw's home."""

    kind: str
    points_mm: NDArray[np.float64]
    adds: bool = True
    mm: float = 0.0
    eye: NDArray[np.float64] | None = None
    towards: NDArray[np.float64] | None = None
    reach: str = "asked"


@dataclass(frozen=True)
class Marked:
    """What one mark comes to: triangles it covers, and of a fence what it catches on the far side.

    beyond : (n,) of a fence, which vertices those are; before : (n,) what it holds on the near side
    """

    triangles: int = 0
    far: int = 0
    far_teeth: list[int] = field(default_factory=list)
    waits: bool = False
    lost: bool = False
    beyond: NDArray[np.bool_] | None = None
    before: NDArray[np.bool_] | None = None


@dataclass(frozen=True)
class Region:
    """value  : (n,) above nought on what is marked, taken as linear over each triangle
    caught : (n,) on the far side of a fence of which it is still to be said how far it reaches; waiting : (n,) on its near side
    """

    value: NDArray[np.float64]
    caught: NDArray[np.bool_]
    waiting: NDArray[np.bool_]
    marks: list[Marked]


def marked(mesh: Mesh, marks: Sequence[Mark], teeth: NDArray[np.int64]) -> Region:
    """teeth : (n,) the number of the tooth each vertex is on, nought on gum."""
    value = np.full(len(mesh.vertices_mm), -_FAR_MM)
    caught, waiting, said = np.zeros(len(value), bool), np.zeros(len(value), bool), []
    for mark in marks:
        if mark.kind == "invert":
            value = -value
            said.append(Marked())
        elif mark.kind == "grow":
            value = np.clip(grown(mesh, value, mark.mm), -_FAR_MM, _FAR_MM) if (value > 0).any() else value
            said.append(Marked())
        else:
            own, told = _piece(mesh, mark, value) if mark.kind == "piece" else _FIELDS[mark.kind](mesh, mark, teeth)
            said.append(told)
            if told.waits and told.beyond is not None and told.before is not None:
                caught |= told.beyond
                waiting |= told.before
            if not told.lost and not told.waits:
                value = np.maximum(value, own) if mark.adds else np.minimum(value, -own)
    return Region(value, caught, waiting, said)


def _covered(mesh: Mesh, value: NDArray) -> int:
    return int((value[mesh.faces] > 0).all(1).sum())


def _fence(mesh: Mesh, mark: Mark, teeth: NDArray) -> tuple[NDArray, Marked]:
    assert mark.eye is not None
    found = fenced(mesh, eye_mm=mark.eye, ring_mm=mark.points_mm)
    near = near_side(mesh, found)
    inside = found.inside > 0
    far = inside & ~near
    beyond = int(far[mesh.faces].all(1).sum())
    hit, count = np.unique(teeth[far & (teeth > 0)], return_counts=True)
    waits = mark.reach == "asked" and beyond > 0
    through = mark.reach == "through" or beyond == 0
    own = found.inside if through else near_field(mesh, found, near)
    behind = [int(t) for t, c in zip(hit, count, strict=True) if c > 2]
    told = Marked(_covered(mesh, own), beyond, behind, waits, not inside.any(), far, inside & near)
    return np.clip(own, -_FAR_MM, _FAR_MM), told


def _swab(mesh: Mesh, mark: Mark, teeth: NDArray) -> tuple[NDArray, Marked]:
    """As far over the surface as the swab is wide: round a ridge and into undercuts, and not to what only lies near through the air."""
    del teeth
    path = close_along(mark.points_mm, _ALONG_MM)
    tree = cKDTree(path)
    usual = float(np.linalg.norm(mesh.vertices_mm[mesh.faces[:, 0]] - mesh.vertices_mm[mesh.faces[:, 1]], axis=1).mean())
    away, _ = tree.query(mesh.vertices_mm, distance_upper_bound=max(_FROM_EDGES * usual, min(mark.mm / 2, 1.0)))
    if not np.isfinite(away).any():
        return np.full(len(away), -_FAR_MM), Marked(lost=True)
    reach = mark.mm + max(3 * usual, 0.5)
    own = mark.mm - np.minimum(distances(mesh, away, reach_mm=reach, round_mm=0.0), reach)
    return own, Marked(_covered(mesh, own))


def _saw(mesh: Mesh, mark: Mark, teeth: NDArray) -> tuple[NDArray, Marked]:
    del teeth
    assert mark.towards is not None
    own = (mesh.vertices_mm - mark.points_mm[0]) @ (mark.towards / np.linalg.norm(mark.towards))
    return own, Marked(_covered(mesh, own), lost=not (own > 0).any())


def _piece(mesh: Mesh, mark: Mark, value: NDArray) -> tuple[NDArray, Marked]:
    """All that hangs together with the place, as the marks so far have parted the surface."""
    away, at = cKDTree(mesh.vertices_mm).query(mark.points_mm[0])
    own = np.full(len(mesh.vertices_mm), -_FAR_MM)
    if away > _LOST_MM:
        return own, Marked(lost=True)
    goes = value > 0
    alike = (goes[mesh.faces] == goes[at]).all(1)
    part = mesh.of_faces(alike)
    _, label = face_components(part)
    which = np.flatnonzero(alike)
    of = label[(mesh.faces[which] == at).any(1)]
    if len(of) == 0:
        return own, Marked(lost=True)
    own[mesh.faces[which[label == of[0]]].ravel()] = _FAR_MM
    return own, Marked(_covered(mesh, own))


_FIELDS = {"fence": _fence, "swab": _swab, "saw": _saw}
