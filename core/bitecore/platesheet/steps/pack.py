"""Pack: every body as its case laid it, by what it covers of the plate of the chosen printer, or where a person put it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from typing import Annotated, Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field
from typing_extensions import TypedDict

from ...engine.gives import ByPiece, by_piece, json_of
from ...engine.model import WHOLE, Fix, Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings, setting
from ...errors import StepFailed
from ...mesh import Mesh, joined
from ...ops.rigid import rows
from ...parts.arranging import Places, apart_mm, by_shape
from ...parts.laying import Laid, as_placed, box_of, flat, larger, narrowed, shifted, turned_flat
from ...parts.printing import BuildPlate, Printing, build_plate, no_such_layer, printing_of, sized, sizing_of, tower
from ...parts.shelf import Printer
from ...progress import Run
from ..two_heights import lower_layers

Point = tuple[float, float, float]
Row = tuple[float, float, float, float]
_Mm = Annotated[float, Field(ge=-5000, le=5000)]
# Bodies that lie by hand are told where they are so much nearer than asked: the outlines are read on a raster.
_NEARER_MM = 0.3


class Lies(TypedDict):
    """A body where it lies, for whoever looks at the plate. box_mm : low and high; turn_deg : so far from how its case laid it,
    counter-clockwise seen from above"""

    home_to_plate: tuple[Row, Row, Row, Row]
    box_mm: tuple[Point, Point]
    turn_deg: float


class SetPlace(BaseModel):
    """Where a person put a body: the middle of its box, from the plate's corner; turned counter-clockwise seen from above."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)
    x_mm: _Mm
    y_mm: _Mm
    turn_deg: Annotated[float, Field(ge=-360, le=360)] = 0.0


class PackSettings(StepSettings):
    printer: str = setting("wren", label="Printer", help="Whose plate the bodies lie on.", shelf="printer", max_length=60)
    resin: str = setting("plaster", label="Resin", help="What the bodies are printed of.", shelf="resin", max_length=60)
    layer_mm: float = setting(0.05, ge=0.01, le=0.2, unit="mm", label="Layer", help="How high one layer is.")
    thick_mm: Literal["none", "0.1", "0.15", "0.2"] = setting(
        "none", label="Lower layers", help="What stands under the teeth's margins may be printed in thicker layers: it takes less time.",
        words={"none": "As fine", "0.1": "0.10 mm", "0.15": "0.15 mm", "0.2": "0.20 mm"},
    )  # fmt: skip
    thick_up_mm: float | None = setting(
        None, ge=0, le=500, unit="mm", label="Thick up to", help="Empty: to under the lowest margin on the plate.",
        when={"thick_mm": ("0.1", "0.15", "0.2")},
    )  # fmt: skip
    edges: Literal["sharp", "grey"] = setting(
        "sharp", label="Edges", help="Grey: a pixel at an edge is lit by how much of it is covered, where the printer takes it.",
        words={"sharp": "Whole pixels", "grey": "Grey"},
    )  # fmt: skip
    gap_mm: float = setting(3.0, ge=0.5, le=30, unit="mm", label="Gap between bodies", help="Room for a spatula.")
    margin_mm: float = setting(2.0, ge=0, le=20, unit="mm", label="Keep off the edge", help="Nothing is placed nearer to the plate's edge.")
    places: dict[str, SetPlace] = setting(
        {}, label="Places by hand", help="Bodies that stay where a person put them.", form=False, max_length=200
    )


