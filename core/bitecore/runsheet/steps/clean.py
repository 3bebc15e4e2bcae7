"""Part of Trim: loose bits dropped, faults mended, holes closed. Teeth are told on what this gives, and trimmed is that."""

from __future__ import annotations

from ...engine.gives import MESH, json_of
from ...engine.model import JAWS, Fix, Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings
from ...errors import StepFailed
from ...mesh import Mesh
from ...ops.flaws import without_flaws
from ...ops.holes import Hole, close_holes
from ...ops.mend import Mended, mend
from ...progress import Run


class CleanSettings(StepSettings):
    """What is mended is said in Trim, where Intake's Fix writes it."""


def apply(inputs: Inputs, settings: CleanSettings, run: Run) -> StepResult:
    raw: Mesh = inputs["mesh"]
    mended = mend(_without(raw, inputs["folds"], inputs["spikes"]), loose_share=inputs["loose_percent"] / 100)
    run.tick(0.4, "closing holes")
    whole, closed, left = close_holes(mended.mesh, up_to_mm=inputs["holes_mm"], run=run.part(0.4, 1.0))
    readings = (Reading("holes closed", len(closed)), Reading("loose bits dropped", mended.loose_bits))
    flags = tuple(_flags(inputs.piece, mended, closed, left))
    return StepResult({"mesh": whole, "came": raw.triangles}, readings, flags, f"{len(closed)} hole{'s' * (len(closed) != 1)} closed")


def _without(raw: Mesh, folds: bool, spikes: bool) -> Mesh:
    """What a Fix of Intake asked for: folds and spikes out; the holes they leave are closed with the others."""
    left = without_flaws(raw, folds=folds, spiky=spikes)
    if left.triangles == 0:
        raise StepFailed("Nothing is left without its folds and spikes. Leave them in.", code="nothing-left")
    return left


def _flags(piece: str, mended: Mended, closed: list[Hole], left: list[Hole]) -> list[Flag]:
    flags = []
    if mended.loose_bits:
        flags.append(Flag("dropped-bits", "note", f"{mended.loose_bits} loose bits dropped."))
    if mended.fins + mended.turned + mended.doubles:
        text = f"Mended: {mended.fins} fins, {mended.turned} turned and {mended.doubles} double triangles."
        flags.append(Flag("mended", "note", text))
    for hole in sorted(closed, key=lambda h: -h.width_mm)[:6]:
        flags.append(Flag("hole-closed", "note", f"Hole of {hole.width_mm:.1f} mm closed.", _place(piece, hole)))
    for hole in sorted(left, key=lambda h: -h.width_mm)[:6]:
        fix = Fix("trim", piece, {"holes_mm": round(min(hole.width_mm + 0.1, 40.0), 1)})
        text = f"Hole of {hole.width_mm:.1f} mm is left open: it is wider than the limit."
        flags.append(Flag("hole-open", "look", text, _place(piece, hole), fix))
    return flags


def _place(piece: str, hole: Hole) -> Place:
    x, y, z = hole.middle_mm.tolist()
    return Place(piece, (x, y, z), max(hole.width_mm, 1.0))


STEP = Step(
    name="clean",
    title="Clean",
    number=4,
    version=1,
    over=JAWS,
    part_of="trim",
    settings=CleanSettings,
    needs={
        "mesh": Need("intake", "mesh"),
        "folds": Need("trim", "folds", setting=True),
        "spikes": Need("trim", "spikes", setting=True),
        "holes_mm": Need("trim", "holes_mm", setting=True),
        "loose_percent": Need("trim", "loose_percent", setting=True),
    },
    gives={"mesh": MESH, "came": json_of(int)},
    apply=apply,
    about="Loose bits, faults and holes of a scan.",
)
