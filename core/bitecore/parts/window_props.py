"""What keeps a round window open while it is printed: thin uprights from its sill to its lintel (common practice, no source). Sizes are
judgements of this house, no published values."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import manifold3d
import numpy as np
from numpy.typing import NDArray

from ..mesh import GROUP_CUT, Mesh
from ..ops.closest import ClosestPoints
from .supports import INTO_MM, TIP_MM

# A narrower window keeps itself open, and could hardly be cleared; across a prop in its middle; so far apart from one another.
LEAST_MM, _WIDE_MM, _APART_MM = 2.0, 0.8, 3.0
# Places along a window stand so far apart; an end is in the body where it lies so deep.
_STEP_MM, _DEEP_MM = 0.25, 0.05
# A window that leans more than this is no lintel.
_LEVEL = 0.5
_SIDES = 10


@dataclass(frozen=True)
class WindowLine:
    """Of a window, on the plate: (3,) from the socket's axis to beyond the wall, and its diameter."""

    start: NDArray[np.float64]
    end: NDArray[np.float64]
    wide_mm: float


def window_props(body: Mesh, windows: Sequence[WindowLine]) -> Mesh | None:
    """All of them as closed solids, on the plate; None where there are none. body : as it lies there."""
    inside = ClosestPoints(body)
    made = []
    for window in windows:
        way = window.end - window.start
        long = float(np.linalg.norm(way))
        if window.wide_mm < LEAST_MM or long < 1e-6 or abs(way[2]) > _LEVEL * long:
            continue
        along = window.start + np.arange(0.0, long, _STEP_MM)[:, None] * way / long
        half = np.array([0.0, 0.0, window.wide_mm / 2 + INTO_MM])
        held = (inside.signed(along + half, within_mm=1.0)[0] < -_DEEP_MM) & (inside.signed(along - half, within_mm=1.0)[0] < -_DEEP_MM)
        made += [_prop(along[k], half) for k in _spread(held)]
    if not made:
        return None
    out = manifold3d.Manifold.compose(made).to_mesh64()
    faces = np.asarray(out.tri_verts).astype(np.int64)
    return Mesh.of(np.asarray(out.vert_properties)[:, :3], faces, np.full(len(faces), GROUP_CUT, np.uint8))


def _spread(held: NDArray[np.bool_]) -> list[int]:
    """Numbers of places in the wall that a window goes through: its middle, or as many as keep their distance in a thick one."""
    where = np.flatnonzero(held)
    if not len(where):
        return []
    # The wall is the longest run; a sliver beside it is none.
    run = max(np.split(where, np.flatnonzero(np.diff(where) > 1) + 1), key=len)
    count = max(int(len(run) * _STEP_MM / _APART_MM), 1)
    return [int(run[int((k + 0.5) / count * len(run))]) for k in range(count)]


def _prop(middle: NDArray, half: NDArray) -> manifold3d.Manifold:
    angle = (np.arange(_SIDES) + 0.5) / _SIDES * 2 * np.pi
    ring = np.c_[np.cos(angle), np.sin(angle), np.zeros(_SIDES)] / 2
    ends = [middle - half + ring * TIP_MM, middle + half + ring * TIP_MM]
    return manifold3d.Manifold.hull_points(np.vstack([ends[0], middle + ring * _WIDE_MM, ends[1]]))
