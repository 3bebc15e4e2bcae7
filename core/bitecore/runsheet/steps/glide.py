"""Part of Articulate: how the jaws touch as the lower goes forward and to its sides on average paths; worked out when it is asked for."""

from __future__ import annotations

import numpy as np

from ...anatomy.average import SIDE_MM
from ...engine.gives import json_of
from ...engine.model import WHOLE, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings
from ...ops.glide import Pose, Way, crowns, joints_of, table
from ...ops.rigid import rows
from ...progress import Run
from ..closing import NEEDS, Closing
from ..values_held import Glided

# Of condyles; teeth seldom touch farther out (judgement).
_STEPS_MM = tuple(0.5 * k for k in range(1, 11))
_WAYS: tuple[Way, ...] = ("forward", "left", "right")
# Touching is what comes so near; nothing farther than that from the occlusal plane does.
_PAST_MM, _NEAR_MM = 0.05, 7.0
# So many places are listed of a pose.
_MOST = 8


class GlideSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: GlideSettings, run: Run) -> StepResult:
    closing = Closing.of(inputs) if inputs["on"] else None
    if closing is None:
        return StepResult({"glide": None})
    on_bench = {jaw: crowns(mesh, 1.0 if jaw == "lower" else -1.0, _NEAR_MM) for jaw, mesh in closing.meshes(inputs).items()}
    joints = joints_of(np.array([0.0, inputs["back"], inputs["up"]]), SIDE_MM, inputs["path"], inputs["side"])
    poses: list[Pose] = []
    for number, way in enumerate(_WAYS):
        run.tick(number / len(_WAYS), f"to the {way}" if way != "forward" else way)
        poses += table(on_bench["upper"], on_bench["lower"], joints, {way: _STEPS_MM}, past_mm=_PAST_MM)
    told = [
        {
            "way": pose.way, "by_mm": pose.by_mm, "matrix": rows(pose.matrix),
            "meets": closing.met(inputs, pose.meets[:_MOST], on="upper", lower=pose.matrix)[0],
        }
        for pose in poses
    ]  # fmt: skip
    flags = (Flag("on-average", "note", "On average paths of the condyles, not on this patient's."),)
    return StepResult({"glide": {"piece": closing.piece["lower"], "poses": told}}, _readings(poses), flags)


def _readings(poses: list[Pose]) -> tuple[Reading, ...]:
    """How far the lower incisors go down where the condyles have gone as far as is looked at."""
    out = []
    for way in _WAYS:
        last = [pose for pose in poses if pose.way == way]
        if last:
            word = way if way == "forward" else f"to the {way}"
            out.append(Reading(f"incisors go down, {word} {last[-1].by_mm:.0f} mm", -float(last[-1].matrix[2, 3]), "mm"))
    return tuple(out)


STEP = Step(
    name="glide",
    title="Forward and sideways",
    number=8,
    version=1,
    over=WHOLE,
    part_of="articulate",
    settings=GlideSettings,
    needs={
        "on": Need("articulate", "glide", setting=True),
        "back": Need("articulate", "axis_back_mm", setting=True),
        "up": Need("articulate", "axis_up_mm", setting=True),
        "path": Need("articulate", "path_deg", setting=True),
        "side": Need("articulate", "side_deg", setting=True),
        **NEEDS,
    },
    gives={"glide": json_of(Glided | None)},
    apply=apply,
    about="How the jaws touch as the lower goes forward and to its sides.",
)
