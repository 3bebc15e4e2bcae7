"""Label: one line of text in the wall of a body, or underneath."""

from __future__ import annotations

import itertools
import re
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import field_validator
from scipy import ndimage

from ...engine.gives import RESERVES, SOLIDS, Solid, Solids, json_of
from ...engine.model import BODIES, Fix, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings, above, setting
from ...mesh import Mesh
from ...ops.clip import frame_of
from ...ops.free_wall import Free, free_wall
from ...ops.letters import Line, line, on_floor, on_wall, unknown
from ...ops.raster import filled
from ...parts.pin_places import STRUT_MM
from ...progress import Run
from ..values import Labelled

WORDS = ("number", "practice", "date", "jaw")
# Capitals so tall are tried, the tallest first; underneath there is more room (mm). Legible down to 2 mm (judgement).
_WALL_MM, _UNDER_MM = (3.5, 3.0, 2.6, 2.2, 2.0), (5.0, 4.0, 3.0, 2.5)
# From the foot of the wall to the letters, and from them to its top.
_FOOT_MM, _HEAD_MM = 0.5, 0.4
# Letters begin so far outside of the wall, or go so far into it, that they never end on it.
_BEYOND_MM = 0.3
# Lines that the cavity keeps off stand so near to one another that between them the wall is thinner by 0.04 mm at most.
_LINES_MM, _PIECES_MM = 0.75, 2.0
_RASTER_MM = 0.5
# A thicker base is not proposed.
_THICKEST_MM = 12.0
# From a strut or a notch to the letters, along the wall.
_STRUT_OFF_MM = 0.6


class LabelSettings(StepSettings):
    style: Literal["none", "engraved", "raised"] = setting("none", label="Label", help="A line of text, cut in or standing out.")
    pattern: str = setting(
        "{number} {jaw}", min_length=1, max_length=80, label="Text", help="From {number}, {practice}, {date}, {jaw} and what you write."
    )
    depth_mm: float = setting(0.5, ge=0.2, le=1.5, unit="mm", label="Depth", help="How deep it is cut, or how far it stands out.")
    tall_mm: float | None = setting(
        None, ge=1.5, le=10, unit="mm", label="Capitals, tall", help="Empty: as tall as there is room for.", main=False
    )
    at: tuple[float, float, float] | None = setting(
        None, label="Place", help="Where the middle of the line shall be, in the scan's own coordinates.", per_jaw=True, form=False
    )

    @field_validator("pattern")
    @classmethod
    def _known(cls, pattern: str) -> str:
        odd = [word for word in re.findall(r"\{(.*?)\}", pattern) if word not in WORDS]
        if odd or re.search(r"[{}]", re.sub(r"\{.*?\}", "", pattern)):
            raise ValueError(f"words in braces are {', '.join('{' + w + '}' for w in WORDS)}")
        missing = unknown(re.sub(r"\{.*?\}", "", pattern))
        if missing:
            raise ValueError(f"the font has no letter for {missing}")
        return pattern


@dataclass(frozen=True)
class _Set:
    """Where the line stands: its solid, what the cavity keeps off ((k, 2, 3) lines), and its middle on the body."""

    text: Line
    solid: Mesh
    lines: NDArray[np.float64]
    middle: NDArray[np.float64]
    where: str


def apply(inputs: Inputs, settings: LabelSettings, run: Run) -> StepResult:
    words = {k: inputs[k] for k in ("number", "practice", "date")} | {"jaw": inputs.jaw or ""}
    said = re.sub(r"\{(.*?)\}", lambda m: words[m[1]], settings.pattern).strip()
    left_out = unknown(said)
    said = " ".join("".join(c for c in said if c not in left_out).split())
    if not said:
        return _nothing("There is nothing to write: the case has no text for this pattern.", said)
    body: Mesh = inputs["body"]
    rotation = frame_of(inputs["stand"]["up"])
    local = body.with_vertices(body.vertices_mm @ rotation.T)
    run.tick(0.2, "looking for room")
    struts = [(rotation @ np.array(s["from_mm"]), rotation @ np.array(s["to_mm"])) for s in inputs["struts"] or ()]
    wall = free_wall(local, edge_mm=inputs["walls"]["edge_mm"] if inputs["walls"] else 0.0)
    if wall is not None:
        wall = wall.clear_of(struts, STRUT_MM / 2 + _STRUT_OFF_MM)
        if inputs["notch"]:
            a, b = (rotation @ np.array(p) for p in inputs["notch"]["line"])
            wall = wall.clear_of([(a, b)], _STRUT_OFF_MM)
    asked = None if settings.at is None else rotation @ np.array(settings.at)
    found = _on_wall(said, settings, wall, asked) if wall else None
    flags = []
    if found is None and asked is not None and wall:
        flags.append(Flag("label-moved", "look", "There is no room for the label where it was put, so it stands where there is."))
        found = _on_wall(said, settings, wall, None)
    if found is None and inputs["inside"] != "open":
        found = _underneath(said, settings, local, rotation @ np.array(inputs["stand"]["front"]))
    if found is None:
        return _no_room(said, settings, wall, inputs)
    if left_out:
        flags.append(Flag("letters-left-out", "look", f"The font has no letter for {left_out}: left out."))
    flags.append(Flag("labelled", "note", f"“{said}”, {found.where}."))
    return _result(said, settings, found, rotation, flags)


