"""What a layer does not hold: islands, and places that hang too far out over the layers below.

One field says it all: how far a pixel is from what holds it, along its layer; every layer pays off what a wall of the given slope may
lean out. In a level ledge the field is the distance from the wall, in a slope flatter than asked it grows with height, in what begins
in mid-air it is infinite.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from .afloat import Field, afloat
from .debt import owed
from .layers import Layers

# Pixels of the field, at least; what begins in mid-air and is joined within so much height is of no account.
_PIXEL_MM, _TIP_PIXEL_MM, _QUIET_MM = 0.1, 0.25, 0.1
_MOST, MOST_TIPS = 4000, 2000
# What begins in mid-air gets its tip where it is so large first, if it becomes so large that it is told (common practice, no source): a
# speck of a few pixels is taken along by what it is soon joined to.
_TIP_FROM_MM2, ISLAND_MM2 = 0.01, 0.05
# A way out so narrow is a drain: what lies behind it is a cavity. Looked at in cells of so much.
_WAY_MM, _WAY_CELL_MM = 5.0, 0.2
# From a pixel to its neighbours, as a knight on a chessboard goes too: no distance comes out more than 3 % too long.
_HALF = [(1, 0), (0, 1), (1, 1), (1, -1), (2, 1), (1, 2), (2, -1), (1, -2)]
_STEPS = np.array([*_HALF, *((-a, -b) for a, b in _HALF)])
# The pixels passed on each, one of which is cured: no step goes over a gap.
_PAST = np.array(
    [[(a // 2, 0), (a // 2, b)] if abs(a) == 2 else [(0, b // 2), (a, b // 2)] if abs(b) == 2 else [(a, b)] * 2 for a, b in _STEPS]
)


@dataclass(frozen=True)
class Unheld:
    """A place that is not held.

    island   : it begins in mid-air; else it hangs
    layer    : where it begins; x, y : pixels of the body's layers, of its middle (an island) or its farthest (a hang)
    area_mm2 : of what is not held, all its layers from above together
    far_mm   : how far it hangs out at most
    """

    island: bool
    layer: int
    x: float
    y: float
    area_mm2: float
    far_mm: float


def unheld(body: Layers, *, reach_mm: float, slope_deg: float = 45.0, island_mm2: float = ISLAND_MM2) -> list[Unheld]:
    """All that is not held, the first layer (on the plate) is. reach_mm : how far a layer may stand out freely; slope_deg : from the
    vertical, how far a wall may lean out without end; island_mm2 : what begins in mid-air is told once it is so large, if nothing holds it
    by then. Time grows with what is not held, memory with the plan."""
    return _asked(body, reach_mm, slope_deg, _PIXEL_MM, np.zeros((0, 3)), np.zeros((0, 3)), 0.0, True, island_mm2)[0]


def tips_for(
    body: Layers, *, reach_mm: float, free: NDArray[np.float64], off_mm: float = 0.8, slope_deg: float = 45.0, fine: bool = False
) -> tuple[NDArray[np.float64], list[Unheld]]:  # fmt: skip
    """((k, 3) mm on the plate: where tips hold all of a body that stands on nothing, what they do not hold).

    free : (p, 3) mm on the plate, points of what stays free of tips, as dense as off_mm: no tip nearer than that, nor above them
    fine : specks as small as those that unheld finds are held too
    """
    wide = _PIXEL_MM if fine else _TIP_PIXEL_MM
    sub = max(round(wide / body.pixel_mm), 1)
    tips = np.zeros((MOST_TIPS, 3))
    left, told = _asked(body, reach_mm, slope_deg, wide, tips, free, off_mm, False, ISLAND_MM2)
    made, pixel = tips[:told], sub * body.pixel_mm
    x0, y0 = _corner(body, sub)
    places = np.c_[x0 + (made[:, 1] + 0.5) * pixel, y0 + (made[:, 2] + 0.5) * pixel, made[:, 0] * body.layer_mm]
    return places, left


def _corner(body: Layers, sub: int) -> tuple[float, float]:
    """Where on the plate the field begins (mm)."""
    x, y = (((body.x, body.y)[k] + _first(body, sub)[k] + 0.5 - sub / 2) * body.pixel_mm - 4 * sub * body.pixel_mm for k in (0, 1))
    return x, y


def _barred(body: Layers, sub: int, wide: int, tall: int, free: NDArray[np.float64], off_mm: float) -> NDArray[np.float32]:
    """(wide * tall,) from which layer on no tip stands in a pixel."""
    pixel = sub * body.pixel_mm
    field = np.full((tall, wide), np.inf, np.float32)
    at = np.floor((free[:, :2] - _corner(body, sub)) / pixel).astype(np.int64)
    inside = ((at >= 0) & (at < (wide, tall))).all(1)
    np.minimum.at(field, (at[inside, 1], at[inside, 0]), (free[inside, 2] - off_mm).astype(np.float32))
    reach = int(np.ceil(off_mm / pixel))
    j, i = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    field = ndimage.minimum_filter(field, footprint=np.hypot(i, j) * pixel <= off_mm + pixel / 2, mode="constant", cval=np.inf)
    return (field / body.layer_mm).ravel()


def _asked(
    body: Layers, reach: float, slope_deg: float, pixel_mm: float, tips: NDArray, free: NDArray, off_mm: float, first_held: bool,
    island_mm2: float,
) -> tuple[list[Unheld], int]:  # fmt: skip
    sub = max(round(pixel_mm / body.pixel_mm), 1)
    pixel = sub * body.pixel_mm
    wide, tall = body.wide // sub + 9, body.tall // sub + 9
    pay = np.float32(body.layer_mm * np.tan(np.radians(slope_deg)))
    # Tips come a layer sooner, so that none of what the check tells in finer layers stays without one.
    quiet, first = max(round(_QUIET_MM / body.layer_mm), 1) - (len(tips) > 0), _first(body, sub)
    out = np.zeros((_MOST, 6))
    cost = (pixel * np.hypot(*_STEPS.T)).astype(np.float32)
    bar = _barred(body, sub, wide, tall, free, off_mm) if len(tips) else np.zeros(0, np.float32)
    least, speck = (max(round(mm2 / body.pixel_mm**2), 1) for mm2 in (island_mm2, _TIP_FROM_MM2 if len(tips) else island_mm2))
    field = Field(sub, first, wide, bar)
    begun = afloat(body, field, quiet=quiet, least_px=least, speck_px=speck, first_held=first_held, most=_MOST)
    count, told = owed(
        body.offset, body.runs, body.count, body.tall, sub, first, wide, wide * tall, pay, np.float32(reach), quiet + 2, cost,
        np.c_[_STEPS @ (1, wide), _PAST @ (1, wide)], out, tips, bar, first_held, begun,
    )  # fmt: skip
    found = [
        Unheld(
            bool(row[0]),
            int(row[1]),
            float((row[2] - 4) * sub + first[0]),
            float((row[3] - 4) * sub + first[1]),
            float(row[4]) * pixel**2,
            float(row[5]),
        )
        for row in out[:count]
    ]
    return found, int(told)


def _first(body: Layers, sub: int) -> tuple[int, int]:
    """The column and the row that the field begins with: the same places of the plate whatever is in the layers, so that a speck is seen
    with its supports as it was without."""
    return (sub // 2 - body.x) % sub, (sub // 2 - body.y) % sub


def shut_in(body: Layers, layer: int, x: float, y: float) -> bool:
    """Is a place empty in this layer shut in by the body, but for ways out narrower than a drain? Then it is in a cavity."""
    step = max(round(_WAY_CELL_MM / body.pixel_mm), 1)
    image = np.zeros((body.tall, body.wide), np.uint8)
    body.only(layer, image)
    pad = round(_WAY_MM / (step * body.pixel_mm)) + 2
    empty = np.pad(image[::step, ::step] == 0, pad, constant_values=True)
    cell = step * body.pixel_mm
    label, _ = ndimage.label(ndimage.distance_transform_edt(empty) * cell > _WAY_MM / 2)
    outside = label == label[0, 0]
    away = ndimage.distance_transform_edt(~outside) * cell
    return bool(away[int(y) // step + pad, int(x) // step + pad] > _WAY_MM / 2 + 2 * cell)
