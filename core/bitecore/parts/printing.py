"""What printing asks, of the chosen printer, resin and layer."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, NotRequired

import numpy as np
from numpy.typing import ArrayLike, NDArray
from typing_extensions import TypedDict

from ..mesh import Mesh, volume_ml
from .shelf import Printer, Resin

# The heights a resin's two lights are told for.
_FINE_MM, _THICK_MM = 0.05, 0.1
# What one body alone adds to the time of a plate is said from here on.
_LONG_S, _LONG_SHARE = 600.0, 0.2


class BuildPlate(TypedDict):
    printer: str
    width_mm: float
    depth_mm: float
    height_mm: float
    pixel_mm: NotRequired[float]
    least_mm: NotRequired[float]
    tank_ml: NotRequired[float | None]


class Thick(TypedDict):
    """The lower layers of a plate that is printed in two heights: how high one is, up to where, how long one takes."""

    layer_mm: float
    up_mm: float
    layer_s: float


class Printing(TypedDict):
    """What printing asks: of which resin, in which layers, how long one takes; thick: of the lower ones, where they are higher; grey:
    edges are lit by what they cover, in so many parts of a pixel across; sized_percent: by how much bodies are printed larger along width,
    depth and upwards, where they are."""

    resin: str
    density_g_ml: float
    price_l: float | None
    layer_mm: float
    layer_s: float
    first_layer_s: float
    first_layers: int
    thick: NotRequired[Thick]
    grey: NotRequired[int]
    sized_percent: NotRequired[list[float]]


class LayerSum(TypedDict):
    """Of one body in layers: how many, and what is cured."""

    layers: int
    ml: float


class Takes(TypedDict):
    """What a plate takes, by its layers; cost in the unit of the resin's price, None where that is not known."""

    layers: int
    ml: float
    grams: float
    minutes: float
    cost: float | None


class Amount(TypedDict):
    """What one body takes; cost in the unit of the resin's price, None where that is not known."""

    ml: float
    grams: float
    cost: float | None
    minutes: float


def printing_of(
    printer: Mapping[str, Any], resin: Mapping[str, Any], layer_mm: float, thick: tuple[float, float] | None = None, grey: int = 1
) -> dict[str, Any]:  # fmt: skip
    """A Printing as plain JSON, of two records {id, name, data} of the shelf. thick : (how high, up to where) of the lower layers; grey :
    parts of a pixel across that are told apart at edges"""
    machine, stuff = Printer(**printer["data"]), Resin(**resin["data"])
    out = {
        "resin": resin["name"],
        "density_g_ml": stuff.density_g_ml,
        "price_l": stuff.price_l,
        "layer_mm": layer_mm,
        "layer_s": round(light_s(stuff, layer_mm) + machine.lift_s, 6),
        "first_layer_s": round(stuff.base_exposure_s + machine.lift_s, 6),
        "first_layers": round(stuff.base_layers),
    }
    if grey > 1:
        out["grey"] = grey
    if (sizing_of(resin) != 1).any():
        out["sized_percent"] = [stuff.size_x, stuff.size_y, stuff.size_z]
    if thick is None:
        return out
    high, up = thick
    return out | {"thick": {"layer_mm": high, "up_mm": up, "layer_s": round(light_s(stuff, high) + machine.lift_s, 6)}}


def build_plate(title: str, printer: Printer) -> dict[str, Any]:
    """A BuildPlate as plain JSON."""
    space = {key: getattr(printer, key) for key in ("width_mm", "depth_mm", "height_mm", "pixel_mm", "least_mm", "tank_ml")}
    return {"printer": title, **space}


def no_such_layer(title: str, printer: Printer, layer_mm: float) -> tuple[str, float] | None:
    """(what is said of layers that a printer does not print, the nearest it does)."""
    low, high = sorted((printer.thin_layer_mm, printer.thick_layer_mm))
    if low - 1e-9 <= layer_mm <= high + 1e-9:
        return None
    return f"The {title} prints layers from {low:g} to {high:g} mm, not of {layer_mm:g} mm.", min(max(layer_mm, low), high)


def tank_words(plate: Mapping[str, Any], takes: Mapping[str, Any]) -> str:
    """Of a plate that takes more than the tank holds; empty where it does not."""
    tank = plate.get("tank_ml")
    if tank is None or takes["ml"] <= tank:
        return ""
    return (
        f"The plate takes {takes['ml']:.0f} ml, the tank of the {plate['printer']} holds {tank:.0f} ml: it has to be filled up meanwhile."
    )


