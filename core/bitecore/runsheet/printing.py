"""What printing asks, of the chosen printer, resin and layer."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

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
