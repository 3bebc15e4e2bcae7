"""Part of Trim: touch-up by hand: add, carve, smooth. Teeth are told before it, so that it cannot change which is which."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from ...engine.entries import Entry, EntryId, Points, points_of
from ...engine.gives import MESH, json_of
from ...engine.model import JAWS, Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings, setting
from ...mesh import Mesh
from ...ops.touch import Touch, touched_up
from ...progress import Run

# Farther than this from where a stroke was made, nothing of the surface is left there.
_LOST_MM = 3.0
# Less than this is no change: what a scanner cannot tell (common practice, no source).
_SEEN_MM = 0.001


class TouchStroke(Entry):
    """A stroke, its dabs in the jaw's home (mm). teeth : it may also move what is tooth."""

    kind: Literal["add", "carve", "smooth"]
    points_mm: Points
    radius_mm: float = Field(ge=0.2, le=10)
    strength: float = Field(0.5, gt=0, le=1)
    teeth: bool = False


class TouchSettings(StepSettings):
    strokes: dict[EntryId, TouchStroke] = setting(
        {}, label="Strokes", help="What was added, carved and smoothed by hand.", form=False, max_length=1000
    )


def apply(inputs: Inputs, settings: TouchSettings, run: Run) -> StepResult:
    mesh: Mesh = inputs["told"] if inputs["told"] is not None else inputs["mesh"]
    tooth = np.nan_to_num(mesh.channel.values) > 0 if mesh.channel is not None else np.zeros(len(mesh.vertices_mm), bool)
    free = np.zeros(len(tooth), bool)
    keys = sorted(settings.strokes, key=lambda k: (len(k), k))
    strokes, lost = [], []
    for key in keys:
        entry = settings.strokes[key]
        points = points_of(entry.points_mm, inputs)
        if _nearest(mesh, points[0]) > _LOST_MM:
            lost.append(entry.kind)
            continue
        strokes.append((Touch(entry.kind, points, entry.radius_mm, entry.strength), free if entry.teeth else tooth))
    run.tick(0.2, "touching up")
    after = touched_up(mesh, strokes)
    off = np.linalg.norm(after - mesh.vertices_mm, axis=1)
    touched = sorted({int(n) for n in mesh.channel.values[tooth & (off > _SEEN_MM)]}) if mesh.channel is not None else []
    flags = [
        Flag("touch-lost", "look", f"A stroke of the touch-up ({k}) lies on nothing of this scan. Drop it, or set it again.") for k in lost
    ]
    if touched:
        flags.append(_teeth(inputs.piece, mesh, off, tooth, touched))
    readings = (
        Reading("touched up, at most", float(off.max()), "mm"),
        Reading("touched up, triangles", int((off[mesh.faces] > _SEEN_MM).any(1).sum())),
    )
    values = {"mesh": mesh.with_vertices(after), "touched": touched}
    return StepResult(values, readings, tuple(flags), f"{len(keys)} strokes")


def _nearest(mesh: Mesh, point: NDArray) -> float:
    return float(np.linalg.norm(mesh.vertices_mm - point, axis=1).min())


def _teeth(piece: str, mesh: Mesh, off: NDArray, tooth: NDArray, touched: list[int]) -> Flag:
    most = int(np.where(tooth, off, 0.0).argmax())
    x, y, z = mesh.vertices_mm[most].tolist()
    text = f"Touched up on teeth: {', '.join(map(str, touched))}, by up to {off[most]:.2f} mm."
    return Flag("tooth-touched", "look", text, Place(piece, (x, y, z), 6.0))


STEP = Step(
    name="touch",
    title="Touch-up",
    number=4,
    version=1,
    over=JAWS,
    part_of="trim",
    settings=TouchSettings,
    off=lambda settings: not settings.strokes,
    needs={"mesh": Need("clean", "mesh"), "told": Need("teeth", "mesh", optional=True)},
    gives={"mesh": MESH, "touched": json_of(list[int])},
    apply=apply,
    about="What was added, carved and smoothed by hand.",
)
