"""Part of Trim: what a person marks to go: by fence, swab, saw, whole pieces; larger, smaller, the other way round."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator
from scipy.spatial import cKDTree

from ...anatomy.marks import Mark, Marked, marked
from ...engine.entries import Entry, EntryId, Points, points_of
from ...engine.gives import MESH, json_of
from ...engine.model import JAWS, Fix, Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings, setting
from ...mesh import Mesh
from ...mesh.topology import split_bow_ties
from ...ops.clip import clip
from ...ops.fields import snapped
from ...ops.mend import without_loose_bits
from ...progress import Run
from ..values import MarkSeen, Point

# Smaller than this share of what is kept, crumbs of a cut go.
_CRUMB = 0.002
# A tooth of which so many corners go is touched.
_FEW = 3


class MarkEntry(Entry):
    """One mark, in the jaw's home (mm); the younger counts after the older.

    kind      : fence (the ring points_mm as the eye sees it), swab (along points_mm, mm wide to each side), saw (what lies from the
                first point towards), piece (the whole connected piece at the point), grow (by mm; smaller where below nought), invert
    adds      : it marks, or takes marks away
    reach     : of a fence: the near side alone, right through, or asked while there is anything on the far side
    """

    kind: Literal["fence", "swab", "saw", "piece", "grow", "invert"]
    points_mm: Points | None = None
    eye: Point | None = None
    towards: Point | None = None
    mm: float = Field(0, ge=-20, le=20)
    adds: bool = True
    reach: Literal["asked", "near", "through"] = "asked"

    @model_validator(mode="after")
    def _whole(self) -> MarkEntry:
        if self.kind in ("fence", "swab", "saw", "piece") and self.points_mm is None:
            raise ValueError("needs its points")
        if self.kind == "fence" and self.eye is None:
            raise ValueError("a fence needs the place it was seen from")
        if self.kind == "saw" and (self.towards is None or not any(self.towards)):
            raise ValueError("a saw needs the way that goes")
        if self.kind == "swab" and self.mm <= 0:
            raise ValueError("a swab needs its size")
        return self


class MarkSettings(StepSettings):
    marks: dict[EntryId, MarkEntry] = setting({}, label="Marks", help="What goes, as a person marked it.", form=False, max_length=500)


def apply(inputs: Inputs, settings: MarkSettings, run: Run) -> StepResult:
    whole: Mesh = inputs["mesh"]
    teeth = _teeth(inputs["teeth"], whole)
    keys = sorted(settings.marks, key=lambda k: (len(k), k))
    marks = [_mark(settings.marks[key], inputs) for key in keys]
    run.tick(0.2, "marking")
    found = marked(whole, marks, teeth)
    run.tick(0.7, "cutting")
    value = snapped(whole, found.value)
    kept = clip(whole, -value).mesh
    if kept.triangles == 0:
        text = "Everything is marked to go, so nothing is cut. Take a mark away, or invert what is marked."
        return StepResult({"mesh": whole, "marks": []}, (), (Flag("all-marked", "look", text),), "everything")
    kept = split_bow_ties(without_loose_bits(kept, share=_CRUMB)[0])[0]
    off = clip(whole, value).mesh
    seen = [_seen(key, settings.marks[key], m) for key, m in zip(keys, found.marks, strict=True)]
    flags = [*_flags(inputs.piece, seen, settings, whole.vertices_mm[found.caught]), *_touched(inputs.piece, whole, value, teeth)]
    readings = (Reading("triangles marked to go", int(off.triangles)),)
    values: dict[str, Any] = {"mesh": kept, "off": off, "marks": seen}
    for name, there in (("caught", found.caught), ("waiting", found.waiting)):
        faces = there[whole.faces].all(1)
        if faces.any():
            values[name] = whole.of_faces(faces)
    return StepResult(values, readings, tuple(flags), f"{len(keys)} marks")


def _teeth(told: Mesh | None, whole: Mesh) -> NDArray[np.int64]:
    """(n,) FDI number at each vertex, nought on gum."""
    if told is None or told.channel is None:
        return np.zeros(len(whole.vertices_mm), np.int64)
    at = cKDTree(told.vertices_mm).query(whole.vertices_mm)[1]
    return np.maximum(np.nan_to_num(told.channel.values[at]), 0).astype(np.int64)


def _mark(entry: MarkEntry, inputs: Inputs) -> Mark:
    points = points_of(entry.points_mm, inputs) if entry.points_mm is not None else np.zeros((0, 3))
    eye, towards = (None if p is None else np.array(p) for p in (entry.eye, entry.towards))
    return Mark(entry.kind, points, entry.adds, entry.mm, eye, towards, entry.reach)


def _seen(key: str, entry: MarkEntry, found: Marked) -> MarkSeen:
    return {
        "id": key,
        "kind": entry.kind,
        "triangles": found.triangles,
        "far": found.far,
        "far_teeth": found.far_teeth,
        "waits": found.waits,
        "lost": found.lost,
    }


def _flags(piece: str, seen: list[MarkSeen], settings: MarkSettings, caught: NDArray) -> list[Flag]:
    out = []
    for mark in seen:
        entry = settings.marks[mark["id"]]
        if mark["lost"]:
            out.append(Flag("mark-lost", "look", f"A {mark['kind']} set by hand lies on nothing of this scan. Set it again, or drop it."))
        if mark["waits"]:
            teeth = f", and of the teeth {_listed(mark['far_teeth'])}" if mark["far_teeth"] else ""
            text = f"The fence catches {mark['far']:,} triangles on the far side{teeth}. Nothing is cut until you say how far it reaches."
            ways = [
                Fix("marked", piece, entry.model_dump(mode="json") | {"reach": reach}, at="marks", id=mark["id"], label=label)
                for reach, label in (("near", "Near side only"), ("through", "Right through"))
            ]
            x, y, z = caught.mean(0).tolist()
            place = Place(piece, (x, y, z), float(np.linalg.norm(np.ptp(caught, axis=0))) / 2)
            out.append(Flag("fence-waits", "look", text, place, ways[0], ways[1]))
    return out


def _touched(piece: str, whole: Mesh, value: NDArray, teeth: NDArray) -> list[Flag]:
    goes = value > 0
    number, count = np.unique(teeth[goes & (teeth > 0)], return_counts=True)
    hit = [int(n) for n, c in zip(number, count, strict=True) if c >= _FEW]
    if not hit:
        return []
    x, y, z = whole.vertices_mm[goes & (teeth == hit[0])].mean(0).tolist()
    text = f"What is marked takes off of the teeth {_listed(hit)}. Take the marks away there if that is not meant."
    return [Flag("tooth-marked", "look", text, Place(piece, (x, y, z), 8.0))]


def _listed(teeth: list[int]) -> str:
    words = [str(t) for t in teeth]
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"


STEP = Step(
    name="marked",
    title="Marked by hand",
    number=4,
    version=2,
    over=JAWS,
    part_of="trim",
    settings=MarkSettings,
    off=lambda settings: not settings.marks,
    needs={"mesh": Need("edge", "mesh"), "teeth": Need("teeth", "mesh", optional=True)},
    gives={"mesh": MESH, "off": MESH, "caught": MESH, "waiting": MESH, "marks": json_of(list[MarkSeen])},
    apply=apply,
    about="What a person marked to go.",
)