def _no_room(said: str, settings: LabelSettings, wall: Free | None, inputs: Inputs) -> StepResult:
    """Nowhere; where a thicker base would give the wall the height that is missing, its Fix does that."""
    text = line(said, settings.tall_mm or _WALL_MM[-1])
    room = wall.tallest(text.width) if wall else 0.0
    missing = float(np.ceil((_FOOT_MM + text.deep + text.tall + _HEAD_MM - room) * 10 - 1e-6) / 10)
    thick = round(inputs["thickness"] + missing, 1)
    if room == 0 or thick > _THICKEST_MM:
        return _nothing(f"No wall has room for “{said}”: it is too long, or the walls are too low or too sharply bent. Write less.", said)
    text_said = (
        f"No wall has room for “{said}”: {missing:.1f} mm of height are missing. Write less, or raise the base: Fix makes it "
        f"{thick:.1f} mm thick under the lowest point."
    )
    return _nothing(text_said, said, Fix("base", above(inputs.piece)[-2], {"thickness_mm": thick}))


def _nothing(why: str, said: str, fix: Fix | None = None) -> StepResult:
    values = {"solids": Solids(), "reserves": [], "label": {"text": said, "where": "nowhere", "middle": None}}
    return StepResult(values, (), (Flag("no-label", "look", why, fix=fix),), "no room")


def _result(said: str, settings: LabelSettings, found: _Set, rotation: NDArray, flags: list[Flag]) -> StepResult:
    solid = Solid(
        "cut" if settings.style == "engraved" else "add", found.solid.with_vertices(found.solid.vertices_mm @ rotation), "the label"
    )
    reserves = [
        {"name": "label", "from_mm": (a @ rotation).tolist(), "to_mm": (b @ rotation).tolist(), "radius_mm": 0.01} for a, b in found.lines
    ]
    middle = [round(float(x), 4) for x in found.middle @ rotation]
    values = {"solids": Solids([solid]), "reserves": reserves, "label": {"text": said, "where": found.where, "middle": middle}}
    readings = (Reading("capitals, tall", found.text.tall, "mm"), Reading("line, long", found.text.width, "mm"))
    return StepResult(values, readings, tuple(flags), said)


def _depths(settings: LabelSettings) -> tuple[float, float]:
    """(how far inside the body letters reach, how far outside)."""
    return (settings.depth_mm, _BEYOND_MM) if settings.style == "engraved" else (_BEYOND_MM, settings.depth_mm)


def _on_wall(said: str, settings: LabelSettings, wall: Free, asked: NDArray | None) -> _Set | None:
    for tall in (settings.tall_mm,) if settings.tall_mm else _WALL_MM:
        text = line(said, tall)
        foot = _FOOT_MM + text.deep
        bends = wall.starts(text.width, foot + tall + _HEAD_MM)
        if not np.isfinite(bends).any():
            continue
        number = int(bends.argmin())
        if asked is not None:
            number = round((wall.bend.nearest(asked[:2]) - text.width / 2) / wall.step_mm) % len(bends)
            if not np.isfinite(bends[number]):
                continue
        return _bent(text, settings, wall, number * wall.step_mm, foot)
    return None


