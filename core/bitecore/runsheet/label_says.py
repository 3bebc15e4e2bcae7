"""What there is to say of the labels of a body, and what would mend it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from ..engine.model import Fix, Flag, Inputs, Place, above
from ..mesh import Mesh
from ..ops.closest import ClosestPoints
from ..ops.fonts import FONTS, unknown
from ..ops.free_wall import Free
from ..ops.writing import FOOT_MM, HEAD_MM, Spot, Surface
from ..ops.written import Written
from .framed import Frame
from .labels import Said

# A thicker base is not proposed.
_THICKEST_MM = 12.0
# So near to where it was put a label stands there.
THERE_MM = 0.75
# A stroke is so many pixels of the printer wide, and so wide; a groove no deeper than so many of its widths (judgement).
_PIXELS, _LEAST_STROKE_MM, _DEEPEST = 5, 0.25, 2.0
# A pen wider than this share of a capital fills its letters up (judgement).
_WIDEST_PEN, _GOOD_PEN = 0.25, 0.16
# So much is left behind a groove at least: the thinnest wall that can be asked for; it is looked for in steps of _DEEPER_MM.
BEHIND_MM, _DEEPER_MM = 0.8, 0.1
# So much of a text is said again.
_LONGEST = 60


@dataclass(frozen=True)
class Asked:
    """A label and what a person wants of it; entry : the id it is kept under; patterns : of text, of its lines"""

    said: Said
    entry: str
    at: NDArray[np.float64] | None
    turn: float
    patterns: tuple[str, ...] = ()


@dataclass(frozen=True)
class Stands:
    asked: Asked
    written: Written
    surface: Surface
    spot: Spot
    op: Literal["cut", "add"]
    off: float


def says(
    found: Stands | None, asked: Asked, wall: Free | None, inputs: Inputs, settings: Any, frame: Frame, *, how: str = "",
    cure: Fix | None = None,
) -> Iterator[Flag]:  # fmt: skip
    """how : what it did to find room; cure : what would give it room, where it has none"""
    said = asked.said
    if said.left:
        yield Flag(
            "letters-left-out",
            "look",
            f"These letters have none for {said.left}: left out. Take others.",
            fix=_other_font(said),
            unmet=True,
        )
    if found is None:
        yield _no_room(asked, wall, inputs, cure)
        return
    middle, along, high = found.surface.axes(found.written, found.spot)
    x, y, z = frame.home(middle).tolist()
    out = frame.home(middle + np.cross(along, high)) - frame.home(middle)
    place = Place(inputs.piece, (x, y, z), 4.0, facing=(float(out[0]), float(out[1]), float(out[2])))
    if found.off > THERE_MM:
        yield _moved(found, asked, settings, inputs, place)
    lifts = ", cut in: what stands out there would lift the model" if settings.style == "raised" and found.op == "cut" else ""
    took = f": there was no room for it otherwise, so it stands {how}, capitals {found.written.tall:.1f} mm tall" if how else ""
    yield Flag("labelled", "note", f"{_called(said)}, {where(found)}{took}{lifts}.", place)
    yield from _legible(found, settings, inputs, place)


def _called(said: Said) -> str:
    words = said.shown if len(said.shown) <= _LONGEST else f"{said.shown[:_LONGEST]}…"
    return f"“{words}”" if said.kind == "text" else f"The code of {said.shown}" if said.kind == "code" else f"The mark “{said.shown}”"


def where(found: Stands) -> str:
    return {"underneath": "underneath", "gum": "on the gum"}.get(found.surface.where, "on the wall")


def _other_font(said: Said) -> Fix | None:
    better = [f for f in FONTS if not unknown(said.left, f)]
    return Fix("label", "*", {"font": better[0]}, label="Other letters") if better else None


def _moved(found: Stands, asked: Asked, settings: Any, inputs: Inputs, place: Place) -> Flag:
    if asked.at is None:
        text = f"There is no room for {_small(asked.said)} on the side it was asked for, so it stands where there is."
        return Flag("label-moved", "look", text, place, Fix("label", "*", {"side": "auto"}, label="Anywhere"))
    text = (
        f"{_called(asked.said)} stands {found.off:.1f} mm from where it was put: nearer, a tooth, an edge, or another thing on the wall is "
        "in its way."
    )
    entry = settings.labels[asked.entry].model_dump(mode="json") | {"at": None}
    free = Fix("label", inputs.piece, entry, at="labels", id=asked.entry, label="Let it find its place")
    return Flag("label-moved", "look", text, place, free)


def _small(said: Said) -> str:
    called = _called(said)
    return called if said.kind == "text" else called[0].lower() + called[1:]


def _legible(found: Stands, settings: Any, inputs: Inputs, place: Place) -> Iterator[Flag]:
    written, said = found.written, found.asked.said
    pixel = float((inputs["printer"] or {}).get("data", {}).get("pixel_mm") or 0.05)
    needed = max(_LEAST_STROKE_MM, _PIXELS * pixel)
    if written.stroke < needed - 1e-9:
        text = (
            f"Strokes of {_small(said)} are {written.stroke:.2f} mm wide, {written.stroke / pixel:.0f} pixels of the printer: under "
            f"{needed:.2f} mm they run together."
        )
        yield Flag("thin-strokes", "look", text, place, _thicker(found, settings, inputs, needed))
    elif said.kind == "text" and settings.font == "line" and written.stroke > _WIDEST_PEN * written.tall:
        text = f"A pen of {written.stroke:.2f} mm fills letters up that are {written.tall:.1f} mm tall."
        pen = max(round(_GOOD_PEN * written.tall, 2), round(needed + 0.005, 2))
        yield Flag("thick-pen", "look", text, place, Fix("label", "*", {"pen_mm": pen}) if pen < written.stroke else None)
    elif found.op == "cut" and settings.depth_mm > _DEEPEST * written.stroke + 1e-9:
        depth = max(round(_DEEPEST * written.stroke - 0.05, 1), 0.2)
        text = f"Grooves of {_small(said)} are {settings.depth_mm:.2f} mm deep and {written.stroke:.2f} mm wide: resin stays in them."
        yield Flag("deep-strokes", "look", text, place, Fix("label", "*", {"depth_mm": depth}))


def behind(found: Stands, local: Mesh, inputs: Inputs, settings: Any, frame: Frame) -> Iterator[Flag]:
    """What is cut in and leaves next to nothing, or nothing, behind it. local : the body as the surfaces see it"""
    if found.op != "cut":
        return
    deep = settings.depth_mm + np.arange(round(BEHIND_MM / _DEEPER_MM) + 1) * _DEEPER_MM
    points = np.stack([found.surface.lines(found.written, found.spot, float(d))[:, 0] for d in deep])
    off, _ = ClosestPoints(local).signed(points.reshape(-1, 3), within_mm=float(deep[-1]) + 1)
    out = off.reshape(points.shape[:2]) > 1e-3  # on the surface itself is not out of it
    if not out.any():
        return
    left = max(float(deep[out.any(1).argmax()] - settings.depth_mm) - _DEEPER_MM, 0.0)
    x, y, z = frame.home(points[0, int(out.sum(0).argmax())]).tolist()
    depth = float(np.floor((settings.depth_mm + left - BEHIND_MM) * 10 + 1e-6) / 10)
    text = f"Behind {_small(found.asked.said)} {left:.1f} mm are left where the model is thinnest, less than {BEHIND_MM:.1f} mm."
    yield Flag(
        "thin-behind", "look", text, Place(inputs.piece, (x, y, z), 4.0), Fix("label", "*", {"depth_mm": depth}) if depth >= 0.2 else None
    )


def _thicker(found: Stands, settings: Any, inputs: Inputs, needed: float) -> Fix | None:
    asked = found.asked
    if asked.said.kind == "text" and settings.font == "line":
        return Fix("label", "*", {"pen_mm": round(needed + 0.005, 2)})
    tall = float(np.ceil(found.written.tall * needed / found.written.stroke * 10) / 10)
    if asked.entry:
        entry = settings.labels[asked.entry].model_dump(mode="json") | {"tall_mm": tall}
        return Fix("label", inputs.piece, entry, at="labels", id=asked.entry) if tall <= 30 else None
    if asked.said.kind == "text":
        return Fix("label", "*", {"tall_mm": tall}) if 1.5 <= tall <= 10 else None
    new = {"name": asked.said.kind, "kind": asked.said.kind, "pattern": "", "at": None, "turn_deg": 0.0, "tall_mm": tall}
    return Fix("label", inputs.piece, new, at="labels") if tall <= 30 else None


def _no_room(asked: Asked, wall: Free | None, inputs: Inputs, cure: Fix | None) -> Flag:
    """Nowhere; where a thicker base would give the wall the height that is missing, a Fix does that."""
    said = asked.said
    if not said.sizes[0]:
        text = f"There is no room for {_small(said)}: it is too long for any model. Write less."
        return Flag("no-label", "look", text, fix=cure, unmet=True)
    written = said.drawn(said.sizes[0][-1], False)
    tallest = wall.tallest(written.width) if wall else 0.0
    missing = float(np.ceil((FOOT_MM + written.height + HEAD_MM + 0.5 - tallest) * 10 - 1e-6) / 10)
    thick = round(inputs["walls"]["under_mm"] + missing, 1) if inputs["walls"] else np.inf
    tried = "on the walls and underneath, on two lines and smaller" if said.kind == "text" else "on the walls and underneath"
    less = f"“{cure.label}” gives it room." if cure else "Write less." if said.kind == "text" else "Take it smaller."
    if tallest == 0 or thick > _THICKEST_MM or missing <= 0 or asked.turn % np.pi:
        text = f"There is no room for {_small(said)}: it was tried {tried}. {less}"
        return Flag("no-label", "look", text, fix=cure, unmet=True)
    if inputs["height"] == "gap" or inputs["held"] == "plates":
        text = (
            f"There is no room for {_small(said)}: {missing:.1f} mm of height are missing, and between two plates a base is not raised "
            f"alone. {less}"
        )
        return Flag("no-label", "look", text, fix=cure, unmet=True)
    higher = Fix(
        "base", above(inputs.piece)[-2], {"height": "under", "thickness_mm": thick}, label=f"Base {thick:.1f} mm" if cure else "Fix"
    )
    what = "Write less, or raise the base: Fix makes it" if cure is None else f"{cure.label}: there it has room; or the base is made"
    text = (
        f"There is no room for {_small(said)}: {missing:.1f} mm of height are missing. {what} {thick:.1f} mm thick under the lowest point."
    )
    return Flag("no-label", "look", text, fix=cure or higher, other=higher if cure else None, unmet=True)
