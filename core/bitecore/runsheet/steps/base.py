"""Base: carry the border down to a flat plane and close it into a solid. The tooth surface stays the scan's."""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from ...engine.gives import MESH
from ...engine.model import JAWS, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings, setting
from ...errors import StepFailed
from ...mesh import GROUP_CUT, GROUP_SCAN, Mesh, check_solid, face_normals, volume_ml
from ...ops.base import Based, base
from ...ops.clip import saw_solid
from ...progress import Run
from ..unbitten import left_open

NEAR_CUT_MM = 1.0


class BaseSettings(StepSettings):
    thickness_mm: float = setting(
        2.0, ge=1.0, le=40.0, unit="mm", label="Under the lowest point",
        help="Material between the lowest point of the border and the flat bottom; 1 mm at least (common practice).",
    )  # fmt: skip


def apply(inputs: Inputs, settings: BaseSettings, run: Run) -> StepResult:
    stand, saws = inputs["stand"], inputs["saws"]
    up = np.array(stand["up"])
    made = base(inputs["open"], up=up, thickness_mm=settings.thickness_mm, run=run.part(0.0, 0.7))
    body = made.body
    if saws["back"]["on"]:
        run.tick(0.75, "sawing the back")
        body = saw_solid(body, point_mm=saws["back"]["point"], keep_towards=saws["back"]["keep"])
    check = check_solid(body)
    if not check.ok:
        raise StepFailed(
            f"The body is not one closed solid after the back saw ({check.components} parts, {check.open_edges} open "
            "edges). Move the back saw a little.",
            code="body-open",
        )
    run.tick(0.85, "checking against the scan")
    return _result(body, made, stand, inputs["scan"])


def surface_moved_um(body: Mesh, scan: Mesh) -> tuple[float, float]:
    """(largest distance in µm, share of the body's scan surface measured) to the scan's own vertices, everywhere
    more than NEAR_CUT_MM from a cut or a mend."""
    scan_faces = body.groups == GROUP_SCAN
    kept = np.unique(body.faces[scan_faces])
    made = np.unique(body.faces[~scan_faces])
    if len(kept) == 0:
        return 0.0, 0.0
    near, _ = cKDTree(body.vertices_mm[made]).query(body.vertices_mm[kept], distance_upper_bound=NEAR_CUT_MM)
    far = kept[~np.isfinite(near)]
    if len(far) == 0:
        return 0.0, 0.0
    distance, _ = cKDTree(scan.vertices_mm).query(body.vertices_mm[far])
    return float(distance.max()) * 1000.0, len(far) / len(kept)


def flatness_mm(body: Mesh, up: np.ndarray, floor_mm: float) -> float:
    """How far any vertex of the bottom lies off its plane."""
    bottom = (body.groups == GROUP_CUT) & (face_normals(body) @ up < -0.99)
    height = body.vertices_mm[np.unique(body.faces[bottom])] @ up
    near = height[height < floor_mm + 0.5]
    return float(np.abs(near - floor_mm).max()) if len(near) else 0.0


def _result(body: Mesh, made: Based, stand: dict, scan: Mesh) -> StepResult:
    up = np.array(stand["up"])
    moved, measured = surface_moved_um(body, scan)
    height = body.vertices_mm @ up
    flags = [*left_open("alone" in stand), Flag("solid", "note", "One closed body, flat underneath.")]
    if made.border_cut_mm > 0.5:
        under = float(np.array(stand["origin"]) @ up) - made.highest_mm
        where = f"none of it less than {under:.1f} mm below" if under > 0 else "some of it above"
        text = (
            f"The border was cut back by up to {made.border_cut_mm:.1f} mm where it climbs or folds, so that its walls are clean: "
            f"{made.cut_mm2:.0f} mm² of the surface went, {where} the occlusal plane."
        )
        flags.append(Flag("border-cut", "look" if made.border_cut_mm > 3 else "note", text))
    if not made.clean_walls:
        text = "The walls go down from the ragged border itself: folds of the scan lie so near that no smooth wall goes round them."
        flags.append(Flag("ragged-walls", "look", text))
    volume = volume_ml(body)
    readings = (
        Reading("volume", volume, "ml"),
        Reading("height", float(np.ptp(height)), "mm"),
        Reading("under the lowest point", made.lowest_mm - made.floor_mm, "mm"),
        Reading("scan surface moved, at most", moved, "µm"),
        Reading("triangles", body.triangles),
        Reading("scan surface measured", 100 * measured, "%"),
        Reading("bottom off flat, at most", flatness_mm(body, up, made.floor_mm), "mm"),
        Reading("border cut back, at most", made.border_cut_mm, "mm"),
        Reading("surface cut off with it", made.cut_mm2, "mm²"),
    )
    return StepResult({"body": body}, readings, tuple(flags), f"{volume:.1f} ml")


STEP = Step(
    name="base",
    title="Base",
    number=5,
    version=5,
    over=JAWS,
    settings=BaseSettings,
    needs={
        "open": Need("trim", "open"),
        "saws": Need("trim", "saws"),
        "scan": Need("intake", "mesh"),
        "stand": Need("level", "stand"),
    },
    gives={"body": MESH},
    apply=apply,
    about="A watertight solid on a flat plane.",
    shows=("body",),
)
