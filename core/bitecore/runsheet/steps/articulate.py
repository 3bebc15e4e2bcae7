"""Articulate: what holds the printed pair in its bite. Pins on one jaw that go into sleeves on the other, hinged backs, or plates that go
on the blocks of an articulator."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, field_validator, model_validator

from ...anatomy.average import BACK_MM, BENNETT_DEG, PATH_DEG, UP_MM
from ...engine.entries import Entry, EntryId
from ...engine.gives import RESERVES, SOLIDS, ByPiece, Solid, Solids, by_piece, json_of
from ...engine.model import WHOLE, Fix, Flag, Inputs, Need, Step, StepResult, StepSettings, setting
from ...parts.pin_places import Place, Room, Sizes
from ...parts.pins import airs, pair
from ...progress import Run
from ..hinged import Asked, hinged, none_made
from ..mounted import Blocks, blocks_in, mounted
from ..pinned import Bench, PinSet, cured, none_held, placed, readings, room_map, said
from ..values_held import Bearing, HingeAxis, Pin, PinRoom, Strut

_Mm = Annotated[float, Field(ge=-1e4, le=1e4)]
_PINS = {"style": ("pins",)}
_MOVES: dict[str, tuple[Any, ...]] = {"swing": (True,)}
_PLATES: dict[str, tuple[Any, ...]] = {"style": ("plates",)}
_HINGE: dict[str, tuple[Any, ...]] = {"style": ("hinge",)}
# Round a sleeve there is so much post at least.
_SHELL_MM = 0.8


class SetPin(Entry):
    """A pin put where a person wants it.

    zone : the one that is moved or, without a place, left out; empty: one more
    at   : on its axis, in the lower's own coordinates (mm)
    """

    zone: Literal["", "back left", "back right", "side left", "side right"] = ""
    at: tuple[_Mm, _Mm, _Mm] | None = None


class ArticulateSettings(StepSettings):
    style: Literal["none", "pins", "hinge", "plates"] = setting(
        "none", label="Held by", help="Pins that go into sleeves, backs that turn on one axis, or plates for the blocks of an articulator.",
        words={"none": "Nothing", "pins": "Pins", "hinge": "Hinged backs", "plates": "Mounting plates"},
    )  # fmt: skip
    count: int = setting(
        4, ge=2, le=4, label="Pins", help="So many find their places by themselves; more are added on the stage.", when=_PINS
    )
    first: Literal["behind", "beside"] = setting(
        "behind", label="First", help="Behind the models, or at their sides; the others follow.", main=False, when=_PINS,
        words={"behind": "Behind", "beside": "At the sides"},
    )  # fmt: skip
    sleeves: Literal["lower", "upper"] = setting(
        "lower", label="Sleeves on the", help="The other jaw has the pins.", main=False, when=_PINS
    )
    air_mm: float = setting(
        0.08, ge=0.02, le=0.4, unit="mm", label="Air in the sleeves", help="On each side, of the two that guide; others have 0.07 more.",
        when=_PINS,
    )  # fmt: skip
    pin_mm: float = setting(3.5, ge=2, le=8, unit="mm", label="Pins, thick", help="Their diameter.", main=False, when=_PINS)
    deep_mm: float = setting(6.0, ge=3, le=15, unit="mm", label="Pins, deep", help="How far they go down.", main=False, when=_PINS)
    post_mm: float = setting(6.0, ge=4, le=14, unit="mm", label="Posts, thick", help="Their diameter.", main=False, when=_PINS)
    seat_mm: float | None = setting(
        None, ge=4, le=60, unit="mm", label="Posts meet at", main=False, when=_PINS,
        help="Over the mounting face of the jaw with the sleeves. Empty: near the occlusal plane.",
    )  # fmt: skip
    off_mm: float = setting(0.8, ge=0.3, le=8, unit="mm", label="Off the models", help="Of posts, at least.", main=False, when=_PINS)
    strut_mm: float = setting(4.0, ge=2, le=10, unit="mm", label="Struts, wide", help="Not wider than posts.", main=False, when=_PINS)
    strut_high_mm: float | None = setting(
        None, ge=3, le=40, unit="mm", label="Struts, high", help="At most. Empty: as high as the gum leaves room.", main=False, when=_PINS
    )
    turns: Literal["wire", "pin", "snap"] = setting(
        "wire", label="Turns on", help="A piece of wire, two pins that are printed too, or cones that snap in.", when=_HINGE,
        words={"wire": "Wire", "pin": "Printed pins", "snap": "Snapping cones"},
    )  # fmt: skip
    turn_mm: float = setting(
        1.5, ge=0.6, le=5, unit="mm", label="Wire or pin, thick", help="Its diameter.", when=_HINGE | {"turns": ("wire", "pin")}
    )
    turn_air_mm: float = setting(0.15, ge=0.05, le=0.5, unit="mm", label="Air in the hinge", help="On each side.", when=_HINGE)
    turn_high_mm: float | None = setting(
        None, ge=4, le=80, unit="mm", label="Axis, high", help="Over the lower's mounting face. Empty: in the occlusal plane.",
        main=False, when=_HINGE,
    )  # fmt: skip
    turn_off_mm: float = setting(
        0.8, ge=0.3, le=15, unit="mm", label="Hinge off the models", help="Its round ends, at least.", main=False, when=_HINGE
    )
    turn_wide_deg: float = setting(
        100.0, ge=20, le=170, unit="°", label="Opens to", help="So far nothing may meet; else it is told where it binds.", main=False,
        when=_HINGE,
    )  # fmt: skip
    turn_parts: Literal["one", "apart"] = setting(
        "one", label="Halves", help="One body with their jaws, or printed by themselves and stuck on.", main=False, when=_HINGE,
        words={"one": "With the jaws", "apart": "By themselves"},
    )  # fmt: skip
    blocks: str = setting(
        "30 35 40 45 50 55", max_length=200, label="Blocks of the house", main=False, when=_PLATES,
        help="Their heights in mm: how far the faces of both plates are apart with the pair closed.",
    )  # fmt: skip
    block_mm: float | None = setting(
        None, ge=10, le=120, unit="mm", label="Block", help="Empty: the lowest of the house that both models find room in.", when=_PLATES
    )
    plate_mm: float = setting(4.0, ge=3, le=12, unit="mm", label="Plates, thick", help="Of the base's height.", main=False, when=_PLATES)
    key_mm: float = setting(
        4.0, ge=2, le=8, unit="mm", label="Grooves, wide", help="Three in the face, half as deep; they go on in one way only.",
        main=False, when=_PLATES,
    )  # fmt: skip
    swing: bool = setting(False, label="Swing", help="How the jaws meet as they close about the hinge axis.", form=False)
    axis_back_mm: float = setting(
        BACK_MM, ge=30, le=150, unit="mm", label="Hinge axis, behind", main=False, when=_MOVES,
        help="From the incisors along the occlusal plane. Where nothing is said, of the average triangle of 101.6 mm.",
    )  # fmt: skip
    axis_up_mm: float = setting(
        UP_MM, ge=-20, le=90, unit="mm", label="Hinge axis, over", main=False, when=_MOVES,
        help="Over the occlusal plane. Where nothing is said, at 25° from the incisors.",
    )  # fmt: skip
    glide: bool = setting(False, label="Forward and sideways", help="How the jaws touch on average paths.", form=False)
    path_deg: float = setting(
        PATH_DEG, ge=0, le=80, unit="°", label="Condyles go down by", main=False, when={"glide": (True,)},
        help="As they go forward, against the occlusal plane.",
    )  # fmt: skip
    side_deg: float = setting(
        BENNETT_DEG, ge=0, le=40, unit="°", label="Condyles go inwards by", main=False, when={"glide": (True,)},
        help="Where one goes alone, to the side.",
    )  # fmt: skip
    pins: dict[EntryId, SetPin] = setting(
        {}, label="Pins by hand", help="Pins put elsewhere, left out or added.", form=False, max_length=12
    )

    @field_validator("blocks")
    @classmethod
    def _heights(cls, words: str) -> str:
        blocks_in(words)
        return words

    @model_validator(mode="after")
    def _groove_in_plate(self) -> ArticulateSettings:
        if self.key_mm / 2 > self.plate_mm - 1.0:
            raise ValueError("grooves go half as deep as they are wide, and leave 1 mm of the plate")
        return self

    def mounting(self) -> Blocks:
        return Blocks(blocks_in(self.blocks), self.block_mm, self.plate_mm, self.key_mm)

    def hinge(self) -> Asked:
        return Asked(
            turns=self.turns, thick_mm=self.turn_mm, high_mm=self.turn_high_mm, off_mm=self.turn_off_mm, air_mm=self.turn_air_mm,
            wide_deg=self.turn_wide_deg, alone=self.turn_parts == "apart",
        )  # fmt: skip

    def sizes(self) -> Sizes:
        """The posts thick enough for their sleeves."""
        return Sizes(
            post_mm=max(self.post_mm, self.least_post_mm()), pin_mm=self.pin_mm, deep_mm=self.deep_mm, off_mm=self.off_mm,
            strut_mm=min(self.strut_mm, max(self.post_mm, self.least_post_mm())), high_mm=self.strut_high_mm or math.inf,
            seat_mm=self.seat_mm,
        )  # fmt: skip

    def least_post_mm(self) -> float:
        return round(self.pin_mm + 2 * (self.air_mm + _SHELL_MM), 2)


def apply(inputs: Inputs, settings: ArticulateSettings, run: Run) -> StepResult:
    refused = _refused(inputs, {"hinge": "Hinged backs", "plates": "Mounting plates"}.get(settings.style, "Pins"))
    if refused is not None:
        if settings.style == "hinge":
            return replace(refused, values={**refused.values, "solids": none_made(inputs, settings.hinge())})
        return refused
    if settings.style == "hinge":
        return hinged(inputs, settings.hinge(), run)
    if settings.style == "plates":
        return mounted(inputs, settings.mounting(), run)
    return _pinned(inputs, settings, run)


def _pinned(inputs: Inputs, settings: ArticulateSettings, run: Run) -> StepResult:
    bench, sizes = Bench.of(inputs, settings.sleeves), settings.sizes()
    below, above = bench.jaws
    bodies = {jaw: bench.there(jaw, inputs["body"][bench.piece[jaw]]) for jaw in bench.jaws}
    run.tick(0.05, "looking where pins can stand")
    room = Room(bodies[above], bodies[below], sizes, bench.jaws)
    run.tick(0.5, "choosing places")
    pins = placed(room, settings, bench)
    if not pins.places:
        reasons = "; ".join(f"{zone}: {no.why}" for zone, no in pins.why.items())
        more, fix = cured(pins, sizes, inputs)
        return _nothing(f"No pin can stand anywhere ({reasons}).{more}", pins.flags, fix)
    run.tick(0.8, "pins and sleeves")
    air = airs(pins.places, settings.air_mm)
    made = [
        pair(p, seat=room.seat, floor=room.floor, ceiling=room.ceiling, air_mm=a, sizes=sizes)
        for p, a in zip(pins.places, air, strict=True)
    ]
    solids, struts = ByPiece(), ByPiece()
    solids[bench.piece[below]] = Solids(
        [Solid("add", bench.home(below, p.lower), f"sleeve {n}") for n, p in enumerate(made, 1)]
        + [Solid("cut", bench.home(below, p.sleeve), f"the hole of sleeve {n}") for n, p in enumerate(made, 1)]
    )
    solids[bench.piece[above]] = Solids(Solid("add", bench.home(above, p.upper), f"pin {n}") for n, p in enumerate(made, 1))
    for number, (jaw, face) in enumerate(((below, room.floor), (above, room.ceiling))):
        struts[bench.piece[jaw]] = [_strut(bench, jaw, p, number, face, sizes) for p in pins.places]
    flags = (*_thin_posts(settings), *said(pins, sizes, inputs))
    values = {**none_held(), "solids": solids, "struts": struts, "pins": _pins(pins, air, room, bench), "room": room_map(room, bench)}
    return StepResult(values, readings(pins, air, room), flags, f"{len(made)} pins")


def _refused(inputs: Inputs, what: str) -> StepResult | None:
    """Where there is no pair in its bite, square to its bases."""
    pieces = {jaw: piece for piece, jaw in inputs.jaws.items()}
    if set(pieces) != {"upper", "lower"}:
        return _nothing(f"{what} hold a pair: there is only one jaw, so there are none.")
    bite = inputs["home_to_bite"]
    if any(bite.get(piece) is None for piece in pieces.values()):
        return _nothing(f"The bite is open, so there is nothing for {what.lower()} to hold. They come with the bite.")
    if any(inputs.of("parallel", piece) == "own" for piece in pieces.values()):
        level = Fix("base", "*", {"parallel": "occlusal"}, label="Both to the occlusal plane")
        return _nothing(f"{what} stand square to both bases, and each goes by its own plane now.", (), level)
    return None


def _nothing(why: str, flags: Sequence[Flag] = (), fix: Fix | None = None) -> StepResult:
    return StepResult({**none_held(), "solids": ByPiece()}, (), (*flags, Flag("no-pins", "look", why, fix=fix, unmet=True)), "no pins")


def _thin_posts(settings: ArticulateSettings) -> list[Flag]:
    least = settings.least_post_mm()
    if settings.post_mm >= least:
        return []
    text = f"Posts of {settings.post_mm:.1f} mm leave less than {_SHELL_MM} mm round their sleeves: they are made {least:.2f} mm thick."
    fix = Fix("articulate", "*", {"post_mm": float(np.ceil(least * 10) / 10)}, label="So thick")
    return [Flag("thin-posts", "look", text, fix=fix)]


def _strut(bench: Bench, jaw: str, place: Place, number: int, face: float, sizes: Sizes) -> dict:
    start, end = (bench.home_point(jaw, [*at, face]) for at in (place.at, place.wall[number]))
    return {"from_mm": start, "to_mm": end, "wide_mm": sizes.strut_mm, "post_mm": sizes.post_mm}


def _pins(pins: PinSet, air: list[float], room: Room, bench: Bench) -> list[dict]:
    sizes = {"post_mm": room.sizes.post_mm, "deep_mm": room.sizes.deep_mm}
    return [
        {
            "zone": zone, "entry": entry, "air_mm": round(a, 4), "at_mm": bench.home_point("lower", [*place.at, room.seat]),
            "axis": tuple(round(float(x), 6) for x in bench.up), **sizes,
        }
        for place, (zone, entry), a in zip(pins.places, pins.who, air, strict=True)
    ]  # fmt: skip


_SWING = ("swing", "glide", "axis_back_mm", "axis_up_mm", "path_deg", "side_deg")

STEP = Step(
    name="articulate",
    title="Articulate",
    number=8,
    version=8,
    over=WHOLE,
    settings=ArticulateSettings,
    needs={
        "body": Need("base", "body", each=True),
        "walls": Need("base", "walls", each=True, optional=True),
        "parallel": Need("base", "parallel", setting=True, each=True),
        "number": Need("case", "number"),
        "inside": Need("hollow", "style", setting=True, each=True),
        "home_to_bench": Need("level", "home_to_bench", each=True),
        "home_to_bite": Need("bite", "home_to_bite", each=True, optional=True),
    },
    gives={
        "solids": by_piece(SOLIDS),
        "reserves": by_piece(RESERVES),
        "struts": by_piece(json_of(list[Strut])),
        "pins": json_of(list[Pin]),
        "room": json_of(PinRoom | None),
        "hinge": json_of(HingeAxis | None),
        "bearing": json_of(list[Bearing]),
    },
    apply=apply,
    about="What holds the pair in its bite.",
    off=lambda settings: settings.style == "none",
    parts=lambda jaw, teeth, settings: settings.hinge().parts() if settings.style == "hinge" else (),
    begins="assemble",
    # How the jaws swing is no matter of the pins: see swing.py.
    counts=lambda settings: settings.model_copy(update={key: ArticulateSettings.model_fields[key].default for key in _SWING}),
)