def apply(inputs: Inputs, settings: PackSettings, run: Run) -> StepResult:
    if inputs["printer"] is None:
        raise StepFailed(f"There is no printer “{settings.printer}” on the shelf of the house. Choose another.", code="no-printer")
    if inputs["resin"] is None:
        raise StepFailed(f"There is no resin “{settings.resin}” on the shelf of the house. Choose another.", code="no-resin")
    printer, sizes = Printer(**inputs["printer"]["data"]), sizing_of(inputs["resin"])
    bodies, laid = _laid(inputs, sizes, run)
    places, left = _packed(bodies, laid, inputs["stand"], settings, printer)
    if (sizes != 1).any():
        sized_ones = {ident: matrix for ident, matrix in places.items() if not _is_as_is(inputs["stand"][ident])}
        places |= {ident: narrowed(matrix, bodies[ident], sizes) for ident, matrix in sized_ones.items()}
    lie = {ident: _Lies.of(bodies[ident], matrix, printer.pixel_mm) for ident, matrix in places.items()}
    run.tick(0.9, "what lies where")
    title = inputs["printer"]["name"]
    tall = max((one.high[2] for one in lie.values()), default=0.0)
    margins = {ident: stand["margin"] for ident, stand in inputs["stand"].items() if stand.get("margin")}
    low = {ident: float((lie[ident].there @ [*margins[ident], 1.0])[2]) if ident in margins else None for ident in lie}
    heights = lower_layers(settings.layer_mm, settings.thick_mm, settings.thick_up_mm, low)
    parts = max(round(printer.grey_parts), 1) if settings.edges == "grey" else 1
    flags = [
        *_sharp(settings, parts, title),
        *heights.flags,
        *_said(lie, left, inputs["stand"], title, printer),
        *_by_hand(bodies, lie, inputs["stand"], settings, title, printer),
    ]
    printing = printing_of(inputs["printer"], inputs["resin"], settings.layer_mm, heights.thick, parts)
    flags += [*_layers(settings, printer, title), *_tower(lie, bodies, inputs["stand"], printing)]
    if (sizes != 1).any():
        flags.append(Flag("sized", "note", sized(sizes, inputs["resin"]["name"])))
    flags += _turned_by_hand(lie, inputs["stand"], settings)
    readings = (
        Reading("bodies on the plate", len(lie)),
        Reading("plate width", printer.width_mm, "mm"),
        Reading("plate depth", printer.depth_mm, "mm"),
        Reading("height", float(tall), "mm"),
        *([Reading("lowest margin", min(z for z in low.values() if z is not None), "mm")] if any(low.values()) else []),
    )
    values = {
        "home_to_plate": ByPiece({b: rows(lie[b].there) if b in lie else None for b in inputs["body"]}),
        "lies": ByPiece({b: lie[b].told(laid[b][0]) if b in lie else None for b in inputs["body"]}),
        "laid": ByPiece({b: rows(lie[b].laid) if b in lie else None for b in inputs["body"]}),
        "at_px": ByPiece({b: lie[b].at_px if b in lie else None for b in inputs["body"]}),
        "plate": build_plate(title, printer),
        "printing": printing,
        "parts": parts,
        "heights": [settings.layer_mm] + ([heights.thick[0]] if heights.thick else []),
    }
    return StepResult(values, readings, tuple(flags), f"{len(lie)} of {len(laid)} bodies")


def _is_as_is(stand: Mapping[str, Any]) -> bool:
    """Is it printed in its own size, whatever the resin's correction?"""
    return bool(stand.get("as_is"))


def _turned_by_hand(lie: Mapping[str, _Lies], stand: Mapping[str, Any], settings: PackSettings) -> list[Flag]:
    """What is measured along the plate says nothing where it lies across it."""
    across = [ident for ident, at in settings.places.items() if ident in lie and _is_as_is(stand[ident]) and at.turn_deg % 180]
    return [
        Flag("across", "look", f"{stand[ident]['name']} is turned: its lengths are not along the plate.", fix=_by_itself(settings, ident))
        for ident in across
    ]


def _layers(settings: PackSettings, printer: Printer, title: str) -> list[Flag]:
    """Heights that the printer does not print."""
    flags = []
    if (other := no_such_layer(title, printer, settings.layer_mm)) is not None:
        flags.append(Flag("no-such-layer", "stop", other[0], fix=Fix("pack", "*", {"layer_mm": other[1]})))
    thick = settings.thick_mm
    if thick != "none" and (other := no_such_layer(title, printer, float(thick))) is not None:
        flags.append(Flag("no-such-layer", "stop", other[0], fix=Fix("pack", "*", {"thick_mm": "none"})))
    return flags


