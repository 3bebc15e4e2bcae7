"""Part of Hollow: what every body takes of resin, money and time, as it is made and as it would be solid."""

from __future__ import annotations

import numpy as np

from ...engine.gives import json_of
from ...engine.model import BODIES, Inputs, Need, Reading, Step, StepResult, StepSettings
from ...errors import StepFailed
from ...parts.printing import amount_of, printing_of
from ...progress import Run
from ..values import Amounts


class AmountsSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: AmountsSettings, run: Run) -> StepResult:
    if inputs["printer"] is None or inputs["resin"] is None:
        raise StepFailed("What it takes is known once Plate has a printer and a resin.", code="no-printer")
    printing, up = printing_of(inputs["printer"], inputs["resin"], inputs["layer"]), np.array(inputs["stand"]["up"])
    made, solid = (amount_of(inputs[name], up, printing) for name in ("body", "solid"))
    readings = [
        Reading("resin", made["ml"], "ml"), Reading("weight", made["grams"], "g"), Reading("printing alone", made["minutes"], "min"),
        Reading("solid it would take", solid["ml"], "ml"),
    ]  # fmt: skip
    if made["cost"] is not None:
        readings.append(Reading("cost of the resin", made["cost"]))
    return StepResult({"amounts": {"resin": printing["resin"], "made": made, "solid": solid}}, tuple(readings), (), f"{made['ml']:.1f} ml")


STEP = Step(
    name="amounts",
    title="Resin",
    number=6,
    version=2,
    over=BODIES,
    part_of="hollow",
    settings=AmountsSettings,
    needs={
        "body": Need("assemble", "body"),
        "solid": Need("base", "body"),
        "stand": Need("foot", "foot"),
        # Not Plate's own result: it takes as much where the bodies do not fit on the printer.
        "printer": Need("shelf", "plate.printer"),
        "resin": Need("shelf", "plate.resin"),
        "layer": Need("plate", "layer_mm", setting=True),
    },
    gives={"amounts": json_of(Amounts)},
    nameless=("amounts",),
    apply=apply,
    about="What it takes of resin and time.",
)
