"""Part of Plate: the print check. What a layer does not hold, where resin is shut in, each with its place."""

from __future__ import annotations

import numpy as np

from ...engine.model import BODIES, Fix, Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings
from ...ops.layers import Layers
from ...ops.rigid import rounded
from ...parts.print_check import checked
from ...progress import Run
from ..part_names import stands_held


class CheckSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: CheckSettings, run: Run) -> StepResult:
    made = checked(Layers.from_bytes(inputs["runs"][0].data), inputs["reach"], run, plate=inputs["plate"])
    flags = []
    for f in made.found:
        at = f.at_home(inputs["place"])
        place = Place(inputs.piece, at, f.radius_mm) if at else None
        flags.append(Flag(f.code, f.severity, f.message, place, _mended(f.code, at, inputs)))
    return StepResult({}, tuple(Reading(*each) for each in made.readings), tuple(flags), made.figure)


def _mended(code: str, at: tuple[float, float, float] | None, inputs: Inputs) -> Fix | None:
    """What hangs in the air gets a tip, where the body stands on supports; else it is put on them."""
    if code not in ("island", "hang", "island-more", "hang-more"):
        return None
    if stands_held(inputs.piece, inputs["wanted"], inputs["stands"]):
        return Fix("supports", inputs.piece, {"at": rounded(np.array([at]))[0]}, at="tips", label="Add a tip") if at else None
    return Fix("plate", "*", {"stands": {**inputs["stands"], inputs.piece: "all"}}, label="On supports")


STEP = Step(
    name="check",
    title="Print check",
    number=9,
    version=7,
    over=BODIES,
    part_of="plate",
    settings=CheckSettings,
    needs={
        "runs": Need("layers", "runs"),
        "place": Need("plate", "home_to_plate"),
        "plate": Need("plate", "plate"),
        "reach": Need("plate", "reach_mm", setting=True),
        "wanted": Need("plate", "supports", setting=True),
        "stands": Need("plate", "stands", setting=True),
    },
    gives={},
    apply=apply,
    about="What will not print well, and where.",
)
