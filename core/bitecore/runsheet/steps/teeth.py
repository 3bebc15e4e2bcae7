"""Part of Trim: teeth told from gum and from each other, by the shape; numbers, margins, widths; and what a person says of them."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from ...anatomy.notation import tooth
from ...anatomy.swabbed import Stroke
from ...anatomy.teeth.drawn import DrawnLine
from ...anatomy.teeth.hand import Hand, Word
from ...anatomy.teeth.line import NoArch
from ...anatomy.teeth.margins import Margin
from ...anatomy.teeth.prices import Partly
from ...anatomy.teeth.sizes import ARCH, size_of
from ...anatomy.teeth.told import Told, ToothTold, teeth_told
from ...engine.entries import Entry, EntryId, Points, in_order, points_of
from ...engine.gives import FILES, MESH, Files, FileValue, json_of
from ...engine.model import JAWS, Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings, setting
from ...errors import BadSetting
from ...mesh import Mesh, face_components
from ...mesh.measures import face_areas_mm2
from ...ops.rigid import rounded
from ...progress import Run
from ..values import Point, ToothFound

# Less sure than this it is asked.
SURE = 0.6
# What a channel of tooth numbers is told apart to: every number is a whole step of the stage's code.
_NUMBERS = 126
# Of a part of an arch that reaches past its midline, and of one that does not, Intake knows so well where the midline lies.
_MIDLINE_MM, _OFF_MIDLINE_MM = 4.0, 9.0
# Farther than this from where it was said, nothing of the surface is left there.
_LOST_MM = 3.0
_SAYS = {
    "number": "the number {fdi}", "none": "that there is no tooth", "together": "that it is one tooth", "apart": "that it is two teeth",
    "swab": "a stroke of the swab", "line": "a margin that was drawn",
}  # fmt: skip


class ToothWord(Entry):
    """What a person says of a place, in the jaw's home (mm).

    kind : number (the tooth fdi stands there), none (no tooth does), together or apart (of at and also: one tooth, or two)
    """

    kind: Literal["number", "none", "together", "apart"]
    at: Point
    also: Point | None = None
    fdi: int = 0

    @model_validator(mode="after")
    def _whole(self) -> ToothWord:
        if self.kind in ("together", "apart") and self.also is None:
            raise ValueError("needs two places")
        if self.kind == "number":
            try:
                tooth(self.fdi)
            except BadSetting as error:
                raise ValueError(error.message) from error
        return self


class ToothStroke(Entry):
    """A stroke of the swab: what it covers is the tooth it began on, or gum. line : it is where the margin runs, however wide."""

    points_mm: Points
    radius_mm: float = Field(gt=0, le=20)
    adds: bool = True
    line: bool = False


class TeethSettings(StepSettings):
    said: dict[EntryId, ToothWord] = setting(
        {}, label="Teeth by hand", help="Numbers, teeth joined or parted, as a person said.", main=False, form=False, max_length=200
    )
    swab: dict[EntryId, ToothStroke] = setting(
        {},
        label="Margins by hand",
        help="Strokes of the swab, tooth or gum; lines drawn along a margin.",
        main=False,
        form=False,
        max_length=2000,
    )


def apply(inputs: Inputs, settings: TeethSettings, run: Run) -> StepResult:
    mesh, about, jaw = inputs["mesh"], inputs["about"], inputs.jaw or "upper"
    part, main = _main(mesh)
    run.tick(0.1, "teeth and gum")
    hand, lost = _hand(part, settings, inputs)
    hand = replace(hand, charted=tuple(n for n in _charted(inputs["chart"]) if tooth(n).jaw == jaw))
    middle = about["incisal"] if about["incisal"] is not None else part.vertices_mm.mean(0)
    partly = _partly(about)
    try:
        told = teeth_told(
            part, jaw=jaw, up=about["up"], front=about["front"], midline=middle, hand=hand, part=partly, tint=_tint(part, inputs["tint"])
        )
    except NoArch:
        told = Told(np.zeros(len(part.vertices_mm), np.int16), [], 1.0)
    run.tick(0.9, "margins")
    teeth = [_found(t, jaw) for t in told.teeth]
    flags = [*_unsure(inputs.piece, told), *_beside_chart(inputs["chart"], jaw, told)]
    flags += [_unheeded(inputs.piece, settings, key) for key in [*lost, *told.unheeded]]
    margins = json.dumps([t | _line(x.margin) for t, x in zip(_listed(teeth), told.teeth, strict=True)])
    values = {
        "mesh": mesh.with_channel("Tooth", "", _NUMBERS, _numbers(mesh, main, told)),
        "teeth": teeth,
        "margins": Files([FileValue("teeth.json", margins.encode())]),
        "midline": _midline(told),
    }
    return StepResult(values, _readings(told, jaw), tuple(flags), f"{len(teeth)} teeth")


def _tint(part: Mesh, tint: Files) -> NDArray[np.float32] | None:
    """(m,) how red each triangle is, not a number where that is not known; None of a scan without colours."""
    if not tint:
        return None
    known = np.r_[np.frombuffer(tint[0].data, "<f2").astype(np.float32), np.float32(np.nan)]
    # What no scan has (-1) is the last.
    return known[part.source]


def _partly(about: dict) -> Partly | None:
    if "part" not in about:
        return None
    return Partly(_MIDLINE_MM if min(about["part"]) > 0 else _OFF_MIDLINE_MM, about["part_sure"])


def _main(mesh: Mesh) -> tuple[Mesh, NDArray[np.bool_]]:
    """(the largest piece, (n,) which vertices are its)."""
    count, label = face_components(mesh)
    keep = label == int(np.bincount(label, face_areas_mm2(mesh), count).argmax())
    main = np.zeros(len(mesh.vertices_mm), bool)
    main[mesh.faces[keep].ravel()] = True
    return mesh.of_faces(keep), main


def _numbers(mesh: Mesh, main: NDArray[np.bool_], told: Told) -> NDArray[np.float32]:
    """(n,) FDI number, NaN on gum, -1 where nothing was told."""
    out = np.full(len(mesh.vertices_mm), -1.0, np.float32)
    out[main] = np.where(told.tooth > 0, told.tooth, np.nan)
    return out


def _hand(part: Mesh, settings: TeethSettings, inputs: Inputs) -> tuple[Hand, list[str]]:
    """(what was said, ids of what lies on nothing any more)."""
    words, lost = list[Word](), list[str]()
    strokes = list[tuple[str, Stroke | DrawnLine]]()
    for key in sorted(settings.said, key=lambda k: (len(k), k)):
        word = settings.said[key]
        places = [np.array(p) for p in (word.at, word.also) if p is not None]
        if any(_off(part, p) for p in places):
            lost.append(key)
        else:
            words.append(Word(key, word.kind, places[0], places[1] if len(places) > 1 else None, word.fdi))
    for key, stroke in zip(sorted(settings.swab, key=lambda k: (len(k), k)), in_order(settings.swab), strict=True):
        points = points_of(stroke.points_mm, inputs)
        if all(_off(part, p) for p in points[:: max(len(points) // 20, 1)]):
            lost.append(key)
        else:
            strokes.append((key, DrawnLine(points) if stroke.line else Stroke(points, stroke.radius_mm, stroke.adds)))
    return Hand(tuple(words), tuple(strokes)), lost


def _off(part: Mesh, point: NDArray) -> bool:
    return bool(np.linalg.norm(part.vertices_mm - point, axis=1).min() > _LOST_MM)


def _found(t: ToothTold, jaw: str) -> ToothFound:
    return {
        "fdi": t.fdi,
        "confidence": round(t.confidence, 3),
        "by_hand": t.by_hand,
        "centre_mm": _point(t.centre_mm),
        "mesiodistal_mm": round(t.wide_mm, 3),
        "usual_mm": size_of(t.fdi, jaw)[0],
        "tips_mm": rounded(t.tips_mm),
    }


def _point(at: NDArray) -> Point:
    x, y, z = rounded(at)
    return x, y, z


def _listed(teeth: list[ToothFound]) -> Iterable[dict]:
    return ({k: t[k] for k in ("fdi", "confidence", "by_hand", "centre_mm", "mesiodistal_mm")} for t in teeth)


def _line(margin: Margin) -> dict:
    return {"margin_mm": np.round(margin.points_mm, 4).tolist(), "margin_confidence": np.round(margin.sure, 2).tolist()}


def _midline(told: Told) -> Point | None:
    """Between the central incisors, at the height of their edges."""
    centre = {t.fdi % 10 + 10 * ((t.fdi // 10 - 1) % 4 + 1): t for t in told.teeth}
    for right, left in ((11, 21), (41, 31)):
        if right in centre and left in centre:
            pair = [(t.centre_mm + t.tips_mm.mean(0)) / 2 for t in (centre[right], centre[left])]
            wide = centre[right].wide_mm + centre[left].wide_mm
            return _point(pair[0] + (pair[1] - pair[0]) * centre[right].wide_mm / wide)
    return None


def _readings(told: Told, jaw: str) -> tuple[Reading, ...]:
    have = {t.fdi: t for t in told.teeth}
    out = [Reading("teeth found", len(have))]
    right, left = (1, 2) if jaw == "upper" else (4, 3)
    for name, place, usual in (("canines", 3, ARCH[jaw][0]), ("first molars", 6, ARCH[jaw][1])):
        pair = [have.get(10 * q + place) for q in (right, left)]
        if pair[0] and pair[1]:
            wide = float(np.linalg.norm(pair[0].tips_mm[0] - pair[1].tips_mm[0]))
            out.append(Reading(f"between the {name}’ tips, {usual:.0f} usual", wide, "mm"))
    gone = [f for f in _lasting(jaw) if f not in have and f + 40 not in have]
    if told.teeth:
        out.append(Reading("missing", " ".join(str(f) for f in gone) or "none"))
    room = [f"{a}–{b} {mm:.1f}" for a, b, mm in told.gaps_mm if mm > 1.0]
    if room:
        out.append(Reading("gaps", ", ".join(room), "mm"))
    return tuple(out)


def _lasting(jaw: str) -> list[int]:
    """Every tooth of the jaw but third molars, from the patient's right."""
    right, left = (1, 2) if jaw == "upper" else (4, 3)
    return [right * 10 + k for k in range(7, 0, -1)] + [left * 10 + k for k in range(1, 8)]


