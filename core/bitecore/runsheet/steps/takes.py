"""Part of Plate: what the whole plate takes of resin and time."""

from __future__ import annotations

from ...engine.gives import json_of
from ...engine.model import WHOLE, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings, setting
from ...parts.job_name import JOB_WORDS, JobPattern
from ...parts.printing import Takes, taken, takes_of, tank_words
from ...progress import Run


class TakesSettings(StepSettings):
    job: JobPattern = setting("{number}", **JOB_WORDS)


def apply(inputs: Inputs, settings: TakesSettings, run: Run) -> StepResult:
    takes = takes_of(inputs["printing"], list(inputs["sum"].values()))
    more = tank_words(inputs["plate"], takes)
    flags = (Flag("tank", "look", more),) if more else ()
    return StepResult({"takes": takes}, tuple(Reading(*each) for each in taken(takes)), flags, f"{takes['ml']:.1f} ml")


STEP = Step(
    name="takes",
    title="What it takes",
    number=9,
    version=2,
    over=WHOLE,
    part_of="plate",
    settings=TakesSettings,
    needs={"sum": Need("layers", "sum", each=True), "printing": Need("plate", "printing"), "plate": Need("plate", "plate")},
    gives={"takes": json_of(Takes)},
    nameless=("takes",),
    apply=apply,
    about="Resin and time of the whole plate.",
)
