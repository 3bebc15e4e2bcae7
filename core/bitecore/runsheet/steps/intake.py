"""Intake: weld a scan, find out what it is and which way it faces, and list what is wrong with it. Edits nothing."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import Literal

import numpy as np

from ...anatomy.block import find
from ...anatomy.jawshape import UNITS, unit_of
from ...anatomy.whatis import Shape, recognise
from ...engine.gives import FILES, MESH, Files, FileValue, json_of
from ...engine.model import SCANS, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings, setting
from ...errors import StepFailed
from ...files import Limits, read_mesh
from ...files.colours import redness
from ...mesh import Mesh, area_mm2, bounds_mm, surface_print
from ...ops.crossing import crossing_faces
from ...ops.flaws import spikes
from ...ops.mend import component_areas
from ...ops.rigid import rounded
from ...ops.weld import weld
from ...progress import Run
from ..crossings import as_file
from ..findings import SCANNED, findings, holes_in
from ..values import About

KIND_WORDS = {
    "jaw": "jaw scan", "bite": "bite scan", "impression": "impression", "closed": "closed model", "die": "die",
    "desk": "desk scan", "bodies": "mouth scan with scan bodies", "before": "scan from before treatment", "wax": "wax-up",
    "denture": "denture", "returned": "file that came back", "part": "house part", "other": "scan of something else",
}  # fmt: skip
# What becomes of those that are not worked on themselves.
_SERVES = {
    "bite": "Bite places the jaws by it",
    "part": "Articulate puts it on a base",
    "other": "kept with the case, choose what it is if it shall serve",
}
_SERVES |= dict.fromkeys(
    ("impression", "desk", "bodies", "before", "wax", "denture", "die", "returned"), "kept with the case, it goes with its jaw"
)
# Stump and shaft together (common practice, no source).
_DIE_MM = 19.0
# What the run sheet works on: a closed model is sawn open below its teeth.
WORKED = ("jaw", "closed")
SURE = 0.9
Kind = Literal[
    "auto", "jaw", "bite", "impression", "closed", "die", "desk", "bodies", "wax", "before", "denture", "returned", "part", "other"
]


class IntakeSettings(StepSettings):
    kind: Kind = setting("auto", label="What it is", help="Auto: as the shape says. A choice here stands.")
    jaw: Literal["auto", "upper", "lower"] = setting("auto", label="Jaw", help="Auto: as the shape says.")
    side: Literal["auto", "right", "front", "left"] = setting(
        "auto", label="Part of the arch", help="Of a scan of a part: where in the patient it lies. Auto: as its shape says.", main=False
    )
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
    # What a house made for its models came in millimetres, however small it is.
    found_unit, unit_confidence = ("mm", 1.0) if settings.kind == "part" else (found_unit, unit_confidence)
    unit = found_unit if settings.unit == "auto" else settings.unit
    welded = weld(soup.points * UNITS[unit])
    if welded.mesh.triangles == 0:
        raise StepFailed("Nothing is left of this scan: none of its triangles has an area.", code="no-triangles")
    run.tick(0.5, "looking at the shape")
    with ThreadPoolExecutor(1) as beside:
        crossing = beside.submit(crossing_faces, welded.mesh)
        shape = _seen(welded.mesh, settings)
    crosses = crossing.result()
    if settings.unit == "auto" and shape.kind == "die" and settings.kind != "part":
        # A die is a fraction of a jaw: its own size tells the unit better.
        unit = unit_of(extent, usual_mm=_DIE_MM)[0]
        if unit != found_unit:
            welded = weld(soup.points * UNITS[unit])
            shape, crosses = _seen(welded.mesh, settings), crossing_faces(welded.mesh)
    home = find(welded.mesh)
    kind = settings.kind if settings.kind != "auto" else "returned" if home else shape.kind
    # An impression is a negative: turned about it would still not be the jaw with its tray.
    faces_in = shape.inside_out and kind in ("jaw", "closed", "desk", "bodies", "wax", "die", "denture", "before")
    turn = faces_in if settings.inside == "auto" else settings.inside == "turn"
    mesh = welded.mesh.turned_inside_out() if turn else welded.mesh
    run.tick(0.8, "findings")
    jaw = _jaw(shape, settings, kind)
    about = {
        "kind": kind,
        "jaw": jaw,
        "looks": settings.jaw if settings.jaw != "auto" else home.jaw if home else shape.jaw,
        "jaw_by_hand": settings.jaw != "auto",
        "confidence": 1.0 if settings.jaw != "auto" else round(shape.confidence if jaw else shape.kind_confidence, 3),
        "unit": unit,
        "unit_mm": UNITS[unit],
        "turned_inside_out": bool(turn),
        "up": rounded(shape.up),
        "front": rounded(shape.front),
        "incisal": None if shape.incisal is None else rounded(shape.incisal),
        "form": soup.form,
        "print": surface_print(mesh),
        "folds": bool(crosses.any()),
        "spikes": kind in SCANNED and bool(spikes(mesh).any()),
    }
    if shape.part and jaw:
        about["part"] = [round(mm, 1) for mm in shape.part.reach_mm(jaw)]
        about["part_sure"] = round(shape.part.sure, 3)
    if home:
        about["block"] = {
            "jaw": home.jaw,
            "matrix": (np.round(home.matrix, 9) + 0.0).tolist(),
            "rms_mm": home.rms_mm,
            "error_mm": home.error_mm,
        }
    flags = [*_what_flags(inputs.piece, about, settings, unit_confidence), *_part_flags(about, shape)]
    flags += findings(inputs.piece, mesh, kind, crosses)
    if soup.dropped_nan or welded.degenerate:
        flags.append(Flag("dropped-triangles", "note", _dropped_words(soup.dropped_nan, welded.degenerate)))
    figure = f"{mesh.triangles:,} triangles"
    tint = Files() if soup.colours is None else Files([FileValue("tint", redness(soup.colours[welded.kept]).astype("<f2").tobytes())])
    return StepResult(
        {"mesh": mesh, "about": about, "crossing": as_file(crosses), "tint": tint},
        _readings(mesh, soup.dropped_nan, welded.degenerate),
        tuple(flags),
        figure,
    )


def _seen(mesh: Mesh, settings: IntakeSettings) -> Shape:
    side, jaw = (None if said == "auto" else said for said in (settings.side, settings.jaw))
    return recognise(mesh, side=side, named=jaw)


def _jaw(shape: Shape, settings: IntakeSettings, kind: str) -> str | None:
    if kind not in WORKED:
        return None
    return settings.jaw if settings.jaw != "auto" else shape.jaw or "upper"


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
    if kind == "closed":
        flags.append(Flag("closed-model", "note", f"A closed model of the {jaw} jaw: Trim saws it open below the teeth."))
    if kind not in WORKED:
        article = "an" if kind == "impression" else "a"
        flags.append(Flag("kept", "note", f"Taken for {article} {KIND_WORDS[kind]}: {_SERVES.get(kind, 'kept with the case')}."))
    elif sure < SURE:
        text = f"Looks like the {jaw} jaw, {sure:.0%} sure. Choose the other if it is not."
        flags.append(Flag("jaw-unsure", "look" if sure < 0.8 else "note", text))
    if about["unit"] != "mm":
        text = f"The file is in {about['unit']}: taken times {about['unit_mm']:g} to be millimetres."
        flags.append(Flag("unit", "note" if unit_confidence > 0.9 or settings.unit != "auto" else "look", text))
    if about["turned_inside_out"]:
        flags.append(Flag("inside-out", "note", "The surface was inside-out and has been turned."))
    return flags


def _part_flags(about: dict, shape: Shape) -> list[Flag]:
    """A part of an arch is said to be one, and asked about where it may as well face otherwise."""
    if "part" not in about or shape.part is None:
        return []
    right, left = about["part"]
    if min(right, left) > 0:
        text = f"A part of an arch: {right:.0f} mm on the patient’s right of the midline and {left:.0f} mm on the left, along the arch."
    else:
        side, near = ("right", -left) if right > left else ("left", -right)
        text = f"A part of an arch: the patient’s {side}, from about {near:.0f} mm behind the midline on, along the arch."
    if shape.part.sure >= SURE:
        return [Flag("part-of-arch", "note", text)]
    ask = f" {shape.part.sure:.0%} sure: such a short piece may lie on the other side as well. Say which, under Part of the arch."
    return [Flag("part-of-arch", "look", text + ask)]


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
        Reading("holes", len(holes_in(mesh))),
        Reading("triangles left out", nan + degenerate),
    )


STEP = Step(
    name="intake",
    title="Intake",
    number=1,
    version=14,
    over=SCANS,
    settings=IntakeSettings,
    needs={"file": Need("source", "file")},
    gives={"mesh": MESH, "about": json_of(About), "crossing": FILES, "tint": FILES},
    apply=apply,
    about="What came in: its unit, what it is, which way it faces, what is wrong with it.",
    shows=("mesh",),
)
