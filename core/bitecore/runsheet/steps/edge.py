"""Part of Trim: the edge line, up to which the scan is kept: all that is sound, its border eased, or so much gum round the teeth."""

from __future__ import annotations

import json
from dataclasses import replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import model_validator
from scipy.spatial import cKDTree

from ...anatomy.arch_sides import arch_sides
from ...anatomy.edge_line import Keep, Kept, gaps_of, kept, known, line_of
from ...anatomy.frena import Frenum, frena
from ...engine.entries import Entry, EntryId, Points, points_of
from ...engine.gives import MESH, json_of
from ...engine.model import JAWS, Fix, Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings, setting
from ...errors import StepFailed
from ...mesh import Mesh
from ...mesh.topology import split_bow_ties
from ...ops.border import ease
from ...ops.clip import clip
from ...ops.fields import snapped
from ...ops.mend import largest_piece
from ...progress import Run
from ..values import Point

# Points of the line that is drawn are so far apart; of a stretch drawn freehand every so many mm counts.
_DRAWN_MM, _FREE_MM = 0.4, 1.0
# Farther than this from where it was pulled to, nothing of the surface is left there.
_LOST_MM = 3.0


class Pull(Entry):
    """A place the line runs through, or a stretch drawn freehand, in the jaw's home (mm)."""

    at: Point | None = None
    points_mm: Points | None = None

    @model_validator(mode="after")
    def _whole(self) -> Pull:
        if (self.at is None) == (self.points_mm is None):
            raise ValueError("needs a place or a stretch")
        return self


class EdgeSettings(StepSettings):
    edge: Literal["all", "gum", "vestibule"] = setting(
        "all", label="Edge line",
        help="all: everything that is sound stays. gum: so much gum round the teeth, smooth, off every tooth. "
        "vestibule: all towards cheeks and lips, and the inner side as it is said.",
    )  # fmt: skip
    gum_mm: float = setting(
        2.0, ge=0.5, le=15, unit="mm", label="Gum kept",
        help="From the margins. 1 to 2 mm for simple models, 4 to 5 mm for trays, splints and retainers (common practice).",
    )  # fmt: skip
    inner: Literal["same", "all", "band"] = setting(
        "same", label="Palate, tongue side", help="same: as much gum as outside. all: the palate stays. band: a band along the teeth."
    )
    band_mm: float = setting(
        10.0, ge=1, le=40, unit="mm", label="Band", main=False, help="How much of the palate a band keeps, from the margins."
    )
    behind_mm: float | None = setting(
        None, ge=0.5, le=25, unit="mm", label="Behind the last teeth", main=False, help="Empty: as much as outside of the teeth."
    )
    off_mm: float = setting(
        0.5, ge=0.1, le=5, unit="mm", label="Off every tooth", main=False, help="Nowhere does the line come nearer to a tooth."
    )
    frenum_mm: float = setting(
        1.0, ge=0, le=5, unit="mm", label="Off every frenum", main=False, help="The line runs round frena by so much. 0: over them."
    )
    pulls: dict[EntryId, Pull] = setting(
        {}, label="Pulled by hand", help="Where the edge line runs as a person put it.", form=False, max_length=200
    )


def apply(inputs: Inputs, settings: EdgeSettings, run: Run) -> StepResult:
    whole = _eased(inputs)
    if settings.edge == "all":
        return StepResult({"mesh": whole, "line": []}, figure="all that is sound")
    found = inputs["found"]
    if not found or inputs["told"] is None:
        text = "No teeth are found on this scan, so there is no gum round them: all that is sound stays."
        return StepResult({"mesh": whole, "line": []}, (), (Flag("edge-no-teeth", "look", text),), "all that is sound")
    run.tick(0.3, "edge line")
    numbers = _numbers(inputs["told"], whole)
    up, front = (np.array(inputs["stand"][k]) for k in ("up", "front"))
    middles, wide = np.array([t["centre_mm"] for t in found]), np.array([t["mesiodistal_mm"] for t in found])
    margins = {t["fdi"]: (t["margin_mm"], t["margin_confidence"]) for t in json.loads(inputs["margins"][0].data)}
    teeth = known(whole, numbers, margins, gaps_of(middles, wide), up)
    pulled, lost = _places(whole, settings, inputs)
    sides = arch_sides(middles, wide, up=up, front=front)
    folds = frena(whole, numbers > 0, {t["fdi"]: np.array(t["centre_mm"]) for t in found}, sides, up) if settings.frenum_mm else []
    teeth = replace(teeth, frena=tuple(f.vertices for f in folds))
    asked = kept(whole, teeth, sides, _keep(settings), pulled)
    run.tick(0.8, "cutting")
    mesh = clip(whole, snapped(whole, asked.value)).mesh
    if mesh.triangles == 0:
        raise StepFailed("The edge line leaves nothing of this scan. Keep more gum.", code="nothing-left")
    mesh = split_bow_ties(largest_piece(mesh))[0]
    lines = line_of(whole, asked.value)[:1]
    drawn = [[_point(p) for p in line.points_mm[:: max(round(_DRAWN_MM * len(line.points_mm) / line.length_mm), 1)]] for line in lines]
    flags = [*_said(inputs.piece, numbers, inputs["told"], mesh, pulled, asked), *lost]
    flags += [_round(inputs.piece, f, settings) for f, cut in zip(folds, asked.round_, strict=True) if cut]
    return StepResult({"mesh": mesh, "line": drawn}, _readings(whole, numbers, lines), tuple(flags), _figure(settings))


