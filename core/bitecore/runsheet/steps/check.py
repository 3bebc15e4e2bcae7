"""Part of Plate: the print check. What a layer does not hold, where resin is shut in, each with its place."""

from __future__ import annotations

import numpy as np

from ...engine.model import BODIES, Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings
from ...ops.layers import Layers
from ...parts.print_check import Found, checked
from ...progress import Run


class CheckSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: CheckSettings, run: Run) -> StepResult:
    made = checked(Layers.from_bytes(inputs["runs"][0].data), inputs["reach"], run)
    back = np.linalg.inv(np.array(inputs["place"]))
    flags = tuple(Flag(f.code, f.severity, f.message, _place(f, inputs.piece, back)) for f in made.found)
    return StepResult({}, tuple(Reading(*each) for each in made.readings), flags, made.figure)


def _place(found: Found, piece: str, back: np.ndarray) -> Place | None:
    """In the body's home."""
    if found.at_mm is None:
        return None
    x, y, z = (back[:3, :3] @ np.array(found.at_mm) + back[:3, 3]).tolist()
    return Place(piece, (x, y, z), found.radius_mm)


STEP = Step(
    name="check",
    title="Print check",
    number=9,
    version=3,
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