def _tower(lie: Mapping[str, _Lies], bodies: Mapping[str, Mesh], stand: Mapping[str, Any], printing: Mapping[str, Any]) -> list[Flag]:
    """Of one body alone that makes the print long."""
    found = tower({ident: float(one.high[2]) for ident, one in lie.items()}, printing)
    # What is measured upwards stands as tall as it is.
    if found is None or _is_as_is(stand[found[0]]):
        return []
    ident, count, minutes = found
    points = bodies[ident].vertices_mm
    top = points[np.argmax(points @ lie[ident].there[2, :3])]
    text = (
        f"The last {count} layers ({minutes:.0f} min) are of {stand[ident]['name']} alone: laid lower in its case it would be done sooner."
    )
    return [Flag("long", "note", text, Place(ident, tuple(top.tolist()), 4.0))]


def _sharp(settings: PackSettings, parts: int, title: str) -> list[Flag]:
    if settings.edges == "sharp" or parts > 1:
        return []
    text = f"The {title} takes no grey, so its edges are whole pixels. A lead can say that it does; Fix asks for whole pixels."
    return [Flag("no-grey", "look", text, fix=Fix("pack", "*", {"edges": "sharp"}))]


class _Lies:
    """A body where it lies. laid : (4, 4) with its box's corner at the origin, the same wherever it lies; at_px : so many pixels from the
    plate's corner; low, high : its box"""

    def __init__(self, laid: NDArray[np.float64], at_px: tuple[int, int], there: NDArray[np.float64], low: NDArray, high: NDArray) -> None:
        self.laid, self.at_px, self.there, self.low, self.high = laid, at_px, there, low, high

    def told(self, first: NDArray[np.float64]) -> dict[str, Any]:
        """first : (4, 4) as its case laid it"""
        one, two = (m[:3, :3] / np.linalg.norm(m[:3, :3], axis=1, keepdims=True) for m in (first, self.there))
        turn = two @ one.T
        box = [np.round(corner, 6).tolist() for corner in (self.low, self.high)]
        angle = round(float(np.degrees(np.arctan2(turn[1, 0], turn[0, 0]))), 6)
        return {"home_to_plate": rows(self.there), "box_mm": box, "turn_deg": angle + 0.0}

    @staticmethod
    def of(body: Mesh, matrix: NDArray[np.float64], pixel_mm: float) -> _Lies:
        """On whole pixels: its layers are cut once and set elsewhere as they are."""
        first, _ = box_of(matrix, body)
        laid = np.eye(4)
        laid[:3, :3] = np.round(matrix[:3, :3], 12) + 0.0
        laid[:3, 3] = -box_of(laid, body)[0]
        x, y = np.round(first[:2] / pixel_mm).astype(int).tolist()
        there = shifted(laid, x * pixel_mm, y * pixel_mm)
        return _Lies(laid, (x, y), there, *box_of(there, body))


def _laid(inputs: Inputs, sizes: NDArray[np.float64], run: Run) -> tuple[dict[str, Mesh], dict[str, Laid]]:
    """Every body with what it stands on, and as its case laid it."""
    bodies, laid = {}, {}
    for number, (ident, body) in enumerate(inputs["body"].items()):
        run.tick(0.5 * number / len(inputs["body"]), "laying")
        held, stand = inputs["supports"].get(ident), inputs["stand"][ident]
        bodies[ident] = full = body if held is None else joined([body, held])
        one = flat(full, stand["up"], stand["front"]) if stand["place"] is None else as_placed(full, np.array(stand["place"]))
        laid[ident] = larger(one, sizes) if (sizes != 1).any() and not _is_as_is(stand) else one
    return bodies, laid


def _packed(
    bodies: Mapping[str, Mesh], laid: Mapping[str, Laid], stand: Mapping[str, Any], settings: PackSettings, printer: Printer
) -> tuple[Places, list[str]]:
    room = np.array([printer.width_mm, printer.depth_mm]) - 2 * settings.margin_mm
    stay: Places = {}
    for ident, at in settings.places.items():
        if ident in laid:
            matrix, size = turned_flat(laid[ident], bodies[ident], at.turn_deg)
            stay[ident] = shifted(matrix, *(np.array([at.x_mm, at.y_mm]) - size[:2] / 2 - settings.margin_mm))
    kits: dict[str, Places] = {}
    named: set[tuple[str, str]] = set()
    for ident, (matrix, size) in laid.items():
        one = stand[ident]
        # Two of the same have one place in their kit between them.
        alone = (one["kit"], one["name"]) in named
        if one["kit"] and one["place"] is not None and ident not in stay and not alone:
            named.add((one["kit"], one["name"]))
            low, high = box_of(np.array(one["place"]), bodies[ident])
            kits.setdefault(one["kit"], {})[ident] = shifted(matrix, *((low + high)[:2] / 2 - size[:2] / 2))
    # Bodies lie on whole pixels, half of one off at most.
    gap = settings.gap_mm + printer.pixel_mm
    still = [ident for ident in laid if _is_as_is(stand[ident]) and ident not in stay]
    places, left = by_shape(laid, bodies, room, gap_mm=gap, kits=list(kits.values()), locked=stay, unturned=still)
    return {ident: shifted(m, settings.margin_mm, settings.margin_mm) for ident, m in places.items()}, left


