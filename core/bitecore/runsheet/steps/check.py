"""Part of Plate: the print check. What a layer does not hold, where resin is shut in, each with its place."""

from __future__ import annotations

from ...engine.model import BODIES, Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings
from ...ops.layers import Layers
from ...parts.print_check import checked
from ...progress import Run


class CheckSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: CheckSettings, run: Run) -> StepResult:
    made = checked(Layers.from_bytes(inputs["runs"][0].data), inputs["reach"], run)
    flags = []
    for f in made.found:
        at = f.at_home(inputs["place"])
        flags.append(Flag(f.code, f.severity, f.message, Place(inputs.piece, at, f.radius_mm) if at else None))
    return StepResult({}, tuple(Reading(*each) for each in made.readings), tuple(flags), made.figure)


STEP = Step(
    name="check",
    title="Print check",
    number=9,
    version=4,
    over=BODIES,
    part_of="plate",
    settings=CheckSettings,
    needs={
        "runs": Need("layers", "runs"),
        "place": Need("plate", "home_to_plate"),
        "reach": Need("plate", "reach_mm", setting=True),
    },
    gives={},
    apply=apply,
    about="What will not print well, and where.",
)
