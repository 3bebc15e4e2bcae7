"""Part of Trim: loose bits, spikes and folds off, faults mended, holes closed; each of them left as it came where a person says so.
Teeth are told on what this gives, and trimmed is that."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ...engine.entries import Entry, EntryId, in_order
from ...engine.gives import MESH, json_of
from ...engine.model import JAWS, Fix, Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings, setting
from ...errors import StepFailed
from ...mesh import GROUP_PATCH, Mesh, border_loops
from ...ops.flaws import Heap, heaps, without
from ...ops.holes import Hole, close_holes
from ...ops.mend import Bit, Mended, mend
from ...progress import Run
from ..crossings import with_crossings
from ..values import Point

_MOST_SHOWN = 12
# Farther than this from where something was left, nothing of the surface is left there.
_LOST_MM = 3.0
_HEAP = {"fold": "Fold cut out: the surface went through itself", "spike": "Spike taken off: it stood out of the surface"}


class Left(Entry):
    """Something that stays as it came, near a place in the jaw's home (mm)."""

    kind: Literal["hole", "bit", "fold", "spike"]
    at: Point


class CleanSettings(StepSettings):
    """What is mended on the whole is said in Trim."""

    left: dict[EntryId, Left] = setting(
        {}, label="Left as it came", help="Holes, bits, folds and spikes that a person left as they were.", form=False, max_length=200
    )


def apply(inputs: Inputs, settings: CleanSettings, run: Run) -> StepResult:
    raw, about = with_crossings(inputs["mesh"], inputs["crossing"]), inputs["about"]
    left = _places(in_order(settings.left))
    found = heaps(raw, folded=inputs["folds"] and about.get("folds", True), spiky=inputs["spikes"] and about.get("spikes", True))
    gone = [heap for heap in found if not _left(heap, left[heap.what])]
    open_ = without(raw, gone)
    if open_.triangles == 0:
        raise StepFailed("Nothing is left without its folds and spikes. Leave them in.", code="nothing-left")
    mended = mend(open_, loose_share=inputs["loose_percent"] / 100, stay=left["bit"])
    run.tick(0.4, "closing holes")
    rim = bool(len(border_loops(raw)))
    whole, closed, wide = close_holes(mended.mesh, up_to_mm=inputs["holes_mm"], rim=rim, open_at=left["hole"], run=run.part(0.4, 1.0))
    readings = (
        Reading("holes closed", len(closed)),
        Reading("loose bits dropped", len(mended.loose_bits)),
        Reading("folds cut out", sum(heap.what == "fold" for heap in gone)),
        Reading("spikes taken off", sum(heap.what == "spike" for heap in gone)),
    )
    flags = [
        *_lost(raw, in_order(settings.left)),
        *_mended(inputs.piece, mended, gone),
        *_holes(inputs.piece, closed, wide),
        *_not_mended(inputs.piece, whole, gone),
    ]
    figure = f"{len(closed)} hole{'s' * (len(closed) != 1)} closed"
    return StepResult({"mesh": whole, "came": raw.triangles}, readings, tuple(flags), figure)


def _places(left: list[Left]) -> Mapping[str, NDArray[np.float64]]:
    return {
        kind: np.array([entry.at for entry in left if entry.kind == kind], float).reshape(-1, 3)
        for kind in ("hole", "bit", "fold", "spike")
    }


def _left(heap: Heap, places: NDArray) -> bool:
    return len(places) > 0 and bool(np.linalg.norm(places - heap.middle_mm, axis=1).min() < max(heap.width_mm / 2, 0.5))


def _lost(raw: Mesh, left: list[Left]) -> Iterable[Flag]:
    for entry in left:
        if np.linalg.norm(raw.vertices_mm - np.array(entry.at), axis=1).min() > _LOST_MM:
            text = f"A {entry.kind} was left as it came where nothing of this scan lies. Drop that, or leave it anew."
            yield Flag("left-lost", "look", text)


def _mended(piece: str, mended: Mended, gone: list[Heap]) -> Iterable[Flag]:
    for bit in mended.loose_bits[:_MOST_SHOWN]:
        text = f"Loose bit of {_wide(bit)} dropped."
        yield Flag("dropped-bit", "note", text, _place(piece, bit), _leave(piece, "bit", bit))
    for heap in gone[:_MOST_SHOWN]:
        yield Flag(heap.what, "note", f"{_HEAP[heap.what]}, {_wide(heap)}.", _place(piece, heap), _leave(piece, heap.what, heap))
    more = max(len(mended.loose_bits) - _MOST_SHOWN, 0) + max(len(gone) - _MOST_SHOWN, 0)
    if more:
        yield Flag("mended-more", "note", f"{more} more loose bits, folds and spikes, all smaller, are off.")
    if mended.fins + mended.turned + mended.doubles:
        text = f"Mended: {mended.fins} fins, {mended.turned} turned and {mended.doubles} double triangles. No model is made with them."
        yield Flag("mended", "note", text)


def _holes(piece: str, closed: list[Hole], wide: list[Hole]) -> Iterable[Flag]:
    for hole in sorted(closed, key=lambda h: -h.width_mm)[:_MOST_SHOWN]:
        yield Flag("hole-closed", "note", f"Hole of {hole.width_mm:.1f} mm closed.", _place(piece, hole), _leave(piece, "hole", hole))
    for hole in sorted(wide, key=lambda h: -h.width_mm)[:_MOST_SHOWN]:
        fix = Fix("trim", piece, {"holes_mm": round(min(hole.width_mm + 0.1, 40.0), 1)}) if hole.width_mm < 40 else None
        text = f"Hole of {hole.width_mm:.1f} mm is left open: it is wider than the limit."
        yield Flag("hole-open", "look", text, _place(piece, hole), fix)


def _not_mended(piece: str, whole: Mesh, gone: list[Heap]) -> Iterable[Flag]:
    """Where a fold was cut out, a patch may go through what lies about it."""
    if not any(heap.what == "fold" for heap in gone):
        return
    for heap in heaps(whole, spiky=False, among=whole.groups == GROUP_PATCH)[:_MOST_SHOWN]:
        text = f"Not mended: the surface still goes through itself over {_wide(heap)}. Fence it off, or scan the place again."
        yield Flag("fold-left", "look", text, _place(piece, heap))


def _wide(found: Bit | Heap) -> str:
    return f"{found.width_mm:.1f} mm" if found.width_mm >= 0.05 else "less than 0.1 mm"


def _leave(piece: str, kind: str, found: Hole | Bit | Heap) -> Fix:
    return Fix("clean", piece, {"kind": kind, "at": _point(found)}, at="left", label="Leave it")


def _point(found: Hole | Bit | Heap) -> Point:
    x, y, z = np.round(found.middle_mm, 3).tolist()
    return x, y, z


def _place(piece: str, found: Hole | Bit | Heap) -> Place:
    return Place(piece, _point(found), max(found.width_mm, 1.0))


STEP = Step(
    name="clean",
    title="Clean",
    number=4,
    version=5,
    over=JAWS,
    part_of="trim",
    settings=CleanSettings,
    needs={
        "mesh": Need("intake", "mesh"),
        "about": Need("intake", "about"),
        "crossing": Need("intake", "crossing", optional=True),
        "folds": Need("trim", "folds", setting=True),
        "spikes": Need("trim", "spikes", setting=True),
        "holes_mm": Need("trim", "holes_mm", setting=True),
        "loose_percent": Need("trim", "loose_percent", setting=True),
    },
    gives={"mesh": MESH, "came": json_of(int)},
    apply=apply,
    about="Loose bits, faults and holes of a scan.",
)