def tower(tops_mm: Mapping[str, float], printing: Mapping[str, Any]) -> tuple[str, int, float] | None:
    """(which body, over how many layers it alone is printed, how many minutes they take), where that is much of the whole time."""
    if len(tops_mm) < 2:
        return None
    high, *rest = sorted(tops_mm, key=lambda name: -tops_mm[name])
    seconds = seconds_of(printing, int(np.ceil(tops_mm[high] / printing["layer_mm"] - 1e-6)))
    alone = int(np.ceil((tops_mm[high] - tops_mm[rest[0]]) / printing["layer_mm"] - 1e-6))
    took = sum(seconds[len(seconds) - alone :])
    if took < _LONG_S or took < _LONG_SHARE * sum(seconds):
        return None
    return high, alone, took / 60


def light_s(resin: Resin, layer_mm: float) -> float:
    """How long a layer is lit. What is cured deepens with the logarithm of the light (Jacobs, Rapid Prototyping and Manufacturing, 1992;
    from memory), so light grows by the same share for every 0.05 mm; of a resin with one light told it is always that."""
    if resin.thick_exposure_s is None:
        return resin.exposure_s
    share = resin.thick_exposure_s / resin.exposure_s
    return float(resin.exposure_s * share ** ((layer_mm - _FINE_MM) / (_THICK_MM - _FINE_MM)))


def two_heights(printing: Mapping[str, Any], fine: int) -> tuple[int, int]:
    """(how many thick layers come first, how many of the fine ones they stand for) of a plate that is so many fine layers tall."""
    thick = printing.get("thick")
    if thick is None:
        return 0, 0
    each = round(thick["layer_mm"] / printing["layer_mm"])
    count = min(round(thick["up_mm"] / thick["layer_mm"]), -(-fine // each))
    return count, min(count * each, fine)


def seconds_of(printing: Mapping[str, Any], fine: int) -> list[float]:
    """Of every layer of a plate that is so many fine layers tall."""
    thick, instead = two_heights(printing, fine)
    each = [printing["thick"]["layer_s"]] * thick if thick else []
    each += [printing["layer_s"]] * (fine - instead)
    first = min(printing["first_layers"], len(each))
    return [printing["first_layer_s"]] * first + each[first:]


def sizing_of(resin: Mapping[str, Any]) -> NDArray[np.float64]:
    """(3,) how much larger a body is printed along the plate's width, its depth and upwards: 1 as it is."""
    stuff = Resin(**resin["data"])
    return 1 + np.array([stuff.size_x, stuff.size_y, stuff.size_z]) / 100


def sized(sizes: NDArray[np.float64], resin: str) -> str:
    """What is done for its shrinking, as a sentence."""
    x, y, z = (sizes - 1) * 100
    return f"Printed by {x:+.2f} % along the width, {y:+.2f} % along the depth and {z:+.2f} % upwards, as {resin} needs."


def amount_of(body: Mesh, up: ArrayLike, printing: Mapping[str, Any]) -> dict[str, Any]:
    """An Amount: what a body takes that is printed alone, standing along `up`."""
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


def takes_of(printing: Mapping[str, Any], sums: Sequence[Mapping[str, Any]]) -> dict[str, Any]:
    """A Takes: what a plate takes of resin and time, of a LayerSum of each body on it."""
    ml, count = sum(s["ml"] for s in sums), max((s["layers"] for s in sums), default=0)
    each = seconds_of(printing, count)
    price, seconds = printing["price_l"], sum(each)
    return {
        "layers": len(each), "ml": round(ml, 6), "grams": round(ml * printing["density_g_ml"], 6), "minutes": round(seconds / 60, 6),
        "cost": None if price is None else round(ml / 1000 * price, 6),
    }  # fmt: skip


def taken(takes: Mapping[str, Any]) -> list[tuple[str, float, str]]:
    """(name, value, unit) of what is read of a Takes."""
    out = [
        ("resin", takes["ml"], "ml"),
        ("weight", takes["grams"], "g"),
        ("printing", takes["minutes"], "min"),
        ("layers", takes["layers"], ""),
    ]
    return out if takes["cost"] is None else [*out, ("cost of the resin", takes["cost"], "")]
