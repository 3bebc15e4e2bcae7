"""Part of Intake: does a scan show, to the last triangle, the surface of one that is here? Then it went out and came back."""

from __future__ import annotations

from ...anatomy.shared import Shared, shared_surface
from ...engine.gives import json_of
from ...engine.model import Fix, Flag, Inputs, Need, Step, StepResult, StepSettings, over_kinds
from ...ops.rigid import rows
from ...progress import Run
from ..kinds import EARLIER, FOLLOWERS
from ..values import CameBack


class ReturnedSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: ReturnedSettings, run: Run) -> StepResult:
    scans = {**inputs["earlier"], **inputs["jaws"]}
    found: dict[str, Shared] = {}
    for number, (piece, mesh) in enumerate(scans.items()):
        run.tick(number / len(scans), "looking for surface that is the same")
        shared = shared_surface(inputs["own"], mesh) if piece != inputs.piece else None
        if shared is not None:
            found[piece] = shared
    if not found:
        return StepResult({"home": None})
    piece, shared = max(found.items(), key=lambda item: item[1].other)
    home = {
        "piece": piece,
        "matrix": rows(shared.matrix),
        "own": round(shared.own, 4),
        "other": round(shared.other, 4),
        "rms_mm": round(shared.rms_mm, 6),
        "made": shared.made,
    }
    if not shared.made:
        return StepResult({"home": home})
    text = f"It came back: {shared.own:.0%} of it is the surface of a scan of this case, {shared.other:.0%} of that one."
    stay = Fix("intake", inputs.piece, {"kind": "other"}, label="Leave it where it was")
    return StepResult({"home": home}, (), (Flag("came-back", "note", text, fix=stay),))


STEP = Step(
    name="returned",
    title="Came back",
    number=1,
    version=2,
    over=over_kinds((*FOLLOWERS, "bite", "other")),
    part_of="intake",
    settings=ReturnedSettings,
    needs={
        "own": Need("intake", "mesh"),
        "jaws": Need("intake", "mesh", each=True),
        "earlier": Need("intake", "mesh", of=EARLIER),
    },
    gives={"home": json_of(CameBack | None)},
    apply=apply,
    about="Files that went out and came back, however they were moved and cut.",
)
