"""What printing asks, of the chosen printer, resin and layer."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from ..mesh import Mesh, volume_ml
from ..parts.shelf import Printer, Resin


def printing_of(printer: Mapping[str, Any], resin: Mapping[str, Any], layer_mm: float) -> dict[str, Any]:
    """A values.Printing as plain JSON, of two records {id, name, data} of the shelf."""
    machine, stuff = Printer(**printer["data"]), Resin(**resin["data"])
    return {
        "resin": resin["name"],
        "density_g_ml": stuff.density_g_ml,
        "price_l": stuff.price_l,
        "layer_mm": layer_mm,
        "layer_s": round(stuff.exposure_s + machine.lift_s, 6),
        "first_layer_s": round(stuff.base_exposure_s + machine.lift_s, 6),
        "first_layers": round(stuff.base_layers),
    }


def sizing_of(resin: Mapping[str, Any]) -> NDArray[np.float64]:
    """(3,) how much larger a body is printed along the plate's width, its depth and upwards: 1 as it is."""
    stuff = Resin(**resin["data"])
    return 1 + np.array([stuff.size_x, stuff.size_y, stuff.size_z]) / 100


def amount_of(body: Mesh, up: ArrayLike, printing: Mapping[str, Any]) -> dict[str, Any]:
    """A values.Amount: what a body takes that is printed alone, standing along `up`."""
    ml = volume_ml(body)
    layers = int(np.ceil(np.ptp(body.vertices_mm @ np.asarray(up, np.float64)) / printing["layer_mm"] - 1e-6))
    first = min(layers, printing["first_layers"])
    seconds = first * printing["first_layer_s"] + (layers - first) * printing["layer_s"]
    price = printing["price_l"]
    return {
        "ml": round(ml, 6),
        "grams": round(ml * printing["density_g_ml"], 6),
        "cost": None if price is None else round(ml / 1000 * price, 6),
        "minutes": round(seconds / 60, 6),
    }
