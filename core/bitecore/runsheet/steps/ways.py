"""Part of Plate: what every way to lay a body costs, side by side; worked out when it is asked for."""

from __future__ import annotations

import numpy as np

from ...engine.gives import json_of
from ...engine.model import BODIES, Inputs, Need, Step, StepResult, StepSettings
from ...parts.printing import printing_of
from ...parts.supports import DENSE, Sizes
from ...parts.ways import WAYS, Asked, cost_of
from ...progress import Run
from ..part_names import part_of
from ..tips_said import kept_free
from ..values import WayCost


class WaysSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: WaysSettings, run: Run) -> StepResult:
    # What is printed beside a model stands as it does: dies upright, joined bodies as their jaw.
    if not inputs["on"] or part_of(inputs.piece) or inputs["printer"] is None or inputs["resin"] is None:
        return StepResult({"ways": None})
    foot = inputs["foot"]
    asked = Asked(
        np.array(foot["up"]), np.array(foot["front"]), inputs["raised"], inputs["reach"], inputs["reach"] * DENSE[inputs["dense"]],
        Sizes(inputs["tip"], inputs["wide"], inputs["raft"] != "none"), kept_free(inputs, np.eye(4)).points,
        printing_of(inputs["printer"], inputs["resin"], inputs["layer"]),
    )  # fmt: skip
    out: list[WayCost] = []
    for number, (way, tilt) in enumerate(WAYS):
        part = run.part(number / len(WAYS), (number + 1) / len(WAYS))
        out.append({"way": way, "tilt_deg": tilt} | cost_of(inputs["body"], tilt, asked, part))  # type: ignore[arg-type]
    return StepResult({"ways": out})


STEP = Step(
    name="ways",
    title="Ways to lay",
    number=9,
    version=7,
    over=BODIES,
    part_of="plate",
    settings=WaysSettings,
    needs={
        "on": Need("plate", "compare", setting=True),
        "body": Need("assemble", "body"),
        "foot": Need("foot", "foot"),
        "stand": Need("level", "stand"),
        "teeth": Need("teeth", "mesh", optional=True),
        "letters": Need("label", "letters", optional=True),
        "dies": Need("dies", "dies", optional=True),
        "raised": Need("plate", "raise_mm", setting=True),
        "reach": Need("plate", "reach_mm", setting=True),
        "dense": Need("supports", "dense", setting=True),
        "tip": Need("supports", "tip_mm", setting=True),
        "wide": Need("supports", "foot_mm", setting=True),
        "raft": Need("supports", "raft", setting=True),
        "printer": Need("shelf", "plate.printer"),
        "resin": Need("shelf", "plate.resin"),
        "layer": Need("plate", "layer_mm", setting=True),
    },
    gives={"ways": json_of(list[WayCost] | None)},
    nameless=("ways",),
    apply=apply,
    about="What every way to lay a body costs.",
)