def _eased(inputs: Inputs) -> Mesh:
    mesh: Mesh = inputs["touched"] if inputs["touched"] is not None else inputs["mesh"]
    eased = ease(mesh, ease_mm=inputs["ease_mm"])
    if eased.triangles == 0:
        raise StepFailed("Easing the border leaves nothing of this scan. Ease less.", code="nothing-left")
    return eased


def _numbers(told: Mesh, mesh: Mesh) -> NDArray[np.int64]:
    """(n,) FDI numbers as they were told, nought on gum."""
    assert told.channel is not None
    at = cKDTree(told.vertices_mm).query(mesh.vertices_mm)[1]
    return np.maximum(np.nan_to_num(told.channel.values[at]), 0).astype(np.int64)


def _keep(settings: EdgeSettings) -> Keep:
    outer = np.inf if settings.edge == "vestibule" else settings.gum_mm
    inner = {"same": settings.gum_mm, "all": np.inf, "band": settings.band_mm}[settings.inner]
    # Where nothing is said, behind the last teeth as much stays as outside of them.
    behind = settings.behind_mm if settings.behind_mm is not None else outer
    return Keep(outer, inner, behind, settings.off_mm, settings.frenum_mm)


def _places(mesh: Mesh, settings: EdgeSettings, inputs: Inputs) -> tuple[NDArray[np.float64], list[Flag]]:
    """((k, 3) places the line runs through, what lies on nothing any more)."""
    out, lost = [np.zeros((0, 3))], []
    tree = cKDTree(mesh.vertices_mm)
    for key in sorted(settings.pulls, key=lambda k: (len(k), k)):
        pull = settings.pulls[key]
        points = np.array([pull.at], float) if pull.at is not None else points_of(pull.points_mm, inputs)
        if len(points) > 1:
            along = np.r_[0.0, np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))]
            steps = np.linspace(0, along[-1], max(int(along[-1] / _FREE_MM), 1) + 1)
            points = np.stack([np.interp(steps, along, points[:, k]) for k in range(3)], axis=1)
        here = points[tree.query(points)[0] < _LOST_MM]
        out.append(here)
        if len(here) < len(points):
            lost.append(
                Flag("pull-lost", "look", "The edge line was pulled to a place that this scan has not. Pull it anew, or drop that.")
            )
    return np.vstack(out), lost


def _said(piece: str, numbers: NDArray, told: Mesh, mesh: Mesh, pulled: NDArray, asked: Kept) -> list[Flag]:
    out = []
    gone = sorted({int(n) for n in np.unique(numbers) if n > 0} - set(np.unique(_numbers(told, mesh)).tolist()))
    if gone:
        text = f"The edge line cuts off the teeth {', '.join(map(str, gone))}. Keep more gum, or say that they are no teeth."
        out.append(Flag("tooth-cut-off", "look", text))
    for at in pulled[asked.held]:
        text = "Pulled onto a tooth, or too near to one: the line is held off it here."
        out.append(Flag("edge-held", "look", text, Place(piece, _point(at), 4.0)))
    return out[:12]


def _round(piece: str, found: Frenum, settings: EdgeSettings) -> Flag:
    text = f"A frenum towards the {found.where}: the edge line runs {settings.frenum_mm:g} mm round it."
    fix = Fix("edge", piece, {"frenum_mm": 0.0}, label="Run over it")
    return Flag("frenum", "note", text, Place(piece, _point(found.at_mm), 4.0), fix)


def _readings(mesh: Mesh, numbers: NDArray, lines: list) -> tuple[Reading, ...]:
    if not lines:
        return ()
    near = cKDTree(mesh.vertices_mm[numbers > 0]).query(lines[0].points_mm)[0]
    return (Reading("edge line, nearest to a tooth", float(near.min()), "mm"), Reading("edge line, length", lines[0].length_mm, "mm"))


def _figure(settings: EdgeSettings) -> str:
    outer = "to the vestibule" if settings.edge == "vestibule" else f"{settings.gum_mm:g} mm of gum"
    return outer + {"same": "", "all": ", palate", "band": f", {settings.band_mm:g} mm of palate"}[settings.inner]


def _point(p: np.ndarray) -> Point:
    return (round(float(p[0]), 3), round(float(p[1]), 3), round(float(p[2]), 3))


STEP = Step(
    name="edge",
    title="Edge line",
    number=4,
    version=4,
    over=JAWS,
    part_of="trim",
    settings=EdgeSettings,
    needs={
        "mesh": Need("clean", "mesh"),
        "told": Need("teeth", "mesh", optional=True),
        "found": Need("teeth", "teeth", optional=True),
        "margins": Need("teeth", "margins", optional=True),
        "touched": Need("touch", "mesh", optional=True),
        "stand": Need("level", "stand"),
        "ease_mm": Need("trim", "ease_mm", setting=True),
    },
    gives={"mesh": MESH, "line": json_of(list[list[Point]])},
    apply=apply,
    about="Up to where the scan is kept.",
)
