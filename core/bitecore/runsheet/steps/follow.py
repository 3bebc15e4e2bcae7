"""Part of Bite: every other scan of a jaw laid on the jaw it belongs to by the surface they share."""

from __future__ import annotations

import numpy as np

from ...anatomy.following import CHANGED_MM, Followed, beyond, changed, follow
from ...anatomy.jaw import Jaw
from ...progress import Run
from ..kinds import FOLLOWERS
from ..model import Flag, Inputs, Need, Reading, Step, StepResult, StepSettings


class FollowSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: FollowSettings, run: Run) -> StepResult:
    about, mesh = inputs["own_about"], inputs["own"]
    jaw = about["jaw"] or about["looks"]
    target = next((p for p, own in inputs.jaws.items() if own == jaw), None)
    if target is None:
        return StepResult({"place": None})
    # An impression is the negative of the jaw: its surface looks the other way.
    seen = mesh.turned_inside_out() if about["kind"] == "impression" else mesh
    run.tick(0.1, "laying it on its jaw")
    first = Jaw.seen(inputs["mesh"][target], inputs["about"][target])
    done = follow(Jaw.seen(seen, about), first)
    if done.matrix is None:
        flag = Flag("not-followed", "look", f"It could not be laid on the {jaw} jaw: {done.why}.")
        return StepResult({"place": None}, (), (flag,), "not placed")
    run.tick(0.8, "what has changed")
    off = changed(seen, first.mesh, done.matrix)
    share = float((np.abs(off) > CHANGED_MM).sum() / max(np.isfinite(off).sum(), 1))
    figure = f"±{1000 * done.error_mm:.0f} µm"
    values: dict = {"place": _place(target, done)}
    part = beyond(mesh, off, CHANGED_MM)
    if part is not None:
        values["changed"] = part
    return StepResult(values, _readings(done, share), (_words(done, share, jaw),), figure)


def _place(target: str, done: Followed) -> dict:
    assert done.matrix is not None
    return {
        "on": target,
        "home_to_jaw": (np.round(done.matrix, 12) + 0.0).tolist(),
        "met": round(done.met, 4),
        "rms_mm": round(done.rms_mm, 6),
        "error_mm": round(done.error_mm, 6),
    }


def _readings(done: Followed, share: float) -> tuple[Reading, ...]:
    return (
        Reading("lies on the jaw", 100 * done.met, "%"),
        Reading("scatter of the fit (RMS)", 1000 * done.rms_mm, "µm"),
        Reading("teeth held to about", 1000 * done.error_mm, "µm"),
        Reading("changed surface", 100 * share, "%"),
    )


def _words(done: Followed, share: float, jaw: str) -> Flag:
    text = f"Laid on the {jaw} jaw by {done.met:.0%} of its surface, the teeth to about {1000 * done.error_mm:.0f} µm"
    return Flag("followed", "note", f"{text}; {share:.1%} has changed." if share > 0.002 else f"{text}.")


STEP = Step(
    name="follow",
    title="Following scans",
    number=2,
    version=1,
    scope="piece",
    part_of="bite",
    of=FOLLOWERS,
    settings=FollowSettings,
    needs={
        "own": Need("intake", "mesh"),
        "own_about": Need("intake", "about"),
        "mesh": Need("intake", "mesh", each=True),
        "about": Need("intake", "about", each=True),
    },
    apply=apply,
    about="Other scans of a jaw go with it.",
    shows=("changed",),
)
