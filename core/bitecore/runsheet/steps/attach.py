"""Part of Articulate: house parts, closed bodies of the lab's own that are put on a base and united with it."""

from __future__ import annotations

from typing import Annotated

import numpy as np
from pydantic import Field

from ...engine.entries import Entry, EntryId
from ...engine.gives import SOLIDS, Solid, Solids, json_of
from ...engine.model import JAWS, Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings, setting
from ...errors import StepFailed
from ...mesh import Mesh
from ...parts.attaching import FlatFace, attached, flat_faces
from ...parts.joining import whole
from ...progress import Run
from ..values_held import HousePart

_Mm = Annotated[float, Field(ge=-1e5, le=1e5)]
# Of the scan, and past the face the model stands on, this is nothing (judgement).
_COVERS_MM2, _PAST_MM = 0.05, 0.02


class AttachedPart(Entry):
    """A house part on a base.

    scan     : the piece it is
    at       : where the middle of its face stands, in the jaw's home (mm)
    turn_deg : about the wall's normal; face : which of its flat faces lies on the base, the largest is the first
    """

    scan: str = Field(max_length=20)
    at: tuple[_Mm, _Mm, _Mm]
    turn_deg: float = Field(0.0, ge=-180, le=180)
    face: int = Field(1, ge=1, le=12)


class AttachSettings(StepSettings):
    parts: dict[EntryId, AttachedPart] = setting(
        {}, label="House parts", help="Bodies of the house's own on this base.", form=False, max_length=12
    )


def apply(inputs: Inputs, settings: AttachSettings, run: Run) -> StepResult:
    body: Mesh = inputs["body"]
    up, front = np.array(inputs["foot"]["up"]), np.array(inputs["foot"]["front"])
    bodies: dict[str, tuple[Mesh, list[FlatFace]]] = {}
    solids, told, flags = Solids(), [], []
    for number, (ident, entry) in enumerate(sorted(settings.parts.items(), key=lambda item: (len(item[0]), item[0])), 1):
        run.tick(number / (len(settings.parts) + 1), f"house part {number}")
        name, place = f"House part {number}", Place(inputs.piece, entry.at, 4.0)
        try:
            part, faces = _part(inputs, entry, bodies, name)
            if entry.face > len(faces):
                raise StepFailed(f"{name} has {len(faces)} flat faces to stand on, and no number {entry.face}.", code="part-face")
            face = faces[entry.face - 1]
            done = attached(body, part, face, np.array(entry.at), turn_deg=entry.turn_deg, up=up, front=front, name=name)
        except StepFailed as failed:
            flags.append(Flag(failed.code, "look", failed.message, place, unmet=True))
            continue
        solids.append(Solid("add", done.solid, name.lower()))
        told.append({"entry": ident, "faces": len(faces), "face_mm2": round(face.area_mm2, 2), "round_mm": round(done.round_mm, 3)})
        if done.covers_mm2 > _COVERS_MM2:
            flags.append(Flag("part-covers", "look", f"{name} covers {done.covers_mm2:.1f} mm² of the scan.", place))
        if done.past_mm > _PAST_MM:
            text = f"{name} reaches {done.past_mm:.2f} mm past the face the model stands on."
            flags.append(Flag("part-past", "look", text, place))
    readings = (Reading("house parts", len(solids)),)
    if told and len(solids) == len(settings.parts):
        flags.append(Flag("attached", "note", f"{len(solids)} house part{'s' * (len(solids) != 1)} united with the base."))
    return StepResult({"solids": solids, "attached": told}, readings, tuple(flags), f"{len(solids)} house parts")


def _part(
    inputs: Inputs, entry: AttachedPart, bodies: dict[str, tuple[Mesh, list[FlatFace]]], name: str
) -> tuple[Mesh, list[FlatFace]]:  # fmt: skip
    """(it, its flat faces). Raises StepFailed."""
    if entry.scan not in inputs["own"]:
        raise StepFailed(f"{name} is gone, or is called something else now. Take it off, or bring it in again.", code="part-gone")
    if entry.scan not in bodies:
        mesh = whole(inputs["own"][entry.scan], name)
        bodies[entry.scan] = mesh, flat_faces(mesh)
    if not bodies[entry.scan][1]:
        raise StepFailed(f"{name} has no flat face to stand on.", code="part-face")
    return bodies[entry.scan]


STEP = Step(
    name="attach",
    title="House parts",
    number=8,
    version=3,
    over=JAWS,
    part_of="articulate",
    settings=AttachSettings,
    needs={"body": Need("base", "body"), "foot": Need("foot", "foot"), "own": Need("intake", "mesh", of=("part",))},
    gives={"solids": SOLIDS, "attached": json_of(list[HousePart])},
    apply=apply,
    about="Bodies of the house's own on the base.",
    off=lambda settings: not settings.parts,
)