def _bent(text: Line, settings: LabelSettings, wall: Free, start: float, foot: float) -> _Set:
    inner, outer = _depths(settings)
    solid = on_wall(text, wall.bend, start=start, floor=wall.floor, foot=foot, inner=inner, outer=outer, lean=wall.leans)
    deep = inner if settings.style == "engraved" else 0.0
    s = start + np.linspace(0, text.width, int(np.ceil(text.width / _PIECES_MM)) + 1)
    rows = foot - text.deep + np.linspace(0, text.tall + text.deep, int(np.ceil((text.tall + text.deep) / _LINES_MM)) + 1)
    lines = [
        [np.append(a, wall.floor + z), np.append(b, wall.floor + z)] for z in rows for a, b in itertools.pairwise(_plan(wall, s, z, deep))
    ]
    middle = np.append(_plan(wall, np.array([start + text.width / 2]), foot + text.tall / 2, 0.0)[0], wall.floor + foot + text.tall / 2)
    return _Set(text, solid, np.array(lines) if deep else np.zeros((0, 2, 3)), middle, "on the wall")


def _plan(wall: Free, along: NDArray, height: float, deep: float) -> NDArray[np.float64]:
    """(k, 2) places so deep in the wall, so high over its foot."""
    return wall.bend.at(along) - wall.bend.outward(along) * (deep + wall.leans(along) * height)[:, None]


def _underneath(said: str, settings: LabelSettings, local: Mesh, front: NDArray) -> _Set | None:
    """In the floor, where a box round the line fits, as near to the middle as can be; read with the front up. Cut in, whatever is
    asked: what stands out there would lift the model."""
    floor = float(local.vertices_mm[:, 2].min())
    bottom = local.of_faces((local.vertices_mm[local.faces][:, :, 2] < floor + 1e-6).all(1))
    across = np.array([front[1], -front[0]]) / max(float(np.hypot(*front[:2])), 1e-9)
    turn = np.stack([across, front[:2] / max(float(np.hypot(*front[:2])), 1e-9)])
    for tall in (settings.tall_mm,) if settings.tall_mm else _UNDER_MM:
        text = line(said, tall)
        spot = _room(bottom, turn, text.width + 2.0, tall + 2 * text.deep + 2.0)
        if spot is None:
            continue
        middle = spot @ turn
        solid = on_floor(text, middle=middle, across=across, floor=floor, inner=settings.depth_mm, outer=_BEYOND_MM)
        rows = np.linspace(-0.5, 0.5, int(np.ceil(tall / _LINES_MM)) + 1) * (tall + 2 * text.deep)
        ends = [middle + side * across * text.width / 2 for side in (-1, 1)]
        lines = [[np.append(e + row * turn[1], floor + settings.depth_mm) for e in ends] for row in rows]
        lifts = ", cut in: what stands out there would lift the model" if settings.style == "raised" else ""
        return _Set(text, solid, np.array(lines), np.append(middle, floor), f"underneath{lifts}")
    return None


def _room(bottom: Mesh, turn: NDArray, wide: float, tall: float) -> NDArray[np.float64] | None:
    """(2,) the middle of a place for a box, along `turn`, on the bottom; the nearest to its middle."""
    plan = bottom.vertices_mm[:, :2] @ turn.T
    cells, low = filled(plan, bottom.faces.astype(np.int64), _RASTER_MM)
    box = np.ones((int(np.ceil(wide / _RASTER_MM)) | 1, int(np.ceil(tall / _RASTER_MM)) | 1), bool)
    fits = np.argwhere(ndimage.binary_erosion(cells, box))
    if len(fits) == 0:
        return None
    at = fits * _RASTER_MM + low
    middle = np.argwhere(cells).mean(0) * _RASTER_MM + low
    return at[np.linalg.norm(at - middle, axis=1).argmin()]


STEP = Step(
    name="label",
    title="Label",
    number=7,
    version=4,
    over=BODIES,
    settings=LabelSettings,
    needs={
        "body": Need("base", "body"),
        "stand": Need("foot", "foot"),
        "walls": Need("base", "walls", optional=True),
        "inside": Need("hollow", "style", setting=True),
        "thickness": Need("base", "thickness_mm", setting=True),
        "struts": Need("articulate", "struts", optional=True),
        "notch": Need("notch", "notch", optional=True),
        "number": Need("case", "number"),
        "practice": Need("case", "practice"),
        "date": Need("case", "opened"),
    },
    gives={"solids": SOLIDS, "reserves": RESERVES, "label": json_of(Labelled)},
    apply=apply,
    about="A line of text on every body.",
    off=lambda settings: settings.style == "none",
)
