"""Part of Trim: the edge line, up to which the scan is kept: all that is sound, or so much gum round the teeth."""

from __future__ import annotations

import itertools
from typing import Literal

import numpy as np
from scipy.spatial import cKDTree

from ...anatomy.edge_line import crests, kept, line_of
from ...engine.gives import MESH, json_of
from ...engine.model import JAWS, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings, setting
from ...errors import StepFailed
from ...mesh import Mesh
from ...mesh.topology import split_bow_ties
from ...ops.border import ease
from ...ops.clip import clip
from ...ops.mend import largest_piece
from ...progress import Run
from ..values import Point

# Points of the line that is drawn are so far apart.
_DRAWN_MM = 0.4


class EdgeSettings(StepSettings):
    edge: Literal["all", "gum"] = setting(
        "all", label="Edge line", help="all: everything that is sound stays. gum: so much gum round the teeth, smooth, off every tooth."
    )
    gum_mm: float = setting(
        2.0, ge=0.5, le=15, unit="mm", label="Gum kept",
        help="From the margins. 1 to 2 mm for simple models, 4 to 5 mm for trays, splints and retainers (common practice).",
    )  # fmt: skip
    off_mm: float = setting(
        0.5, ge=0.1, le=5, unit="mm", label="Off every tooth", main=False, help="Nowhere does the line come nearer to a tooth."
    )


def apply(inputs: Inputs, settings: EdgeSettings, run: Run) -> StepResult:
    told: Mesh = inputs["teeth"]
    if not inputs["found"]:
        raise StepFailed("No teeth are found on this scan, so there is no gum round them. Choose all for the edge line.", code="no-teeth")
    whole = split_bow_ties(largest_piece(ease(told, ease_mm=inputs["ease_mm"])))[0]
    if whole.triangles == 0:
        raise StepFailed("Easing the border leaves nothing of this scan. Ease less.", code="nothing-left")
    run.tick(0.3, "edge line")
    assert told.channel is not None
    tooth = np.nan_to_num(told.channel.values[cKDTree(told.vertices_mm).query(whole.vertices_mm)[1]]) > 0
    up = np.array(inputs["stand"]["up"])
    crest = crests(whole, up, _gaps(inputs["found"]))
    value = kept(whole, tooth, crest, gum_mm=settings.gum_mm, off_mm=settings.off_mm)
    run.tick(0.8, "cutting")
    mesh = split_bow_ties(largest_piece(clip(whole, value).mesh))[0]
    lines = line_of(whole, value)[:1]
    drawn = [[_point(p) for p in line.points_mm[:: max(round(_DRAWN_MM * len(line.points_mm) / line.length_mm), 1)]] for line in lines]
    near = cKDTree(whole.vertices_mm[tooth]).query(lines[0].points_mm)[0] if lines else np.zeros(1)
    lost = sum(t["fdi"] not in _numbers_on(told, mesh) for t in inputs["found"])
    flags = [Flag("tooth-cut-off", "look", f"The edge line cuts off {lost} of the teeth. Keep more gum.")] if lost else []
    readings = (Reading("edge line, nearest to a tooth", float(near.min()), "mm"),)
    return StepResult({"mesh": mesh, "line": drawn}, readings, tuple(flags), f"{settings.gum_mm:g} mm of gum")


def _gaps(found: list[dict]) -> list[tuple[np.ndarray, np.ndarray]]:
    """From one tooth to the next along the arch; what touches has no room between it."""
    middles = [(np.array(t["centre_mm"]), t["mesiodistal_mm"] / 2) for t in found]
    out = []
    for (a, wide_a), (b, wide_b) in itertools.pairwise(middles):
        way = b - a
        long = float(np.linalg.norm(way))
        if long > wide_a + wide_b:
            way /= long
            out.append((a + way * wide_a, b - way * wide_b))
    return out


def _numbers_on(told: Mesh, mesh: Mesh) -> set[int]:
    """Of the teeth on what is kept."""
    assert told.channel is not None
    at = cKDTree(told.vertices_mm).query(mesh.vertices_mm)[1]
    return set(np.nan_to_num(told.channel.values[at]).astype(int).tolist())


def _point(p: np.ndarray) -> Point:
    return (round(float(p[0]), 3), round(float(p[1]), 3), round(float(p[2]), 3))


STEP = Step(
    name="edge",
    title="Edge line",
    number=4,
    version=1,
    over=JAWS,
    part_of="trim",
    settings=EdgeSettings,
    off=lambda settings: settings.edge == "all",
    needs={
        "teeth": Need("teeth", "mesh"),
        "found": Need("teeth", "teeth"),
        "stand": Need("level", "stand"),
        "ease_mm": Need("trim", "ease_mm", setting=True),
    },
    gives={"mesh": MESH, "line": json_of(list[list[Point]])},
    apply=apply,
    about="Up to where the scan is kept.",
)
