"""Part of Articulate: how the jaws touch as the lower goes forward and to its sides on average paths; worked out when it is asked for."""

from __future__ import annotations

from typing import Any

import numpy as np

from ...anatomy.average import SIDE_MM
from ...anatomy.teeth.numbers import numbers_at
from ...engine.gives import json_of
from ...engine.model import WHOLE, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings
from ...ops.glide import Pose, Way, crowns, joints_of, table
from ...ops.rigid import rounded, rows
from ...progress import Run
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
    piece = {jaw: each for each, jaw in inputs.jaws.items()}
    bite = inputs["home_to_bite"]
    if not inputs["on"] or set(piece) != {"upper", "lower"} or any(bite.get(each) is None for each in piece.values()):
        return StepResult({"glide": None})
    matrix = {jaw: np.array(inputs["home_to_bench"][each]) for jaw, each in piece.items()}
    on_bench = {}
    for jaw, each in piece.items():
        mesh = inputs["mesh"][each]
        points = mesh.vertices_mm @ matrix[jaw][:3, :3].T + matrix[jaw][:3, 3]
        on_bench[jaw] = crowns(mesh.with_vertices(points), 1.0 if jaw == "lower" else -1.0, _NEAR_MM)
    joints = joints_of(np.array([0.0, inputs["back"], inputs["up"]]), SIDE_MM, inputs["path"], inputs["side"])
    poses: list[Pose] = []
    for number, way in enumerate(_WAYS):
        run.tick(number / len(_WAYS), f"to the {way}" if way != "forward" else way)
        poses += table(on_bench["upper"], on_bench["lower"], joints, {way: _STEPS_MM}, past_mm=_PAST_MM)
    told = [_told(pose, piece, matrix, inputs) for pose in poses]
    flags = (Flag("on-average", "note", "On average paths of the condyles, not on this patient's."),)
    return StepResult({"glide": {"piece": piece["lower"], "poses": told}}, _readings(poses), flags)


def _told(pose: Pose, piece: dict[str, str], matrix: dict[str, np.ndarray], inputs: Inputs) -> dict[str, Any]:
    met = pose.meets[:_MOST]
    points = np.array([m.at_mm for m in met]).reshape(-1, 3)
    back = np.linalg.inv(pose.matrix)
    # In the homes of both: the lower has moved.
    on_lower = points @ back[:3, :3].T + back[:3, 3]
    home = {}
    for jaw, at in (("upper", points), ("lower", on_lower)):
        to_home = np.linalg.inv(matrix[jaw])
        home[jaw] = at @ to_home[:3, :3].T + to_home[:3, 3]
    teeth = {jaw: numbers_at(inputs["teeth"].get(each), home[jaw]) for jaw, each in piece.items()}
    meets = [
        {
            "teeth": (teeth["upper"][k], teeth["lower"][k]), "piece": piece["upper"], "point_mm": rounded(home["upper"][k]),
            "open_deg": round(float(np.degrees(m.open_rad)), 4), "high_mm": round(m.high_mm, 4),
        }
        for k, m in enumerate(met)
    ]  # fmt: skip
    return {"way": pose.way, "by_mm": pose.by_mm, "matrix": rows(pose.matrix), "meets": meets}


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
        "mesh": Need("clean", "mesh", each=True),
        "home_to_bite": Need("bite", "home_to_bite", each=True, optional=True),
        "home_to_bench": Need("level", "home_to_bench", each=True),
        "teeth": Need("teeth", "mesh", each=True, optional=True),
    },
    gives={"glide": json_of(Glided | None)},
    apply=apply,
    about="How the jaws touch as the lower goes forward and to its sides.",
)
