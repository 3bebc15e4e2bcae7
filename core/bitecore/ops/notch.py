"""A notch at the foot of a body's wall: what a spatula gets under, to lift the body off its plate."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..mesh import GROUP_CUT, Mesh, volume_ml
from .free_wall import Free
from .segments import Segment

# How wide, how high at the wall, how deep; at its inner end it is still so high (judgement: a spatula's blade is 0.5 to 1 mm thick).
WIDE_MM, HIGH_MM, DEEP_MM, _END_MM = 8.0, 1.6, 2.5, 0.6
# Over it so much wall is left.
_OVER_MM = 0.8
# It begins so far outside of the wall and under the floor.
_BEYOND_MM = 3.0
# Among straight places the front is liked better: the back is for labels. A bend costs as much as so many mm.
_BEND_MM = 200.0


@dataclass(frozen=True)
class Notch:
    """mesh : what is cut out; at_mm : (3,) its middle on the wall; lines : along it, what a cavity has to keep off"""

    mesh: Mesh
    at_mm: NDArray[np.float64]
    lines: list[Segment]


def notch(wall: Free, *, bottom: float, asked: NDArray[np.float64] | None = None) -> Notch | None:
    """In a wall of a body, z up, y to the back, whose flat underside lies at `bottom`; as near to `asked` (3,) as can be, else where it
    is straight. None where there is no room."""
    bends = wall.starts(WIDE_MM, HIGH_MM + _OVER_MM - (wall.floor - bottom))
    free = np.flatnonzero(np.isfinite(bends))
    if len(free) == 0:
        return None
    middle = wall.bend.at(free * wall.step_mm + WIDE_MM / 2)
    cost = _BEND_MM * bends[free] + middle[:, 1] if asked is None else np.linalg.norm(middle - asked[:2], axis=1)
    along = np.array([free[int(cost.argmin())] * wall.step_mm + WIDE_MM / 2])
    at, out = wall.bend.at(along)[0], wall.bend.outward(along)[0]
    side = np.array([-out[1], out[0]])
    profile = [(_BEYOND_MM, -_BEYOND_MM), (_BEYOND_MM, HIGH_MM), (0.0, HIGH_MM), (-DEEP_MM, _END_MM), (-DEEP_MM, -_BEYOND_MM)]
    ends = []
    for way in (-1, 1):
        plan = at + way * WIDE_MM / 2 * side
        ends.append([np.append(plan + far * out, bottom + up) for far, up in profile])
    inner = [(0.0, HIGH_MM), (-DEEP_MM / 2, (HIGH_MM + _END_MM) / 2), (-DEEP_MM, _END_MM), (-DEEP_MM, 0.0)]
    lines = []
    for far, up in inner:
        a, b = (np.append(at + way * WIDE_MM / 2 * side + far * out, bottom + up) for way in (-1, 1))
        lines.append((a, b))
    return Notch(_prism(np.array(ends[0]), np.array(ends[1])), np.append(at, bottom + HIGH_MM / 2), lines)


def _prism(a: NDArray, b: NDArray) -> Mesh:
    """Between two like polygons (k, 3), each seen from its first corner."""
    k = len(a)
    i, j = np.arange(k), (np.arange(k) + 1) % k
    fan = np.c_[np.zeros(k - 2, int), np.arange(1, k - 1), np.arange(2, k)]
    faces = np.vstack([np.c_[i, j, j + k], np.c_[i, j + k, i + k], fan[:, ::-1], fan + k])
    points = np.vstack([a, b])
    made = Mesh.of(points, faces, np.full(len(faces), GROUP_CUT, np.uint8))
    return made if volume_ml(made) > 0 else made.turned_inside_out()
