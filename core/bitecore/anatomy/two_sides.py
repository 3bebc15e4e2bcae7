"""A bite impression holds both arches: its upper side is the negative of the upper jaw, its lower side that of the lower."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike

from ..errors import StepFailed
from ..mesh import Mesh, vertex_normals
from ..ops.mend import largest_piece
from ..ops.relief import mean_of_neighbours

# Walls of teeth face aside: which side they belong to is told over so many means with the neighbours.
_ROUNDS = 60
# A side smaller than this share of the other is the rim of a tray, not an arch.
_LEAST_SHARE = 0.3


def two_sides(mesh: Mesh, up: ArrayLike) -> tuple[Mesh, Mesh]:
    """(what faces up, what faces down), each its largest piece, where it lies and as it faces. up : (3,) of the impression.

    Raises StepFailed where there are no two sides.
    """
    facing = mean_of_neighbours(mesh.faces, vertex_normals(mesh), _ROUNDS) @ np.asarray(up, float)
    mean = facing[mesh.faces].mean(1)
    sides = []
    for keep in (mean > 0, mean < 0):
        if not keep.any():
            break
        sides.append(largest_piece(mesh.of_faces(keep)))
    if len(sides) < 2 or min(s.triangles for s in sides) < _LEAST_SHARE * max(s.triangles for s in sides):
        raise StepFailed("This scan has no two sides: only a bite impression, with both arches in it, is taken apart.", code="one-sided")
    return sides[0], sides[1]
