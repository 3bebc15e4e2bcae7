"""What every way to lay a body costs: time, resin, supports, and what the print check finds then."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh, joined, volume_ml
from ..ops.held import tips_for
from ..ops.layers import layers
from ..progress import Run
from .laying import flat, raised
from .print_check import checked
from .printing import seconds_of
from .supports import Sizes, supports

# How far the front is lifted; None: flat on the plate. From 45° on fewer tips do.
WAYS: tuple[tuple[str, float | None], ...] = (("flat", None), ("level", 0.0), ("half", 45.0), ("steep", 75.0))
# For comparing it is looked at in layers so coarse.
_LAYER_MM, _PIXEL_MM, _ROOM_MM = 0.1, 0.05, 3.0


@dataclass(frozen=True)
class Asked:
    """up, front : of the body; raise_mm : over the plate where it stands on supports; reach_mm : how far a layer may stand out freely;
    tips_mm : how far at most from a tip; sizes : of what it stands on; free : (k, 3) places in the body's own coordinates that tips keep
    off; printing : a Printing"""

    up: NDArray[np.float64]
    front: NDArray[np.float64]
    raise_mm: float
    reach_mm: float
    tips_mm: float
    sizes: Sizes
    free: NDArray[np.float64]
    printing: Mapping[str, Any]


def cost_of(body: Mesh, tilt_deg: float | None, asked: Asked, run: Run) -> dict[str, Any]:
    """What a body takes that is printed alone that way: minutes, ml, grams, cost, mm (how tall it stands), tips, barred (places that could
    be held on teeth only, or not at all), finds (how many the print check tells), says (the first of them)."""
    matrix = _laid(body, tilt_deg, asked)
    lying = body.moved(matrix)
    tips, barred, under = 0, 0, None
    if tilt_deg is not None:
        run.tick(0.1, "where it hangs")
        cut = layers(lying, np.eye(4), pixel_mm=_PIXEL_MM, layer_mm=_LAYER_MM)
        there, left = tips_for(cut, reach_mm=asked.tips_mm, free=asked.free @ matrix[:3, :3].T + matrix[:3, 3])
        made = supports(lying, there, sizes=asked.sizes)
        tips, barred, under = int(made.stands.sum()), len(left) + int((~made.stands).sum()), made.mesh
    run.tick(0.5, "the print check")
    whole = lying if under is None else joined([lying, under])
    found = checked(layers(whole, np.eye(4), pixel_mm=_PIXEL_MM, layer_mm=_LAYER_MM), asked.reach_mm, run.part(0.5, 1.0)).found
    ml = volume_ml(lying) + (volume_ml(under) if under is not None else 0.0)
    tall = float(lying.vertices_mm[:, 2].max())
    seconds = sum(seconds_of(asked.printing, int(np.ceil(tall / asked.printing["layer_mm"] - 1e-6))))
    price = asked.printing["price_l"]
    said = [f for f in found if f.severity == "look"]
    return {
        "minutes": round(seconds / 60, 6), "ml": round(ml, 6), "grams": round(ml * asked.printing["density_g_ml"], 6),
        "cost": None if price is None else round(ml / 1000 * price, 6), "mm": round(tall, 6), "tips": tips, "barred": barred,
        "finds": len(said), "says": said[0].message if said else "",
    }  # fmt: skip


def _laid(body: Mesh, tilt_deg: float | None, asked: Asked) -> NDArray[np.float64]:
    if tilt_deg is None:
        return flat(body, asked.up, asked.front)[0]
    return raised(body, asked.up, asked.front, tilt_deg=tilt_deg, by_mm=asked.raise_mm, room_mm=_ROOM_MM)[0]
