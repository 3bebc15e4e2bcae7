"""A groove along the underside from a socket's push-out hole to the cheek's side: without it the plate shuts the hole in."""

from __future__ import annotations

from dataclasses import dataclass

import manifold3d
import numpy as np
from numpy.typing import NDArray

from ..ops.clip import frame_of
from ..ops.rigid import unit
from .die_plan import SIDES
from .die_shaft import BEYOND_MM, Shaft, way_to_outline

# It is looked for so high over the underside: over a bevelled edge's first layers, under its own top.
_AT_MM = 0.3
# It takes no more than this share of what is under the seat.
_SHARE = 0.5
# A longer groove leads through more than a wall.
_LONGEST_MM = 25.0


@dataclass(frozen=True)
class Vent:
    """In the frame of its die. line : (2, 3) on the underside, from under the hole to the outside; up : (3,) away from the underside"""

    line: NDArray[np.float64]
    up: NDArray[np.float64]
    radius: float

    def solid(self) -> manifold3d.Manifold:
        """All round: its lower half lies under the body."""
        way = self.line[1] - self.line[0]
        long = float(np.linalg.norm(way))
        rows = np.c_[self.up, np.cross(way / long, self.up), way / long, self.line[0]]
        return manifold3d.Manifold.cylinder(long, self.radius, self.radius, SIDES).transform(rows)


def vent_of(
    shaft: Shaft, cheek: NDArray[np.float64], up: NDArray[np.float64], floor: float, body: manifold3d.Manifold
) -> Vent | None:  # fmt: skip
    """cheek : (2,) the way to the cheek in the plan of the die; up : (3,) of the body, floor : how high its underside lies along it. None
    without a hole, and where the cheek's side is too far."""
    radius = min(shaft.sizes.vent / 2, shaft.hole_mm / 2, _SHARE * shaft.sizes.under)
    if shaft.sizes.vent <= 0 or not shaft.hole_mm:
        return None
    start = np.r_[shaft.centre, (floor - shaft.centre @ up[:2]) / up[2]]
    way = np.r_[cheek, 0.0]
    way = unit(way - (way @ up) * up)
    level = frame_of(up)
    slice_ = body.transform(np.c_[level, np.zeros(3)]).slice(floor + _AT_MM)
    far = way_to_outline(slice_, (level @ start)[:2], unit((level @ way)[:2]))
    return Vent(np.stack([start, start + (far + BEYOND_MM) * way]), up, radius) if 0 < far <= _LONGEST_MM else None
