"""Base: carry the border down to a flat plane and close it into a solid. The tooth surface stays the scan's."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from scipy.spatial import cKDTree

from ...engine.gives import MESH, json_of
from ...engine.model import JAWS, Fix, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings, setting
from ...errors import StepFailed
from ...mesh import GROUP_SCAN, Mesh, border_loops, check_solid, face_areas_mm2, face_normals, volume_ml, volumes_mm3
from ...mesh.measures import corners_of
from ...mesh.topology import face_components, split_bow_ties
from ...ops.base import Based, base, edged
from ...ops.clip import clip, plane_values, saw_solid
from ...ops.crease import of_walls
from ...ops.mend import largest_piece
from ...ops.rigid import rounded
from ...ops.upright import TERRACE_MM, Plan
from ...ops.weld import same_place
from ...progress import Run
from ..unbitten import left_open
from ..values import Walls

NEAR_CUT_MM = 1.0
# A bottom that came with the scan is flat where nothing of it lies farther off its plane.
_FLAT_MM = 0.02
# What looks to the teeth within so much, and how much of it may go with a cut before it is said.
_LEVEL, _OPENED_MM2 = 0.7, 10.0


class BaseSettings(StepSettings):
    shape: Literal["horseshoe", "closed", "squared", "flat"] = setting(
        "horseshoe", label="Shape",
        help="Following the arch; with the middle closed; squared like a study model; or flat with rounded corners.",
        words={"closed": "Middle closed", "squared": "Squared, study", "flat": "Flat, rounded"},
    )  # fmt: skip
    height: Literal["under", "total", "gap"] = setting(
        "under", label="Height by", help="What is under the lowest point; the total height; or the gap that the closed pair fills.",
        words={"under": "Lowest point", "total": "Total height", "gap": "Mounting gap"},
    )  # fmt: skip
    thickness_mm: float = setting(
        2.0, ge=1.0, le=40.0, unit="mm", label="Under the lowest point", when={"height": ("under",)},
        help="Material between the lowest point of the border and the flat bottom; 1 mm at least (common practice).",
    )  # fmt: skip
    total_mm: float = setting(
        25.0, ge=5, le=80, unit="mm", label="Total height", help="From the highest tip to the flat bottom.", when={"height": ("total",)}
    )
    gap_mm: float | None = setting(
        None, ge=15, le=120, unit="mm", label="Mounting gap",
        help="Between the two plates that the closed pair is mounted on; 40 mm is usual (common practice). Empty: it is not mounted.",
    )  # fmt: skip
    flush: bool = setting(
        False, label="Backs flush", help="Both backs in one plane, square to the midline, so that the closed pair stands on them."
    )
    edge: Literal["sharp", "bevelled", "rounded"] = setting(
        "sharp", label="Edges", help="Of the flat underside and of a base's own outline."
    )
    edge_mm: float = setting(
        0.8, ge=0.2, le=3, unit="mm", label="Edge, wide", help="A bevel's width, or the radius.", when={"edge": ("bevelled", "rounded")}
    )
    draft_deg: float = setting(0.0, ge=0, le=10, unit="°", label="Draft", help="By so much walls lean out on their way down.", main=False)
    outside_mm: float = setting(
        0.25, ge=0.1, le=4, unit="mm", label="Walls, off the border", main=False,
        help="The walls stand so far outside the border at least; dents in it are bridged.",
    )  # fmt: skip
    around_mm: float = setting(
        3.0, ge=1, le=15, unit="mm", label="Land", help="What a base has around the arch.", main=False, when={"shape": ("squared", "flat")}
    )
    brace: bool = setting(
        False, label="Brace", help="A bar between the ends, so that they cannot warp.", main=False, when={"shape": ("horseshoe",)}
    )
    notch: bool = setting(False, label="Notch", help="At the rim, for a spatula to get under.", main=False)
    notch_at: tuple[float, float, float] | None = setting(
        None, label="Notch at", help="Where it shall be, in the scan's own coordinates.", per_jaw=True, form=False
    )
    parallel: Literal["occlusal", "own"] = setting(
        "occlusal", label="Parallel to", help="Both to the occlusal plane, or each to its own teeth.", main=False,
        words={"occlusal": "Occlusal plane", "own": "Own teeth"},
    )  # fmt: skip


def apply(inputs: Inputs, settings: BaseSettings, run: Run) -> StepResult:
    foot, saws = inputs["foot"], inputs["saws"]
    if not border_loops(inputs["open"]):
        return _as_it_came(inputs, settings, run)
    plan = Plan(
        thickness_mm=settings.thickness_mm,
        floor_mm=foot["floor_mm"],
        outside_mm=settings.outside_mm,
        shape="land" if foot["land"] else "closed" if settings.shape == "closed" else "horseshoe",
        land=np.array(foot["land"]) if foot["land"] else None,
        rises=settings.shape == "squared",
        back_mm=foot["back_mm"],
        brace=settings.brace and settings.shape == "horseshoe",
        draft_deg=settings.draft_deg,
        edge=settings.edge,
        edge_mm=settings.edge_mm,
        straight=inputs["about"]["kind"] == "closed",
    )
    cut_first = foot["back_cut"] and saws["back"]["on"]
    surface = _sawn_open(inputs["open"], saws["back"]) if cut_first else inputs["open"]
    made = base(surface, up=foot["up"], front=foot["front"], origin=foot["origin"], plan=plan, run=run.part(0.0, 0.7))
    body = made.body
    if saws["back"]["on"] and not foot["back_cut"]:
        run.tick(0.75, "sawing the back")
        body = saw_solid(body, point_mm=saws["back"]["point"], keep_towards=saws["back"]["keep"])
        up, back, origin = (np.array(v) for v in (foot["up"], saws["back"]["point"], foot["origin"]))
        at = back + (made.floor_mm - float((back - origin) @ up)) * up
        body = edged(body, out=-np.array(saws["back"]["keep"]), up=up, at=at, plan=plan)
    check = check_solid(body)
    if not check.ok:
        raise StepFailed(
            f"The body is not one closed solid after the back saw ({check.components} parts, {check.open_edges} open "
            "edges). Move the back saw a little.",
            code="body-open",
        )
    run.tick(0.85, "checking against the scan")
    flags = [*left_open("alone" in foot), *_said(made, foot, settings, inputs)]
    walls: dict[str, Any] = {
        "floor_mm": round(made.floor_mm, 6),
        "rings": [rounded(ring) for ring in made.foot],
        "draft": round(made.draft, 9),
        "edge_mm": round(made.edge_mm, 6),
        "under_mm": round(made.lowest_mm - made.floor_mm, 6),
    }
    return _result(body, made.floor_mm, inputs, flags, _readings(made), walls)


def _sawn_open(mesh: Mesh, saw: dict) -> Mesh:
    kept = clip(mesh, plane_values(mesh, point_mm=saw["point"], keep_towards=saw["keep"])).mesh
    if kept.triangles == 0:
        raise StepFailed("The saw takes the whole scan away. Move it off the teeth.", code="saw-takes-all")
    return split_bow_ties(largest_piece(kept))[0]


def _as_it_came(inputs: Inputs, settings: BaseSettings, run: Run) -> StepResult:
    """A model that came closed, and is not sawn open: it stands on its own base, cut lower where a height is asked."""
    foot, saws, body = inputs["foot"], inputs["saws"], inputs["open"]
    up, origin = np.array(foot["up"]), np.array(foot["origin"])
    floor = float(((body.vertices_mm - origin) @ up).min())
    if foot["floor_mm"] is not None and foot["floor_mm"] > floor:
        run.tick(0.3, "cutting lower")
        floor = foot["floor_mm"]
        body = _in_one(saw_solid(body, point_mm=origin + floor * up, keep_towards=up))
    if saws["back"]["on"]:
        body = saw_solid(body, point_mm=saws["back"]["point"], keep_towards=saws["back"]["keep"])
    if not check_solid(body).ok:
        raise StepFailed(
            "The model is not one closed solid, so it cannot stand as it came. Switch on the saw at the bottom.", code="body-open"
        )
    anew = Fix("trim", inputs.piece, {"bottom_saw": True}, label="Base it anew")
    flags = [*left_open("alone" in foot), Flag("own-base", "note", "The model stands on the base it came with.", fix=anew)]
    gone = _opened_mm2(inputs["open"], (inputs["open"].vertices_mm - origin) @ up - floor, up)
    if gone > _OPENED_MM2:
        text = f"At this height the cut goes through the palate or the floor of the mouth: {gone:.0f} mm² of it are gone."
        flags.append(Flag("cut-through", "look", text, fix=Fix("base", inputs.piece, {"height": "under"}, label="As tall as it came")))
    off = flatness_mm(body, up, floor, origin)
    if off > _FLAT_MM:
        tall = float(np.floor((np.ptp((body.vertices_mm - origin) @ up) - off) * 10 - 1) / 10)
        lower = Fix("base", inputs.piece, {"height": "total", "total_mm": tall}, label="Cut it flat")
        flags.append(Flag("not-flat", "look", f"Its underside is {off:.2f} mm off flat: cut it lower, to {tall:.1f} mm in all.", fix=lower))
    return _result(body, floor, inputs, flags, (), None)


def _in_one(body: Mesh) -> Mesh:
    """Without what a cut leaves beside an opened palate, hanging on nothing. A cavity, of a volume below nought, stays."""
    count, piece = face_components(body)
    volumes = volumes_mm3(body, piece, count)
    return body.of_faces(((volumes < 0) | (volumes == volumes.max()))[piece]) if count > 1 else body


def _opened_mm2(came: Mesh, over_mm: np.ndarray, up: np.ndarray) -> float:
    """What a level cut takes of the scanned surface that looks to the teeth: of the palate, or of the floor of the mouth. over_mm : (n,)
    of each vertex over the cut"""
    gone = (over_mm[came.faces] < 0).all(1) & (face_normals(came) @ up > _LEVEL) & ~of_walls(came)
    return float(face_areas_mm2(came)[gone].sum())


_WITHOUT = {
    "brace": "No brace was made: there are no two free ends of a horseshoe that a bar could join.",
    "back": "The back could not be carried to the common plane: the ends of this arch leave no way for it.",
    "draft": "The walls stand upright: drafted, they would run into each other.",
    "edge": "The edge stays sharp: this foot is too narrow for it.",
}


def _said(made: Based, foot: dict, settings: BaseSettings, inputs: Inputs) -> list[Flag]:
    flags = [Flag("solid", "note", f"One closed body, flat underneath{_deeper(made, foot, settings)}.")]
    for name in made.without:
        if name == "shape" and settings.shape == "closed" and made.clean_walls:
            flags.append(Flag("nothing-to-close", "note", "The middle is closed by the scan itself: nothing was to be filled."))
        elif name == "shape":
            text = f"The base is a horseshoe: on this border a {settings.shape} one could not be made. Ease the border, or trim more off."
            flags.append(Flag("other-shape", "look", text, fix=_easier(inputs), unmet=True))
        else:
            # A palate braces an arch by itself.
            braced = name == "brace"
            flags.append(Flag(f"no-{name}", "note" if braced else "look", _WITHOUT[name], unmet=not braced))
    if made.border_cut_mm > 0.5:
        under = -made.highest_mm
        where = f"none of it less than {under:.1f} mm below" if under > 0 else "some of it above"
        text = (
            f"The border was cut back by up to {made.border_cut_mm:.1f} mm where it climbs or folds, so that its walls are clean: "
            f"{made.cut_mm2:.0f} mm² of the surface went, {where} the occlusal plane."
        )
        flags.append(Flag("border-cut", "look" if made.border_cut_mm > 3 else "note", text))
    if not made.clean_walls:
        text = "The walls go down from the ragged border itself: folds of the scan lie so near that no smooth wall goes round them."
        flags.append(Flag("ragged-walls", "look", text, fix=_easier(inputs)))
    return flags


def _deeper(made: Based, foot: dict, settings: BaseSettings) -> str:
    """Why there is more under the lowest point than was asked."""
    under = made.lowest_mm - made.floor_mm
    if foot["floor_mm"] is not None or under < settings.thickness_mm + 0.05:
        return ""
    what = "its middle" if settings.shape == "closed" else "its land"
    return f": {under:.2f} mm under the lowest point and not {settings.thickness_mm:.2f} mm, so that {what} is {TERRACE_MM:.0f} mm thick"


def _easier(inputs: Inputs) -> Fix:
    return Fix("trim", inputs.piece, {"ease_mm": min(inputs["ease"] + 1.0, 5.0)}, label="Ease the border")


def _readings(made: Based) -> tuple[Reading, ...]:
    return (
        Reading("under the lowest point", made.lowest_mm - made.floor_mm, "mm"),
        Reading("border cut back, at most", made.border_cut_mm, "mm"),
        Reading("surface cut off with it", made.cut_mm2, "mm²"),
    )


def surface_moved_um(body: Mesh, scan: Mesh) -> tuple[float, float]:
    """(largest distance in µm, share of the body's scan surface measured) to the scan's own vertices, everywhere
    more than NEAR_CUT_MM from a cut or a mend."""
    scan_faces = body.groups == GROUP_SCAN
    kept, made = np.flatnonzero(corners_of(body, scan_faces)), np.flatnonzero(corners_of(body, ~scan_faces))
    if len(kept) == 0:
        return 0.0, 0.0
    if len(made) == 0:
        far = kept
    else:
        near, _ = cKDTree(body.vertices_mm[made]).query(body.vertices_mm[kept], distance_upper_bound=NEAR_CUT_MM)
        far = kept[~np.isfinite(near)]
    if len(far) == 0:
        return 0.0, 0.0
    # Most are the scan's own to the bit: how far the others lie is looked up.
    others = body.vertices_mm[far[same_place(body.vertices_mm[far], scan.vertices_mm) < 0]]
    distance = cKDTree(scan.vertices_mm).query(others)[0] if len(others) else np.zeros(1)
    return float(distance.max()) * 1000.0, len(far) / len(kept)


def flatness_mm(body: Mesh, up: np.ndarray, floor_mm: float, origin: np.ndarray) -> float:
    """How far any vertex of the bottom lies off its plane."""
    height = (body.vertices_mm - origin) @ up
    bottom = (face_normals(body) @ up < -0.99) & (height[body.faces].min(1) < floor_mm + 0.5)
    near = height[np.unique(body.faces[bottom])]
    return float(np.abs(near - floor_mm).max()) if len(near) else 0.0


def _result(
    body: Mesh, floor: float, inputs: Inputs, flags: list[Flag], more: tuple[Reading, ...], walls: dict[str, Any] | None
) -> StepResult:
    up, origin = np.array(inputs["foot"]["up"]), np.array(inputs["foot"]["origin"])
    moved, measured = surface_moved_um(body, inputs["scan"])
    volume = volume_ml(body)
    readings = (
        Reading("volume", volume, "ml"),
        Reading("height", float(np.ptp(body.vertices_mm @ up)), "mm"),
        *more[:1],
        Reading("scan surface moved, at most", moved, "µm"),
        Reading("triangles", body.triangles),
        Reading("scan surface measured", 100 * measured, "%"),
        Reading("bottom off flat, at most", flatness_mm(body, up, floor, origin), "mm"),
        *more[1:],
    )
    return StepResult({"body": body, "walls": walls}, readings, tuple(flags), f"{volume:.1f} ml")


STEP = Step(
    name="base",
    title="Base",
    number=5,
    version=14,
    over=JAWS,
    settings=BaseSettings,
    needs={
        "open": Need("trim", "open"),
        "saws": Need("trim", "saws"),
        "scan": Need("intake", "mesh"),
        "about": Need("intake", "about"),
        "foot": Need("foot", "foot"),
        "ease": Need("trim", "ease_mm", setting=True),
    },
    gives={"body": MESH, "walls": json_of(Walls | None)},
    apply=apply,
    about="A watertight solid on a flat plane.",
    shows=("body",),
    # Where the notch is cut is no matter of the body: see notch.py.
    counts=lambda settings: settings.model_copy(update={"notch": False, "notch_at": None}),
)