def _said(lie: Mapping[str, _Lies], left: list[str], stand: Mapping[str, Any], title: str, printer: Printer) -> list[Flag]:
    flags = []
    if left:
        count = Counter(stand[ident]["name"] for ident in left)
        names = ", ".join(f"{times} × {name}" if times > 1 else name for name, times in count.items())
        size = f"{printer.width_mm:.0f} × {printer.depth_mm:.0f} mm"
        text = f"No room on the {title} ({size}) for {names}. Put them onto more plates, or choose a larger printer."
        flags.append(Flag("no-room", "look", text))
    tall = max((one.high[2] for one in lie.values()), default=0.0)
    if tall > printer.height_mm:
        text = f"The tallest body is {tall:.1f} mm; the {title} builds up to {printer.height_mm:.0f} mm."
        flags.append(Flag("too-tall", "stop", text))
    return flags


def _by_hand(
    bodies: Mapping[str, Mesh], lie: Mapping[str, _Lies], stand: Mapping[str, Any], settings: PackSettings, title: str, printer: Printer
) -> list[Flag]:
    """What lies off the plate, or too near to another, where a person put it."""
    put = [ident for ident in settings.places if ident in lie]
    flags = []
    for ident in put:
        box = lie[ident]
        over = max(-box.low[0], -box.low[1], box.high[0] - printer.width_mm, box.high[1] - printer.depth_mm)
        if over > 1e-6:
            text = f"{stand[ident]['name']} stands {over:.1f} mm over the edge of the {title}."
            flags.append(Flag("off-plate", "stop", text, fix=_by_itself(settings, ident)))
    for one, two, mm in apart_mm(bodies, {ident: lies.there for ident, lies in lie.items()}, put):
        if mm >= settings.gap_mm - _NEARER_MM:
            continue
        names = f"{stand[one]['name']} and {stand[two]['name']}"
        if mm > 0:
            text = f"{names} lie {mm:.1f} mm apart, nearer than the gap of {settings.gap_mm:.1f} mm."
            flags.append(Flag("too-near", "look", text, fix=_by_itself(settings, one)))
        else:
            flags.append(Flag("in-one-another", "stop", f"{names} lie in one another.", fix=_by_itself(settings, one)))
    return flags


def _by_itself(settings: PackSettings, ident: str) -> Fix:
    others = {key: place.model_dump(mode="json") for key, place in settings.places.items() if key != ident}
    return Fix("pack", "*", {"places": others}, label="Let it find its place")


STEP = Step(
    name="pack",
    title="Pack",
    number=1,
    version=9,
    over=WHOLE,
    settings=PackSettings,
    needs={
        "body": Need("source", "mesh", each=True),
        "supports": Need("source", "supports", each=True),
        "stand": Need("source", "stand", each=True),
        "printer": Need("shelf", "printer"),
        "resin": Need("shelf", "resin"),
    },
    gives={
        "home_to_plate": by_piece(json_of(tuple[Row, Row, Row, Row] | None)),
        "lies": by_piece(json_of(Lies | None)),
        "laid": by_piece(json_of(tuple[Row, Row, Row, Row] | None)),
        "at_px": by_piece(json_of(tuple[int, int] | None)),
        "plate": json_of(BuildPlate),
        "printing": json_of(Printing),
        "heights": json_of(list[float]),
        "parts": json_of(int),
    },
    apply=apply,
    about="Every body on the plate, none on another.",
)
