"""Part of Plate: what the steps before give to add, to cut and to split by, put together into each body in one go. Without
any, Base's body is the body."""

from __future__ import annotations

from ...engine.gives import MESH, SOLIDS, Solid
from ...engine.model import BODIES, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings
from ...mesh import GROUP_SCAN, Mesh, volume_ml
from ...mesh.topology import check_solid
from ...ops.assembly import assemble
from ...progress import Run


class AssembleSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: AssembleSettings, run: Run) -> StepResult:
    body: Mesh = inputs["body"]
    solids: list[Solid] = [solid for given in inputs["solids"].values() for solid in given]
    part = inputs.piece.partition(".")[2]
    splits = {s.name: s.mesh for s in solids if s.op == "split"}
    done = assemble(
        body,
        add=[(s.name, s.mesh) for s in solids if s.op == "add"],
        # What a split takes off is missing from all others.
        cut=[(s.name, s.mesh) for s in solids if s.op == "cut" or (s.op == "split" and s.name != part)],
        only=(part, splits[part]) if part in splits else None,
        run=run,
    )
    parts = check_solid(done.body).components
    flags = []
    if parts > 1:
        flags.append(Flag("in-parts", "look", f"The body is in {parts} parts that do not hang together."))
    kept = int((done.body.groups == GROUP_SCAN).sum())
    volume = volume_ml(done.body)
    readings = (
        Reading("volume", volume, "ml"),
        Reading("put together of", len(solids) + 1),
        Reading("scan surface moved by it, at most", done.moved_um, "µm"),
        Reading("triangles of the scan", kept),
        Reading("triangles", done.body.triangles),
    )
    return StepResult({"body": done.body}, readings, tuple(flags), f"{volume:.1f} ml")


STEP = Step(
    name="assemble",
    title="Assembly",
    number=9,
    version=1,
    over=BODIES,
    part_of="plate",
    settings=AssembleSettings,
    needs={"body": Need("base", "body"), "solids": Need(gathered=SOLIDS)},
    gives={"body": MESH},
    apply=apply,
    about="Every body put together.",
    shows=("body",),
    through={"body": "body"},
)
