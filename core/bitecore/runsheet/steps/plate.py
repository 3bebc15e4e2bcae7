"""Plate: every body flat on the plate of a chosen printer, and checked to lie within it."""

from __future__ import annotations

from collections.abc import Mapping
from itertools import product
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ...engine.gives import ByPiece, by_piece, json_of
from ...engine.model import WHOLE, Fix, Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings, setting
from ...errors import StepFailed
from ...mesh import Mesh
from ...ops.rigid import rows
from ...parts.arranging import Places, by_shape, in_row
from ...parts.laying import Laid, box_of, face_towards, flat, joined_rafts, larger, narrowed, quarter, raised, shifted
from ...parts.printing import BuildPlate, Printing, build_plate, no_such_layer, printing_of, sized, sizing_of, tower
from ...parts.shelf import BUILT_IN, Printer
from ...progress import Run
from ..part_names import is_die, part_of, stands_held
from ..unbitten import left_open
from ..values import Matrix


class Laying(BaseModel):
    """A place on the face that lies on the plate, in the body's home (mm)."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)
    at: tuple[float, float, float]


class PlateSettings(StepSettings):
    printer: str = setting("wren", label="Printer", help="Whose plate the bodies lie on.", shelf="printer", max_length=60)
    resin: str = setting("plaster", label="Resin", help="What the bodies are printed of.", shelf="resin", max_length=60)
    layer_mm: float = setting(
        0.05, ge=0.01, le=0.2, unit="mm", label="Layer", help="How high one layer is. Two heights and grey edges: in the plate room."
    )
    gap_mm: float = setting(3.0, ge=0.5, le=30, unit="mm", label="Gap between bodies", help="Room for a spatula.")
    margin_mm: float = setting(2.0, ge=0, le=20, unit="mm", label="Keep off the edge", help="Nothing is placed nearer to the plate's edge.")
    supports: Literal["none", "all"] = setting(
        "none", label="Supports", help="None: models lie flat on the plate, dies stand on pillars. All: raised on pillars and a raft."
    )
    stands: dict[str, Literal["none", "all"]] = setting(
        {}, label="On supports", help="Of single bodies, where it is otherwise than of all.", form=False, max_length=200
    )
    raise_mm: float = setting(5.0, ge=2, le=40, unit="mm", label="Raised by", help="Of bodies on supports.", main=False)
    tilt_deg: float = setting(
        0.0, ge=0, le=85, unit="°", label="Tilted by", help="Of bodies on supports: the front is lifted. From 45° on fewer tips do.",
        main=False,
    )  # fmt: skip
    lay: dict[str, Laying] = setting(
        {}, label="Lies on", help="Of each body the place of the face that lies on the plate; else its base does.", form=False,
        max_length=200,
    )  # fmt: skip
    compare: bool = setting(False, label="Ways side by side", help="What every way to lay a body costs.", form=False)
    reach_mm: float = setting(
        2.0, ge=0.2, le=20, unit="mm", label="Hangs freely up to", help="What stands out farther is told by the print check.", main=False
    )


# Of so many bodies every way to turn some of them is tried.
_MIXED = 4
# Dies are raised by so much where nothing else is.
_DIES_MM = 5.0
# Around a raised body, for its raft: the widest foot and what its side leans out.
_RAFT_ROOM_MM = 3.0


def apply(inputs: Inputs, settings: PlateSettings, run: Run) -> StepResult:
    chosen = inputs["printer"]
    if chosen is None:
        raise StepFailed(f"There is no printer “{settings.printer}” on the shelf of the house. Choose another.", code="no-printer")
    printer, title = Printer(**chosen["data"]), chosen["name"]
    if inputs["resin"] is None:
        raise StepFailed(f"There is no resin “{settings.resin}” on the shelf of the house. Choose another.", code="no-resin")
    sizes = sizing_of(inputs["resin"])
    corrected = bool((sizes != 1).any())
    laid: dict[str, Laid] = {}
    # Models first: dies stand in a row of their own.
    for number, (piece, body) in enumerate(sorted(inputs["body"].items(), key=lambda item: is_die(part_of(item[0])))):
        run.tick(number / len(inputs["body"]), "laying flat")
        one = _laid(piece, body, inputs.of("stand", piece), settings)
        laid[piece] = larger(one, sizes) if corrected else one
    bodies = dict(inputs["body"].items())
    places, fits = _arranged(laid, bodies, printer, settings)
    if corrected:
        places = {p: narrowed(matrix, bodies[p], sizes) for p, matrix in places.items()}
    flags = [*left_open(any("alone" in stand for stand in inputs["stand"].values()))]
    tall = max(float(box_of(laid[k][0], inputs["body"][k])[1][2]) for k in laid)
    if not fits:
        flags.append(_off_plate(title, printer, laid, bodies, settings))
    if tall > printer.height_mm:
        text = f"The tallest body is {tall:.1f} mm; the {title} builds up to {printer.height_mm:.0f} mm."
        flags.append(Flag("too-tall", "stop", text))
    if fits and tall <= printer.height_mm:
        flags.append(Flag("on-plate", "note", f"Everything lies within the plate of the {title}."))
    if corrected:
        flags.append(Flag("sized", "note", sized(sizes, inputs["resin"]["name"])))
    low = np.min([box_of(places[k], inputs["body"][k])[0] for k in laid], axis=0)
    high = np.max([box_of(places[k], inputs["body"][k])[1] for k in laid], axis=0)
    readings = (
        Reading("plate width", printer.width_mm, "mm"),
        Reading("plate depth", printer.depth_mm, "mm"),
        Reading("used width", float(high[0] - low[0]), "mm"),
        Reading("used depth", float(high[1] - low[1]), "mm"),
        Reading("height", float(high[2] - low[2]), "mm"),
    )
    value = {p: rows(m) for p, m in places.items()}
    printing = printing_of(chosen, inputs["resin"], settings.layer_mm)
    if (other := no_such_layer(title, printer, settings.layer_mm)) is not None:
        flags.append(Flag("no-such-layer", "stop", other[0], fix=Fix("plate", "*", {"layer_mm": other[1]})))
    flags += _tower(places, bodies, printing, inputs)
    boxes = {p: np.array(box_of(places[p], inputs["body"][p]))[:, :2] for p in laid}
    held = [p for p in laid if stands_held(p, settings.supports, settings.stands)]
    # Dies among themselves, models among themselves.
    rows_of = [[p for p in held if is_die(part_of(p)) is die] for die in (True, False)]
    joins = {p: [at.tolist() for at in found] for row in rows_of for p, found in joined_rafts(boxes, row).items()}
    values = {
        "home_to_plate": ByPiece(value), "plate": build_plate(title, printer), "printing": printing,
        "joins": ByPiece({p: [] for p in laid} | joins),
    }  # fmt: skip
    return StepResult(values, readings, tuple(flags), title)


def _tower(places: Mapping[str, NDArray], bodies: Mapping[str, Mesh], printing: Mapping[str, Any], inputs: Inputs) -> list[Flag]:
    """Of one body alone that makes the print long."""
    found = tower({p: float(box_of(at, bodies[p])[1][2]) for p, at in places.items()}, printing)
    if found is None:
        return []
    piece, count, minutes = found
    points = bodies[piece].vertices_mm
    top = points[np.argmax(points @ places[piece][2, :3])]
    what = " ".join(word for word in (inputs.jaw_of(piece) or "", part_of(piece).replace("-", " ")) if word)
    text = f"The last {count} layers ({minutes:.0f} min) are of {what or 'one body'} alone: laid lower it would be done sooner."
    return [Flag("long", "note", text, Place(piece, tuple(top.tolist()), 4.0))]


def _off_plate(title: str, printer: Printer, laid: dict[str, Laid], bodies: Mapping[str, Mesh], settings: PlateSettings) -> Flag:
    """With the smallest of the printers that ship where everything fits, if one does: what else a house has is not known here."""
    text = f"The bodies do not fit on the {title} ({printer.width_mm:.0f} × {printer.depth_mm:.0f} mm)."
    others = {ident: (record.name, Printer.model_validate(record.data)) for ident, record in BUILT_IN["printer"].items()}
    for ident, (name, other) in sorted(others.items(), key=lambda o: o[1][1].width_mm * o[1][1].depth_mm):
        if _arranged(laid, bodies, other, settings)[1]:
            text += f" They do on the {name} ({other.width_mm:.0f} × {other.depth_mm:.0f} mm): Fix chooses it."
            return Flag("off-plate", "stop", text, fix=Fix("plate", "*", {"printer": ident}))
    return Flag("off-plate", "stop", f"{text} Choose a larger printer or less gap.")


def _laid(piece: str, body: Mesh, stand: dict, settings: PlateSettings) -> Laid:
    """On its base or on the face that was chosen; raised and tilted where it gets supports, with room around for their raft. A die
    stands upright."""
    up, front, lay = np.array(stand["up"]), np.array(stand["front"]), settings.lay.get(piece)
    if lay is not None:
        down = face_towards(body, np.array(lay.at))
        # Its front goes on to the front; where it stands on that, its top does.
        up, front = -down, front if abs(down @ front) < 0.9 else up
    if not stands_held(piece, settings.supports, settings.stands):
        return flat(body, up, front)
    die = is_die(part_of(piece))
    by = _DIES_MM if die and not _raises(settings) else settings.raise_mm
    return raised(body, up, front, tilt_deg=0.0 if die else settings.tilt_deg, by_mm=by, room_mm=_RAFT_ROOM_MM)


def _raises(settings: PlateSettings) -> bool:
    """Do models stand on supports? How high they are raised is no matter otherwise."""
    return settings.supports == "all" or "all" in settings.stands.values()


def _counting(settings: PlateSettings) -> PlateSettings:
    # How far a layer may hang is asked by the print check alone; what other ways would cost is no matter here.
    idle = {} if _raises(settings) else {"raise_mm": _DIES_MM, "tilt_deg": 0.0}
    return settings.model_copy(update={"reach_mm": 2.0, "compare": False} | idle)


def _arranged(laid: dict[str, Laid], bodies: Mapping[str, Mesh], printer: Printer, settings: PlateSettings) -> tuple[Places, bool]:
    """In a row along x or y, upright, turned by a quarter or only some of them turned, centred on the plate: the first that fits; else by
    their shape, dies in a row."""
    plate = np.array([printer.width_mm, printer.depth_mm])
    room = plate - 2 * settings.margin_mm
    gap = settings.gap_mm
    first: Places | None = None
    for turned in _turns(len(laid)):
        ones = {p: quarter(one) if turn else one for (p, one), turn in zip(laid.items(), turned, strict=True)}
        for axis in (0, 1):
            places, used = in_row(ones, axis, gap)
            centred = {p: shifted(m, *((plate - used) / 2)) for p, m in places.items()}
            first = first or centred
            if (used <= room + 1e-9).all():
                return centred, True
    assert first is not None
    row = [p for p in laid if is_die(part_of(p))]
    rafts = {p: _RAFT_ROOM_MM for p in laid if stands_held(p, settings.supports, settings.stands)}
    kit, _ = in_row({p: laid[p] for p in row}, 0, gap) if row else ({}, None)
    places, left = by_shape(laid, bodies, room, gap_mm=gap, kits=[kit], rafts_mm=rafts)
    if left:
        return first, False
    return {p: shifted(m, settings.margin_mm, settings.margin_mm) for p, m in places.items()}, True


def _turns(count: int) -> list[tuple[bool, ...]]:
    """Which bodies are turned by a quarter, in the order to be tried: none, all, then single ones; of many bodies only these."""
    if count > _MIXED:
        return [(False,) * count, (True,) * count]
    mixed = sorted(product((False, True), repeat=count), key=sum)
    return [mixed[0], mixed[-1], *mixed[1:-1]] if count > 1 else mixed


STEP = Step(
    name="plate",
    title="Plate",
    number=9,
    version=14,
    over=WHOLE,
    settings=PlateSettings,
    counts=_counting,
    needs={
        "body": Need("assemble", "body", each=True),
        "stand": Need("foot", "foot", each=True),
        "printer": Need("shelf", "printer"),
        "resin": Need("shelf", "resin"),
    },
    gives={
        "home_to_plate": by_piece(json_of(Matrix)),
        "plate": json_of(BuildPlate),
        "printing": json_of(Printing),
        "joins": by_piece(json_of(list[tuple[float, float]])),
    },
    nameless=("home_to_plate", "plate", "printing", "joins"),
    apply=apply,
    about="Flat on the plate, within its bounds.",
)
