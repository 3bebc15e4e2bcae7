"""Trim: saw the bottom and the back of what is kept."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ...engine.gives import MESH, json_of
from ...engine.model import JAWS, Inputs, Need, Reading, Step, StepResult, StepSettings, setting
from ...errors import StepFailed
from ...mesh import Mesh, face_normals, used_vertices
from ...mesh.topology import split_bow_ties
from ...ops.border import border_points
from ...ops.clip import clip, plane_values
from ...ops.mend import largest_piece
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
        True, label="Cut out folds", main=False, help="Triangles that go through others are taken out and the place is closed."
    )
    spikes: bool = setting(True, label="Take off spikes", main=False, help="Single points that stand out are taken off.")
    loose_percent: float = setting(
        2.0, ge=0, le=60, unit="%", label="Loose bits below", main=False,
        help="Pieces with less than this share of the largest one's surface are dropped.",
    )  # fmt: skip


def apply(inputs: Inputs, settings: TrimSettings, run: Run) -> StepResult:
    whole: Mesh = next(m for m in (inputs["reduced"], inputs["marked"], inputs["mesh"]) if m is not None)
    up, front, origin = (np.array(inputs["stand"][k]) for k in ("up", "front", "origin"))
    run.tick(0.3, "sawing")
    saws = _saws(whole, settings, up, front, origin)
    deep = _sawn(whole, saws["bottom"])
    shown = _sawn(deep, saws["back"])
    readings = (
        Reading("bottom saw below the occlusal plane", saws["bottom"]["mm"], "mm"),
        Reading("back saw behind the incisors", saws["back"]["mm"], "mm"),
        Reading("triangles kept", shown.triangles),
        Reading("triangles taken off", inputs["came"] - int((shown.groups == 0).sum())),
    )
    flags = left_open("alone" in inputs["stand"])
    return StepResult({"mesh": shown, "open": deep, "saws": saws}, readings, tuple(flags), f"{saws['bottom']['mm']:.1f} mm")


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


STEP = Step(
    name="trim",
    title="Trim",
    number=4,
    version=5,
    over=JAWS,
    settings=TrimSettings,
    needs={
        "mesh": Need("edge", "mesh"),
        "marked": Need("marked", "mesh", optional=True),
        "reduced": Need("reduce", "mesh", optional=True),
        "came": Need("clean", "came"),
        "stand": Need("level", "stand"),
    },
    gives={"mesh": MESH, "open": MESH, "saws": json_of(Saws)},
    apply=apply,
    about="What of the scan is kept.",
    shows=("mesh",),
)
