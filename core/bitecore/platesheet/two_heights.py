"""Which lower layers of a plate are thicker: up to under the lowest margin, or to where a person says."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from ..engine.model import Fix, Flag

# Under a margin it is fine from here on (judgement).
_UNDER_MM = 1.0


@dataclass(frozen=True)
class LowerLayers:
    """thick : (how high, up to where), None: all are as fine"""

    thick: tuple[float, float] | None
    flags: tuple[Flag, ...] = ()


def lower_layers(layer_mm: float, asked: str, up_mm: float | None, margins: Mapping[str, float | None]) -> LowerLayers:
    """margins : of every body on the plate how high over it its lowest margin lies, None: not told"""
    if asked == "none" or not margins:
        return LowerLayers(None)
    high = float(asked)
    each = high / layer_mm
    if each < 1.5 or abs(each - round(each)) > 1e-6:
        text = f"Lower layers of {high:.2f} mm are no multiple of {layer_mm:.3g} mm: all are as fine. Choose others, or Fix drops them."
        return LowerLayers(None, (Flag("not-a-multiple", "look", text, fix=Fix("pack", "*", {"thick_mm": "none"})),))
    told = [z for z in margins.values() if z is not None]
    lowest = min(told) if told else None
    if up_mm is None:
        missing = len(margins) - len(told)
        if lowest is None:
            text = "Of no body on the plate a margin is told, so all layers are fine. Say up to where they are thick."
            return LowerLayers(None, (Flag("no-margins", "look", text),))
        if missing:
            which = "one body" if missing == 1 else f"{missing} bodies"
            text = f"Of {which} no margin is told: the others say up to where layers are thick."
            flags: tuple[Flag, ...] = (Flag("some-margins", "note", text),)
        else:
            flags = ()
        up_mm = lowest - _UNDER_MM
    else:
        over = lowest is not None and up_mm > lowest
        text = f"Thick layers reach up to {up_mm:.1f} mm, the lowest margin is at {lowest or 0:.1f} mm. Fix ends them under it."
        flags = (Flag("thick-over-margin", "look", text, fix=Fix("pack", "*", {"thick_up_mm": None})),) if over else ()
    up = round(max(int(up_mm / high + 1e-6), 0) * high, 6)
    return LowerLayers((high, up) if up > 0 else None, flags)
