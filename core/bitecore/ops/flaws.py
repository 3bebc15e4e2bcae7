"""What of a scan is no anatomy though it hangs together with it: spikes, and folds that go through the surface."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh
from ..mesh.topology import at_border
from .crossing import crossing_faces
from .relief import neighbour_offsets

# A vertex that stands this far from the middle of its neighbours, and this many times farther than is usual there, is
# no anatomy (common practice, no source).
_SPIKE_MM, _SPIKE_TIMES = 0.7, 3.0


def spikes(mesh: Mesh) -> NDArray[np.bool_]:
    """(n,) vertices that stand out of their surroundings as no anatomy does."""
    off, usual = neighbour_offsets(mesh)
    found = (off > _SPIKE_MM) & (off > _SPIKE_TIMES * usual)
    # The tips of a torn border stand out too: that is what Trim eases.
    found[mesh.faces[at_border(mesh)].ravel()] = False
    return found


def without_flaws(mesh: Mesh, *, folds: bool = True, spiky: bool = True) -> Mesh:
    """Without the triangles of the asked flaws, the mesh itself where it has none; the places stay open."""
    keep = np.ones(mesh.triangles, bool)
    if folds:
        keep &= ~crossing_faces(mesh)
    if spiky:
        keep &= ~spikes(mesh)[mesh.faces].any(1)
    return mesh if keep.all() else mesh.of_faces(keep)
