"""What of a scan is no anatomy though it hangs together with it: spikes, and folds that go through the surface."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh, face_components
from ..mesh.topology import at_border
from .crossing import crossing_faces
from .relief import neighbour_offsets

# A vertex that stands this far from the middle of its neighbours, and this many times farther than is usual there, is
# no anatomy (common practice, no source).
_SPIKE_MM, _SPIKE_TIMES = 0.7, 3.0


def spikes(mesh: Mesh) -> NDArray[np.bool_]:
    """(n,) vertices that stand out of their surroundings as no anatomy does."""
    if "spikes" not in mesh._memo:
        off, usual = neighbour_offsets(mesh)
        found = (off > _SPIKE_MM) & (off > _SPIKE_TIMES * usual)
        # The tips of a torn border stand out too: that is what Trim eases.
        found[mesh.faces[at_border(mesh)].ravel()] = False
        mesh._memo["spikes"] = found
    return mesh._memo["spikes"]


def _folds(mesh: Mesh, among: NDArray[np.bool_] | None) -> NDArray[np.bool_]:
    if among is not None:
        return crossing_faces(mesh, among=among)
    if "folds" not in mesh._memo:
        mesh._memo["folds"] = crossing_faces(mesh)
    return mesh._memo["folds"]


def folds_known(mesh: Mesh, which: NDArray | Sequence[int]) -> Mesh:
    """The mesh with the numbers of its triangles that go through others, which have been found before."""
    mesh._memo["folds"] = np.zeros(mesh.triangles, bool)
    mesh._memo["folds"][np.asarray(which, np.int64)] = True
    return mesh


@dataclass(frozen=True)
class Heap:
    """Triangles that hang together and go for one reason.

    what : fold or spike
    """

    what: str
    faces: NDArray[np.int64]
    middle_mm: NDArray[np.float64]
    width_mm: float


def heaps(mesh: Mesh, *, folded: bool = True, spiky: bool = True, among: NDArray[np.bool_] | None = None) -> list[Heap]:
    """Every flaw of the asked kinds, the widest first. among : (m,) of folds those alone that one of these has a part in."""
    out = []
    for what, asked in (("fold", folded), ("spike", spiky)):
        if not asked:
            continue
        which = np.flatnonzero(_folds(mesh, among) if what == "fold" else spikes(mesh)[mesh.faces].any(1))
        if len(which) == 0:
            continue
        count, label = face_components(mesh.of_faces(which))
        for k in range(count):
            faces = which[label == k]
            points = mesh.vertices_mm[mesh.faces[faces].ravel()]
            out.append(Heap(what, faces, points.mean(0), float(np.linalg.norm(np.ptp(points, axis=0)))))
    return sorted(out, key=lambda heap: -heap.width_mm)


def without_flaws(mesh: Mesh, *, folded: bool = True, spiky: bool = True) -> Mesh:
    """Without the triangles of the asked flaws, the mesh itself where it has none; the places stay open."""
    out = without(mesh, heaps(mesh, folded=folded, spiky=spiky))
    # No pair is left of which both go through each other.
    return folds_known(out, []) if folded else out


def without(mesh: Mesh, gone: list[Heap]) -> Mesh:
    keep = np.ones(mesh.triangles, bool)
    for heap in gone:
        keep[heap.faces] = False
    return mesh if keep.all() else mesh.of_faces(keep)
