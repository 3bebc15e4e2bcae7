"""Part of Articulate: how the jaws meet as they close about the hinge axis; worked out when it is asked for."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...engine.gives import json_of
from ...engine.model import WHOLE, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings
from ...ops.rigid import rounded
from ...ops.swing import Axis, Meeting, swing
from ...progress import Run
from ..closing import NEEDS, Closing
from ..values_held import Swung

# So far past the first contact others are looked for.
_PAST_MM = 0.25
# A contact that comes so much before all others, on its own, is said.
_EARLY_MM = 0.1


class SwingSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: SwingSettings, run: Run) -> StepResult:
    closing = Closing.of(inputs) if inputs["on"] else None
    if closing is None:
        return StepResult({"swing": None})
    hinge = inputs["hinge"]
    back, up = (hinge["behind_mm"], hinge["over_mm"]) if hinge else (inputs["back"], inputs["up"])
    away = np.array([0.0, -back, -up])
    axis = Axis(-away, np.array([1.0, 0.0, 0.0]), away / np.linalg.norm(away))
    run.tick(0.2, "swinging")
    on_bench = closing.meshes(inputs)
    met = swing(on_bench["upper"], on_bench["lower"], axis).meetings(past_mm=_PAST_MM)
    run.tick(0.9, "which teeth")
    listed, teeth = closing.met(inputs, met, on="lower")
    along = np.linalg.inv(closing.matrix["lower"])[:3, :3] @ axis.along
    value = {
        "piece": closing.piece["lower"], "at_mm": rounded(closing.home("lower", axis.at[None])[0]), "along": rounded(along),
        "printed": hinge is not None, "meets": listed,
    }  # fmt: skip
    return StepResult({"swing": value}, _readings(met), tuple(_said(met, teeth)))


def _readings(met: Sequence[Meeting]) -> tuple[Reading, ...]:
    if not met:
        return ()
    return (
        Reading("first contact, so far open", float(np.degrees(met[0].open_rad)), "°"),
        Reading("first contact, high by" if met[0].high_mm >= 0 else "first contact, short by", 1000 * abs(met[0].high_mm), "µm"),
    )


def _said(met: Sequence[Meeting], teeth: dict[str, list[int | None]]) -> list[Flag]:
    if not met:
        return [Flag("never-meet", "look", "Closing about the hinge axis the jaws never meet.")]
    where = " on ".join(str(teeth[jaw][0]) for jaw in ("upper", "lower") if teeth[jaw][0]) or "gum"
    high = met[0].high_mm
    if high >= -_EARLY_MM and len(met) > 1 and high - met[1].high_mm < _EARLY_MM:
        return []
    if high < 0:
        # As in a raised bite.
        text = f"Nothing meets in this bite: {-high:.2f} mm further about the hinge axis, {where} meets first."
        return [Flag("no-contact", "note", text)]
    text = f"Closing about the hinge axis, {where} meets first by itself, {1000 * high:.0f} µm before the bite is reached."
    return [Flag("early-contact", "note", text)]


STEP = Step(
    name="swing",
    title="Swing",
    number=8,
    version=3,
    over=WHOLE,
    part_of="articulate",
    settings=SwingSettings,
    needs={
        "on": Need("articulate", "swing", setting=True),
        "back": Need("articulate", "axis_back_mm", setting=True),
        "up": Need("articulate", "axis_up_mm", setting=True),
        # Hinged backs turn about their own.
        "hinge": Need("articulate", "hinge", optional=True),
        **NEEDS,
    },
    gives={"swing": json_of(Swung | None)},
    apply=apply,
    about="How the jaws meet as they close about the hinge.",
)
