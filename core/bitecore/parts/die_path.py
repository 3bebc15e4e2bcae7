"""The way a die comes out: upright where nothing is over it, else leaning so that the teeth beside it are over it least."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ..ops.clip import frame_of
from ..ops.rigid import unit
from .die_plan import Near, overlap_along

# A die leans so far at most; ways are tried on rings round upright.
MOST_DEG, _RINGS = 12.0, 4
# So much room beside a tooth is enough; a degree of leaning has to win so much.
_FREE_MM, _DEGREE_MM = 0.02, 0.003
_CELL_MM = 0.1
# All ways are looked at on a coarser raster, and as many of the best on the finer one.
_ROUGH_MM, _FEW = 0.25, 8


def fan(up: NDArray[np.float64], most_deg: float = MOST_DEG, rings: int = _RINGS) -> NDArray[np.float64]:
    """(k, 3) directions within a cone about `up`, itself the first."""
    x, y, z = frame_of(up)
    out = [z]
    for ring in range(1, rings + 1):
        lean = np.radians(most_deg * ring / rings)
        for turn in 2 * np.pi * np.arange(6 * ring) / (6 * ring):
            out.append(np.sin(lean) * (np.cos(turn) * x + np.sin(turn) * y) + np.cos(lean) * z)
    return np.array(out)


def overlap(teeth: Sequence[Near], way: NDArray[np.float64], cell: float = _CELL_MM) -> float:
    """How deep other teeth lie over one of these, or it over them, along a way (mm); below nought: the least room, as
    far as a millimetre."""
    rotation = frame_of(way)
    return max(overlap_along(each, rotation, cell) for each in teeth)


def way_out(teeth: Sequence[Near], up: NDArray[np.float64]) -> NDArray[np.float64]:
    """(3,) of dies that stand side by side: they share one. up : of the base, where they stand upright."""
    up = unit(up)
    best, least = up, overlap(teeth, up)
    if least <= -_FREE_MM:
        return up
    ways = fan(up)[1:]
    lean = _DEGREE_MM * np.degrees(np.arccos(np.clip(ways @ up, -1, 1)))
    rough = [max(overlap(teeth, way, _ROUGH_MM), -_FREE_MM) + cost for way, cost in zip(ways, lean, strict=True)]
    for k in np.argsort(rough, kind="stable")[:_FEW]:
        cost = max(overlap(teeth, ways[k]), -_FREE_MM) + lean[k]
        if cost < least:
            best, least = ways[k], cost
    return best
