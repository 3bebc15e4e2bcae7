"""Print check of every body as it lies: what a layer does not hold, where resin is shut in, each with its place."""

from __future__ import annotations

from ...engine.model import BODIES, Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings, setting
from ...ops.layers import Layers
from ...parts.print_check import checked
from ...progress import Run


class CheckSettings(StepSettings):
    reach_mm: float = setting(
        2.0, ge=0.2, le=20, unit="mm", label="Hangs freely up to", help="What stands out farther is told by the print check."
    )


def apply(inputs: Inputs, settings: CheckSettings, run: Run) -> StepResult:
    if inputs["runs"] is None:
        return StepResult({}, figure="no room")
    made = checked(Layers.from_bytes(inputs["runs"][0].data), settings.reach_mm, run, plate=inputs["plate"])
    name = inputs["stand"]["name"]
    flags = []
    for f in made.found:
        at = f.at_home(inputs["laid"])
        flags.append(Flag(f.code, f.severity, f"{name}: {_small(f.message)}", Place(inputs.piece, at, f.radius_mm) if at else None))
    return StepResult({}, tuple(Reading(*each) for each in made.readings), tuple(flags), made.figure)


def _small(sentence: str) -> str:
    return sentence[0].lower() + sentence[1:]


STEP = Step(
    name="check",
    title="Print check",
    number=3,
    version=4,
    over=BODIES,
    settings=CheckSettings,
    needs={
        "runs": Need("layers", "runs", optional=True),
        "laid": Need("pack", "laid"),
        "plate": Need("pack", "plate"),
        "stand": Need("source", "stand"),
    },
    gives={},
    apply=apply,
    about="What will not print well, and where.",
)
