"""Trim: drop loose bits, mend, close holes, ease the border, saw the bottom and the back."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ...engine.gives import MESH, json_of
from ...engine.model import JAWS, Fix, Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings, setting
from ...errors import StepFailed
from ...mesh import Mesh, face_normals, used_vertices
from ...mesh.topology import split_bow_ties
from ...ops.border import border_points, ease
from ...ops.clip import clip, plane_values
from ...ops.flaws import without_flaws
from ...ops.holes import Hole, close_holes
from ...ops.mend import Mended, largest_piece, mend
from ...ops.rigid import rounded
from ...progress import Run
from ..unbitten import left_open
from ..values import Saws

_LEAST_DEPTH_MM = 11.0  # Longer than most crowns (Wheeler's averages run to 11 mm; from memory).


class TrimSettings(StepSettings):
    bottom_saw: bool = setting(True, label="Saw at the bottom", help="A level cut below the teeth.", per_jaw=True)
    bottom_mm: float | None = setting(
        None, ge=2, le=60, unit="mm", label="Bottom, from the occlusal plane", per_jaw=True,
        help="Empty: just deep enough for all that is sound.",
    )  # fmt: skip
    back_saw: bool = setting(True, label="Saw at the back", help="An upright cut behind the teeth.", per_jaw=True)
    back_mm: float | None = setting(
        None, ge=5, le=90, unit="mm", label="Back, from the incisors", per_jaw=True,
        help="Empty: one millimetre off the rear end of the scan.",
    )  # fmt: skip
    ease_mm: float = setting(
        0.8, ge=0, le=5, unit="mm", label="Ease the border", help="A strip this wide is cut off along the ragged border."
    )
    holes_mm: float = setting(12.0, ge=0, le=40, unit="mm", label="Close holes up to", help="Wider holes stay open.")
    folds: bool = setting(
        False, label="Cut out folds", main=False, help="Triangles that go through others are taken out and the place is closed."
    )
    spikes: bool = setting(False, label="Take off spikes", main=False, help="Single points that stand out are taken off.")
    loose_percent: float = setting(
        2.0, ge=0, le=60, unit="%", label="Loose bits below", main=False,
        help="Pieces with less than this share of the largest one's surface are dropped.",
    )  # fmt: skip


def apply(inputs: Inputs, settings: TrimSettings, run: Run) -> StepResult:
    raw: Mesh = inputs["mesh"]
    up, front, origin = (np.array(inputs["stand"][k]) for k in ("up", "front", "origin"))
    mended = mend(_without(raw, settings), loose_share=settings.loose_percent / 100)
    run.tick(0.3, "closing holes")
    whole, closed, left = close_holes(mended.mesh, up_to_mm=settings.holes_mm, run=run.part(0.3, 0.5))
    eased = ease(whole, ease_mm=settings.ease_mm)
    if eased.triangles == 0:
        raise StepFailed("Easing the border leaves nothing of this scan. Ease less.", code="nothing-left")
    run.tick(0.8, "sawing")
    saws = _saws(eased, settings, up, front, origin)
    deep = _sawn(eased, saws["bottom"])
    shown = _sawn(deep, saws["back"])
    flags = [*left_open("alone" in inputs["stand"]), *_flags(inputs.piece, mended, closed, left)]
    readings = (
        Reading("bottom saw below the occlusal plane", saws["bottom"]["mm"], "mm"),
        Reading("back saw behind the incisors", saws["back"]["mm"], "mm"),
        Reading("triangles kept", shown.triangles),
        Reading("triangles taken off", raw.triangles - int((shown.groups == 0).sum())),
        Reading("holes closed", len(closed)),
        Reading("loose bits dropped", mended.loose_bits),
    )
    figure = f"{len(closed)} hole{'s' * (len(closed) != 1)} closed"
    return StepResult({"mesh": shown, "open": deep, "saws": saws}, readings, tuple(flags), figure)


def _without(raw: Mesh, settings: TrimSettings) -> Mesh:
    """What a Fix of Intake asked for: folds and spikes out; the holes they leave are closed with the others."""
    left = without_flaws(raw, folds=settings.folds, spiky=settings.spikes)
    if left.triangles == 0:
        raise StepFailed("Nothing is left without its folds and spikes. Leave them in.", code="nothing-left")
    return left


def _saws(mesh: Mesh, settings: TrimSettings, up: NDArray, front: NDArray, origin: NDArray) -> dict:
    """Both planes in the jaw's home. mm is the place along the bench axis whether the saw is on or not."""
    used = mesh.vertices_mm[used_vertices(mesh)]
    bottom = settings.bottom_mm if settings.bottom_mm is not None else _auto_bottom(mesh, used, up, origin)
    rear = float(np.quantile((used - origin) @ -front, 0.9995)) - 1.0
    back = settings.back_mm if settings.back_mm is not None else rear
    return {
        "bottom": {"on": settings.bottom_saw, "mm": round(bottom, 3), "point": rounded(origin - up * bottom), "keep": rounded(up)},
        "back": {"on": settings.back_saw, "mm": round(back, 3), "point": rounded(origin - front * back), "keep": rounded(front)},
    }  # fmt: skip


def _auto_bottom(mesh: Mesh, used: NDArray, up: NDArray, origin: NDArray) -> float:
    """As deep as half the border, but never through a palate or a tooth."""
    border = (border_points(mesh, step_mm=0.5) - origin) @ up
    # Normals tell floors (palate) from flanks: only what looks up towards the teeth is a floor that must stay.
    middle = mesh.vertices_mm[mesh.faces].mean(1)
    floor = ((middle - origin) @ up)[face_normals(mesh) @ up > 0.8]
    deepest = float(-np.quantile(floor, 0.002)) + 0.5 if len(floor) else 0.0
    # A closed model has no border: it is sawn open as high as its teeth and palate allow.
    half = float(-np.median(border)) if len(border) else 0.0
    return max(half, deepest, _LEAST_DEPTH_MM)


def _sawn(mesh: Mesh, saw: dict) -> Mesh:
    if not saw["on"]:
        return mesh
    kept = clip(mesh, plane_values(mesh, point_mm=saw["point"], keep_towards=saw["keep"])).mesh
    if kept.triangles == 0:
        raise StepFailed("The saw takes the whole scan away. Move it off the teeth.", code="saw-takes-all")
    return split_bow_ties(largest_piece(kept))[0]


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
    name="trim",
    title="Trim",
    number=4,
    version=3,
    over=JAWS,
    settings=TrimSettings,
    needs={"mesh": Need("intake", "mesh"), "stand": Need("level", "stand")},
    gives={"mesh": MESH, "open": MESH, "saws": json_of(Saws)},
    apply=apply,
    about="What of the scan is kept.",
    shows=("mesh",),
)
