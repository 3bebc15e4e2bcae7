"""Intake: weld a scan, find out what it is and which way it faces, and list what is wrong with it. Edits nothing."""

from __future__ import annotations

from typing import Literal

import numpy as np

from ...anatomy.jawshape import UNITS, unit_of
from ...anatomy.whatis import Shape, recognise
from ...errors import StepFailed
from ...files import Limits, read_mesh
from ...mesh import Mesh, area_mm2, bounds_mm, edge_table
from ...ops.holes import Hole, holes_of
from ...ops.mend import component_areas, largest_piece
from ...ops.rigid import rounded
from ...ops.weld import weld
from ...progress import Run
from ..model import Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings, setting

KIND_WORDS = {
    "jaw": "jaw scan", "bite": "bite scan", "impression": "impression", "closed": "closed model", "die": "die",
    "desk": "desk scan", "before": "scan from before treatment", "denture": "denture", "other": "something else",
}  # fmt: skip
Kind = Literal["auto", "jaw", "bite", "impression", "closed", "die", "desk", "before", "denture", "other"]


class IntakeSettings(StepSettings):
    kind: Kind = setting("auto", label="What it is", help="Auto: as the shape says. A choice here stands.")
    jaw: Literal["auto", "upper", "lower"] = setting("auto", label="Jaw", help="Auto: as the shape says.")
    unit: Literal["auto", "mm", "cm", "m", "inch"] = setting(
        "auto", label="Unit of the file", help="Auto: from its size. STL files do not say their unit.", main=False
    )
    inside: Literal["auto", "keep", "turn"] = setting(
        "auto", label="Inside-out", help="Auto: turned where the surface faces inwards.", main=False
    )


def apply(inputs: Inputs, settings: IntakeSettings, run: Run) -> StepResult:
    # The limit was judged at the door; a scan that is in the case is read whatever the limit is now.
    soup = read_mesh("the scan", inputs["file"], Limits(triangles=10**9))
    run.tick(0.25, "welding")
    extent = float(np.ptp(soup.points, axis=0).max())
    found_unit, unit_confidence = unit_of(extent)
    unit = found_unit if settings.unit == "auto" else settings.unit
    welded = weld(soup.points * UNITS[unit])
    if welded.mesh.triangles == 0:
        raise StepFailed("Nothing is left of this scan: none of its triangles has an area.", code="no-triangles")
    run.tick(0.5, "looking at the shape")
    shape = recognise(welded.mesh)
    turn = shape.inside_out if settings.inside == "auto" else settings.inside == "turn"
    mesh = welded.mesh.turned_inside_out() if turn else welded.mesh
    run.tick(0.8, "findings")
    kind = shape.kind if settings.kind == "auto" else settings.kind
    jaw = _jaw(shape, settings, kind)
    about = {
        "kind": kind,
        "jaw": jaw,
        "jaw_by_hand": settings.jaw != "auto",
        "confidence": 1.0 if settings.jaw != "auto" else round(shape.confidence if jaw else shape.kind_confidence, 3),
        "unit": unit,
        "unit_mm": UNITS[unit],
        "turned_inside_out": bool(turn),
        "up": rounded(shape.up),
        "front": rounded(shape.front),
        "incisal": None if shape.incisal is None else rounded(shape.incisal),
        "form": soup.form,
    }
    flags = [*_what_flags(inputs.piece, about, settings, unit_confidence), *_findings(inputs.piece, mesh, about)]
    if soup.dropped_nan or welded.degenerate:
        flags.append(Flag("dropped-triangles", "note", _dropped_words(soup.dropped_nan, welded.degenerate)))
    figure = f"{mesh.triangles:,} triangles"
    return StepResult({"mesh": mesh, "about": about}, _readings(mesh, soup.dropped_nan, welded.degenerate), tuple(flags), figure)


def _jaw(shape: Shape, settings: IntakeSettings, kind: str) -> str | None:
    if settings.jaw != "auto":
        return settings.jaw
    return (shape.jaw or "upper") if kind == "jaw" else None


def _dropped_words(nan: int, degenerate: int) -> str:
    parts = []
    if nan:
        parts.append(f"{nan:,} triangles with a corner that is not a number")
    if degenerate:
        parts.append(f"{degenerate:,} triangles without area")
    return f"Left out: {' and '.join(parts)}."


def _what_flags(piece: str, about: dict, settings: IntakeSettings, unit_confidence: float) -> list[Flag]:
    flags = []
    kind, jaw, sure = about["kind"], about["jaw"], about["confidence"]
    if kind != "jaw":
        flags.append(Flag("kept", "note", f"Taken for a {KIND_WORDS[kind]}: kept with the case, not worked on yet."))
    elif sure < 0.9:
        text = f"Looks like the {jaw} jaw, {sure:.0%} sure. Choose the other if it is not."
        flags.append(Flag("jaw-unsure", "look" if sure < 0.8 else "note", text))
    if about["unit"] != "mm":
        text = f"The file is in {about['unit']}: taken times {about['unit_mm']:g} to be millimetres."
        flags.append(Flag("unit", "note" if unit_confidence > 0.9 or settings.unit != "auto" else "look", text))
    if about["turned_inside_out"]:
        flags.append(Flag("inside-out", "note", "The surface was inside-out and has been turned."))
    return flags


def _findings(piece: str, mesh: Mesh, about: dict) -> list[Flag]:
    flags = []
    _, areas = component_areas(mesh)
    loose = int((areas < 0.02 * areas.max()).sum())
    if loose:
        flags.append(Flag("loose-bits", "note", f"{loose} loose bit{'s' * (loose > 1)} beside the surface; Trim drops them."))
    holes = [h for h in _holes(mesh) if h.width_mm > 0.5] if about["kind"] == "jaw" else []
    for hole in sorted(holes, key=lambda h: -h.width_mm)[:8]:
        place = Place(piece, (hole.middle_mm[0], hole.middle_mm[1], hole.middle_mm[2]), max(hole.width_mm, 1.0))
        flags.append(Flag("hole", "note", f"Hole of {hole.width_mm:.1f} mm.", place))
    crowded = int((edge_table(mesh).count > 2).sum())
    if crowded:
        flags.append(Flag("crowded-edges", "note", f"{crowded} edges that more than two triangles share; Trim mends them."))
    return flags


def _holes(mesh: Mesh) -> list[Hole]:
    """Holes of the surface itself: the rims of loose bits are none."""
    if "holes" not in mesh._memo:
        mesh._memo["holes"] = holes_of(largest_piece(mesh))
    return mesh._memo["holes"]


def _readings(mesh: Mesh, nan: int, degenerate: int) -> tuple[Reading, ...]:
    low, high = bounds_mm(mesh)
    size = high - low
    _, areas = component_areas(mesh)
    return (
        Reading("triangles", mesh.triangles),
        Reading("width", float(size[0]), "mm"),
        Reading("depth", float(size[1]), "mm"),
        Reading("height", float(size[2]), "mm"),
        Reading("surface", area_mm2(mesh), "mm²"),
        Reading("loose bits", int((areas < 0.02 * areas.max()).sum())),
        Reading("holes", len(_holes(mesh))),
        Reading("triangles left out", nan + degenerate),
    )


STEP = Step(
    name="intake",
    title="Intake",
    number=1,
    version=3,
    scope="piece",
    every_piece=True,
    settings=IntakeSettings,
    needs={"file": Need("source", "file")},
    apply=apply,
    about="What came in: its unit, what it is, which way it faces, what is wrong with it.",
    shows="mesh",
)
