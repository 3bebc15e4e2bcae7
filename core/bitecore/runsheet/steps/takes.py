"""Part of Plate: what the whole plate takes of resin and time."""

from __future__ import annotations

from pydantic import field_validator

from ...engine.gives import json_of
from ...engine.model import WHOLE, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings, setting
from ...parts.job_name import check_job
from ...parts.printing import Takes, taken, takes_of, tank_words
from ...progress import Run


class TakesSettings(StepSettings):
    job: str = setting(
        "{number}", min_length=1, max_length=80, label="Called at the printer", main=False,
        help="From {number}, {date}, {printer} and {resin}; a count is put behind it.",
    )  # fmt: skip

    @field_validator("job")
    @classmethod
    def _can_name(cls, pattern: str) -> str:
        return check_job(pattern)


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
    apply=apply,
    about="Resin and time of the whole plate.",
)
