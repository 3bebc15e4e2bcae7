"""Part of Plate: what the whole plate takes of resin and time."""

from __future__ import annotations

from ...engine.gives import json_of
from ...engine.model import WHOLE, Inputs, Need, Reading, Step, StepResult, StepSettings
from ...parts.printing import Takes, taken, takes_of
from ...progress import Run


class TakesSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: TakesSettings, run: Run) -> StepResult:
    takes = takes_of(inputs["printing"], list(inputs["sum"].values()))
    return StepResult({"takes": takes}, tuple(Reading(*each) for each in taken(takes)), (), f"{takes['ml']:.1f} ml")


STEP = Step(
    name="takes",
    title="What it takes",
    number=9,
    version=1,
    over=WHOLE,
    part_of="plate",
    settings=TakesSettings,
    needs={"sum": Need("layers", "sum", each=True), "printing": Need("plate", "printing")},
    gives={"takes": json_of(Takes)},
    apply=apply,
    about="Resin and time of the whole plate.",
)
