"""What of a scan is no anatomy though it hangs together with it: spikes, and folds that go through the surface."""

from __future__ import annotations

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


@dataclass(frozen=True)
class Heap:
    """Triangles that hang together and go for one reason.

    what : fold or spike
    """

    what: str
    faces: NDArray[np.int64]
    middle_mm: NDArray[np.float64]
    width_mm: float


def heaps(mesh: Mesh, *, folds: bool = True, spiky: bool = True) -> list[Heap]:
    """Every flaw of the asked kinds, the widest first."""
    out = []
    for what, asked in (("fold", folds), ("spike", spiky)):
        if not asked:
            continue
        marked = crossing_faces(mesh) if what == "fold" else spikes(mesh)[mesh.faces].any(1)
        which = np.flatnonzero(marked)
        if len(which) == 0:
            continue
        count, label = face_components(mesh.of_faces(which))
        for k in range(count):
            faces = which[label == k]
            points = mesh.vertices_mm[mesh.faces[faces].ravel()]
            out.append(Heap(what, faces, points.mean(0), float(np.linalg.norm(np.ptp(points, axis=0)))))
    return sorted(out, key=lambda heap: -heap.width_mm)


def without_flaws(mesh: Mesh, *, folds: bool = True, spiky: bool = True) -> Mesh:
    """Without the triangles of the asked flaws, the mesh itself where it has none; the places stay open."""
    return without(mesh, heaps(mesh, folds=folds, spiky=spiky))


def without(mesh: Mesh, gone: list[Heap]) -> Mesh:
    keep = np.ones(mesh.triangles, bool)
    for heap in gone:
        keep[heap.faces] = False
    return mesh if keep.all() else mesh.of_faces(keep)
