"""Part of Plate: what the steps before give to add, to cut and to split by, put together into each body in one go. Without
any, Base's body is the body."""

from __future__ import annotations

from collections.abc import Iterator

from ...engine.gives import MESH, SOLIDS, Solid
from ...engine.model import BODIES, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings
from ...errors import StepFailed
from ...mesh import GROUP_SCAN, Mesh, volume_ml
from ...mesh.topology import check_solid
from ...ops.assembly import Assembled, assemble
from ...progress import Run
from ..hinged import APART, PIN
from ..part_names import JOINED, is_die, part_of


class AssembleSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: AssembleSettings, run: Run) -> StepResult:
    body: Mesh = inputs["body"]
    solids: list[Solid] = [solid for given in inputs["solids"].values() for solid in given]
    part = part_of(inputs.piece)
    splits = {s.name: s.mesh for s in solids if s.op == "split"}
    only = (part, splits[part]) if part in splits else None
    alone = next((s.mesh for s in solids if s.op == "part" and s.name == part), None)
    if alone is not None:
        return _alone(alone)
    if part in (*APART, PIN):
        raise StepFailed("There is no hinge to make it for: Articulate says why.", code="no-part")
    if is_die(part):
        raise StepFailed(f"There is no {part.replace('-', ' of ', 1)}: Dies says why.", code="no-part")
    if part == JOINED and not any(s.op == "join" for s in solids):
        raise StepFailed("There is nothing to be one body with: Articulate says why.", code="no-part")
    done = _together(body, solids, part, only, run)
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
    values = {"body": done.body}
    if inputs["dots_cut"] is not None or inputs["dots_add"] is not None:
        values["veiled"] = _together(body, list(_hidden(inputs)), part, only, run).body
    return StepResult(values, readings, tuple(flags), f"{volume:.1f} ml")


def _alone(body: Mesh) -> StepResult:
    """A part that is no part of the jaw's body."""
    volume = volume_ml(body)
    readings = (Reading("volume", volume, "ml"), Reading("triangles", body.triangles))
    return StepResult({"body": body}, readings, (), f"{volume:.1f} ml")


def _together(body: Mesh, solids: list[Solid], part: str, only: tuple[str, Mesh] | None, run: Run) -> Assembled:
    return assemble(
        body,
        add=[(s.name, s.mesh) for s in solids if s.op == "add" or (s.op == "join" and s.name == part)],
        # What a split takes off is missing from all others.
        cut=[(s.name, s.mesh) for s in solids if s.op == "cut" or (s.op == "split" and s.name != part)],
        only=only,
        filled=part == JOINED,
        run=run,
    )


def _hidden(inputs: Inputs) -> Iterator[Solid]:
    """Everything, with dots in the labels where the patient's name stands: what is shown under the veil."""
    yield from (solid for step, given in inputs["solids"].items() if step != "label" for solid in given)
    if inputs["dots_cut"] is not None:
        yield Solid("cut", inputs["dots_cut"], "the label")
    if inputs["dots_add"] is not None:
        yield Solid("add", inputs["dots_add"], "the label")


STEP = Step(
    name="assemble",
    title="Assembly",
    number=9,
    version=1,
    over=BODIES,
    part_of="plate",
    settings=AssembleSettings,
    needs={
        "body": Need("base", "body"),
        "solids": Need(gathered=SOLIDS),
        "dots_cut": Need("label", "dots_cut", optional=True),
        "dots_add": Need("label", "dots_add", optional=True),
    },
    gives={"body": MESH, "veiled": MESH},
    nameless=("veiled",),
    apply=apply,
    about="Every body put together.",
    shows=("body", "veiled"),
    through={"body": "body"},
)