def _unsure(piece: str, told: Told) -> list[Flag]:
    if not told.teeth:
        return [Flag("no-teeth", "note", "No teeth are found on this scan.")]
    out = []
    for t in told.teeth:
        if t.confidence < SURE:
            text = f"Taken for {t.fdi}, {t.confidence:.0%} sure. Give it its number, or say that it is no tooth."
            out.append(Flag("tooth-unsure", "look", text, _at(piece, t.centre_mm)))
    return out


def _beside_chart(chart: str, jaw: str, told: Told) -> list[Flag]:
    """Teeth the case is for that are not there."""
    have = {t.fdi for t in told.teeth}
    gone = [n for n in _charted(chart) if tooth(n).jaw == jaw and n not in have]
    if not gone or not have:
        return []
    one = len(gone) == 1
    text = f"{', '.join(map(str, gone))} {'is' if one else 'are'} on the case’s chart; no such {'tooth is' if one else 'teeth are'} found."
    return [Flag("chart-differs", "note", text)]


def _charted(chart: str) -> list[int]:
    return [int(word) for word in chart.split()]


def _unheeded(piece: str, settings: TeethSettings, key: str) -> Flag:
    word = settings.said.get(key)
    drawn = key in settings.swab and settings.swab[key].line
    says = _SAYS[word.kind].format(fdi=word.fdi) if word else _SAYS["line" if drawn else "swab"]
    place = _at(piece, np.array(word.at)) if word else None
    return Flag("teeth-unheeded", "look", f"Set by hand, {says}: it does not fit this scan. Set it again, or drop it.", place)


def _at(piece: str, point: NDArray) -> Place:
    x, y, z = np.asarray(point, float).tolist()
    return Place(piece, (x, y, z), 8.0)


STEP = Step(
    name="teeth",
    title="Teeth",
    number=4,
    version=2,
    over=JAWS,
    part_of="trim",
    settings=TeethSettings,
    needs={"mesh": Need("clean", "mesh"), "about": Need("intake", "about"), "chart": Need("case", "teeth"), "tint": Need("intake", "tint")},
    gives={
        "mesh": MESH,
        "teeth": json_of(list[ToothFound]),
        "margins": FILES,
        "midline": json_of(Point | None),
    },
    apply=apply,
    about="Teeth and gum, and which tooth is which.",
)
