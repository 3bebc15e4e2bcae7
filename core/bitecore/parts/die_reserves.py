"""What a cavity keeps off round a die's socket, as lines with a width; in the plan of the die, z along the way it comes out."""

from __future__ import annotations

import manifold3d
import numpy as np
from numpy.typing import NDArray

from .die_shaft import UNDER_MM, Shaft, Window, ring_of
from .die_vent import Vent

# Lines a cavity keeps off by its wall stand so far apart, and are as thin as this.
_LINES_MM, _LINE_MM = 0.6, 0.08


def window_line(shaft: Shaft, window: Window) -> NDArray[np.float64]:
    """(2, 3) from the shaft's axis to where it comes out."""
    return np.array([np.r_[shaft.centre + window.way * far, window.centre] for far in (0.0, window.far)])


def kept_off(
    room: manifold3d.CrossSection, shaft: Shaft, floor: float, high: float, window: Window | None, vent: Vent | None
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:  # fmt: skip
    """((k, 2, 3) upright lines over and round the socket and the room of the head, and along hole, window and vent; (k,) how wide each is,
    mm).

    room : of the head, in the plan; floor : where the hole comes out; high : the top of the crown
    """
    out = []
    head = np.asarray(room.to_polygons()[0])
    for ring, is_head in ((shaft.at(shaft.top, shaft.sizes.air), False), (head, True)):
        long = float(np.linalg.norm(np.roll(ring, -1, axis=0) - ring, axis=1).sum())
        around = ring_of(manifold3d.CrossSection([ring]), max(int(long / _LINES_MM), 8))
        low, far = ring.min(0), ring.max(0)
        grid = np.stack(np.meshgrid(*(np.arange(a, b, _LINES_MM) for a, b in zip(low, far, strict=True))), -1).reshape(-1, 2)
        at = np.vstack([around, grid[in_ring(grid, ring)]])
        ends = (
            (np.full(len(at), shaft.top - UNDER_MM), np.full(len(at), high)) if is_head else (shaft.edge(at), np.full(len(at), shaft.top))
        )
        out.append(np.stack([np.c_[at, ends[0]], np.c_[at, ends[1]]], 1))
    upright = np.vstack(out)
    hole = [np.r_[shaft.centre, z] for z in (floor, shaft.foot)]
    through = window_line(shaft, window) if window else hole
    along, across = (vent.line, vent.radius) if vent else (np.array(hole), shaft.hole_mm / 2)
    wide = np.r_[np.full(len(upright), _LINE_MM), shaft.hole_mm / 2, (shaft.sizes.window if window else shaft.hole_mm) / 2, across]
    return np.vstack([upright, [hole, through, along]]), np.maximum(wide, _LINE_MM)


def in_ring(points: NDArray, ring: NDArray) -> NDArray[np.bool_]:
    """Even and odd crossings of a ray along x."""
    a, b = ring, np.roll(ring, -1, axis=0)
    over = (a[None, :, 1] > points[:, None, 1]) != (b[None, :, 1] > points[:, None, 1])
    rise = np.where(b[:, 1] == a[:, 1], 1.0, b[:, 1] - a[:, 1])
    x = a[:, 0] + (points[:, None, 1] - a[:, 1]) * (b[:, 0] - a[:, 0]) / rise
    return (over & (points[:, None, 0] < x)).sum(1) % 2 == 1
