"""Part of Trim: fewer triangles, to a deviation or a count; teeth are kept full where that is asked."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ...engine.gives import MESH
from ...engine.model import JAWS, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings, setting
from ...mesh import Mesh
from ...ops.closest import ClosestPoints
from ...ops.reduce import reduced
from ...progress import Run

# So much round a tooth stays full too: the margin.
_MARGIN_MM = 0.5
# The colours of the map end at the deviation that was reached, and no lower than this.
_LEAST_MM = 0.002
# Farther off than this no model fits any more what is made on it (common practice, no source).
_FAR_MM = 0.1


class ReduceSettings(StepSettings):
    reduce: Literal["none", "deviation", "triangles"] = setting(
        "none", label="Reduce", main=False, help="Fewer triangles: none, as few as stay within a deviation, or so many."
    )
    deviation_mm: float = setting(
        0.02, ge=0.001, le=0.5, unit="mm", label="Deviation", main=False, help="So far may the surface be off, at most, anywhere."
    )
    count: int = setting(
        80_000, ge=2_000, le=2_000_000, label="Triangles", main=False, help="About so many are left, with what is kept full."
    )
    full_teeth: bool = setting(True, label="Keep teeth full", main=False, help="Teeth and their margins stay as they were scanned.")


def apply(inputs: Inputs, settings: ReduceSettings, run: Run) -> StepResult:
    whole: Mesh = inputs["marked"] if inputs["marked"] is not None else inputs["mesh"]
    held = _teeth(inputs["told"], whole) if settings.full_teeth else np.zeros(len(whole.vertices_mm), bool)
    if settings.reduce == "deviation":
        done = reduced(whole, deviation_mm=settings.deviation_mm, held=held, run=run.part(0.1, 0.8))
    else:
        done = reduced(whole, triangles=settings.count, held=held, run=run.part(0.1, 0.8))
    run.tick(0.9, "deviation")
    off, _ = ClosestPoints(whole).signed(done.mesh.vertices_mm, within_mm=1.0)
    ends = max(done.most_mm, _LEAST_MM)
    readings = (
        Reading("reduced to", done.mesh.triangles, "triangles"),
        Reading("reduced, at most off", done.most_mm * 1000, "µm"),
        Reading("reduced, off in the mean", done.mean_mm * 1000, "µm"),
    )
    flags = []
    if settings.reduce == "triangles" and done.mesh.triangles > 1.05 * settings.count:
        text = f"No fewer than {done.mesh.triangles:,} triangles are left: what is kept full, the border and the shape ask for them."
        flags.append(Flag("reduced-less", "note", text))
    if done.most_mm > _FAR_MM:
        text = f"Reduced so far that the surface is off by up to {done.most_mm:.2f} mm. Keep more triangles."
        flags.append(Flag("reduced-far", "look", text))
    values = {"mesh": done.mesh, "map": done.mesh.with_channel("Off the scan", "mm", ends * 1.01, off, ends=ends)}
    return StepResult(values, readings, tuple(flags), f"{done.mesh.triangles:,} triangles")


def _teeth(told: Mesh | None, whole: Mesh) -> NDArray[np.bool_]:
    if told is None or told.channel is None:
        return np.zeros(len(whole.vertices_mm), bool)
    tooth = told.vertices_mm[np.nan_to_num(told.channel.values) > 0]
    return (
        np.isfinite(cKDTree(tooth).query(whole.vertices_mm, distance_upper_bound=_MARGIN_MM)[0])
        if len(tooth)
        else np.zeros(len(whole.vertices_mm), bool)
    )


STEP = Step(
    name="reduce",
    title="Reduce",
    number=4,
    version=1,
    over=JAWS,
    part_of="trim",
    settings=ReduceSettings,
    off=lambda settings: settings.reduce == "none",
    needs={
        "mesh": Need("edge", "mesh"),
        "marked": Need("marked", "mesh", optional=True),
        "told": Need("teeth", "mesh", optional=True),
    },
    gives={"mesh": MESH, "map": MESH},
    apply=apply,
    about="Fewer triangles.",
)
