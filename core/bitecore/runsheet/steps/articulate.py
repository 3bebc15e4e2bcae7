"""Articulate: what holds the printed pair in its bite. Pins on the upper that go into sleeves on the lower."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from ...engine.entries import Entry, EntryId, in_order
from ...engine.gives import SOLIDS, ByPiece, Solid, Solids, by_piece, json_of
from ...engine.model import WHOLE, Fix, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings, setting
from ...mesh import Mesh
from ...ops.rigid import rounded
from ...parts.pin_places import ZONES, No, Place, Room
from ...parts.pins import airs, pair, play
from ...progress import Run
from ..values import Pin, Strut

_Mm = Annotated[float, Field(ge=-1e4, le=1e4)]
_NAMES = {"": "added pin", **{zone: f"pin at the {zone}" for zone in ZONES}}
# Pins nearer to one another than this do not guide: the pair rocks.
_GUIDE_MM = 25.0
# A thicker base is not proposed; it is made so much thicker than what is just missing.
_THICKEST_MM, _SPARE_MM = 12.0, 0.5
# A pin that stands so near to where it was put is there.
_TOLD_MM = 0.3


class SetPin(Entry):
    """A pin put where a person wants it.

    zone : the one that is moved or, without a place, left out; empty: one more
    at   : on its axis, in the lower's own coordinates (mm)
    """

    zone: Literal["", "back left", "back right", "side left", "side right"] = ""
    at: tuple[_Mm, _Mm, _Mm] | None = None


class ArticulateSettings(StepSettings):
    style: Literal["none", "pins"] = setting("none", label="Held by", help="Pins on the upper that go into sleeves on the lower.")
    air_mm: float = setting(
        0.08,
        ge=0.02,
        le=0.4,
        unit="mm",
        label="Air in the sleeves",
        help="On each side, of the two that guide; others have 0.07 more.",
    )
    pins: dict[EntryId, SetPin] = setting({}, label="Pins", help="Pins put elsewhere, left out or added.", form=False, max_length=12)


@dataclass
class _Set:
    """The pins as they stand. who : of each its zone and the id of its entry, either may be empty; why : zones without one."""

    places: list[Place] = field(default_factory=list)
    who: list[tuple[str, str]] = field(default_factory=list)
    why: dict[str, No] = field(default_factory=dict)
    flags: list[Flag] = field(default_factory=list)


def apply(inputs: Inputs, settings: ArticulateSettings, run: Run) -> StepResult:
    by_jaw = {jaw: piece for piece, jaw in inputs.jaws.items()}
    if set(by_jaw) != {"upper", "lower"}:
        return _nothing("Pins hold a pair: there is only one jaw, so there are none.")
    bite = inputs["home_to_bite"]
    if any(bite.get(piece) is None for piece in by_jaw.values()):
        return _nothing("The bite is open, so there is nothing for pins to hold. They come with the bite.")
    if any(inputs.of("parallel", piece) == "own" for piece in by_jaw.values()):
        level = Fix("base", "*", {"parallel": "occlusal"}, label="Both to the occlusal plane")
        return _nothing("Pins stand square to both bases, and each goes by its own plane now.", (), level)
    to_bench = {jaw: np.array(inputs["home_to_bench"][piece]) for jaw, piece in by_jaw.items()}
    bodies = {jaw: _moved(inputs["body"][piece], to_bench[jaw]) for jaw, piece in by_jaw.items()}
    run.tick(0.05, "looking where pins can stand")
    room = Room(bodies["upper"], bodies["lower"])
    run.tick(0.5, "choosing places")
    pins = _placed(room, settings, to_bench["lower"])
    if not pins.places:
        reasons = "; ".join(f"{zone}: {no.why}" for zone, no in pins.why.items())
        more, fix = _raised(pins, inputs)
        return _nothing(f"No pin can stand anywhere ({reasons}).{more}", pins.flags, fix)
    run.tick(0.8, "pins and sleeves")
    air = airs(pins.places, settings.air_mm)
    made = [pair(p, seat=room.seat, floor=room.floor, ceiling=room.ceiling, air_mm=a) for p, a in zip(pins.places, air, strict=True)]
    back = {jaw: np.linalg.inv(m) for jaw, m in to_bench.items()}
    solids, struts = ByPiece(), ByPiece()
    solids[by_jaw["lower"]] = Solids(
        [Solid("add", _moved(p.lower, back["lower"]), f"sleeve {n}") for n, p in enumerate(made, 1)]
        + [Solid("cut", _moved(p.sleeve, back["lower"]), f"the hole of sleeve {n}") for n, p in enumerate(made, 1)]
    )
    solids[by_jaw["upper"]] = Solids(Solid("add", _moved(p.upper, back["upper"]), f"pin {n}") for n, p in enumerate(made, 1))
    for number, (jaw, face) in enumerate((("lower", room.floor), ("upper", room.ceiling))):
        struts[by_jaw[jaw]] = [_strut(p, number, face, back[jaw]) for p in pins.places]
    values = {"solids": solids, "struts": struts, "pins": _said(pins, air, room.seat, back["lower"])}
    return StepResult(values, _readings(pins, air, room), tuple(_flags(pins, inputs)), f"{len(made)} pins")


def _nothing(why: str, flags: Sequence[Flag] = (), fix: Fix | None = None) -> StepResult:
    values = {"solids": ByPiece(), "struts": ByPiece(), "pins": []}
    return StepResult(values, (), (*flags, Flag("no-pins", "look", why, fix=fix)), "no pins")


def _raised(pins: _Set, inputs: Inputs) -> tuple[str, Fix | None]:
    """Where a thicker base gives struts the height that is missing: what to say of it, and the Fix for all such zones of one jaw."""
    missing: dict[str, float] = {}
    for no in pins.why.values():
        if no.low:
            missing[no.low[0]] = max(missing.get(no.low[0], 0.0), no.low[1])
    for jaw, more in sorted(missing.items(), key=lambda m: -m[1]):
        piece = next(p for p, j in inputs.jaws.items() if j == jaw)
        walls = inputs["walls"].get(piece)
        thick = float(np.ceil((walls["under_mm"] + more + _SPARE_MM) * 10) / 10) if walls else np.inf
        if thick <= _THICKEST_MM:
            text = f" Fix makes the {jaw}'s base {thick:.1f} mm thick under the lowest point, high enough for more struts."
            return text, Fix("base", piece, {"height": "under", "thickness_mm": thick})
    return "", None


def _moved(mesh: Mesh, matrix: NDArray) -> Mesh:
    return mesh.with_vertices(mesh.vertices_mm @ matrix[:3, :3].T + matrix[:3, 3])


def _placed(room: Room, settings: ArticulateSettings, lower: NDArray) -> _Set:
    """Those set by hand first; every zone of which nothing is said finds its own."""
    out = _Set()
    ids = {id(entry): key for key, entry in settings.pins.items()}
    zones: dict[str, SetPin] = {}
    for entry in in_order(settings.pins):
        if entry.zone:
            zones[entry.zone] = entry  # the last one said counts
    hand = [e for e in in_order(settings.pins) if e.at is not None and (not e.zone or zones[e.zone] is e)]
    free = [zone for zone in ZONES if zone not in zones]
    for entry in hand:
        assert entry.at is not None
        at = (lower[:3, :3] @ np.array(entry.at) + lower[:3, 3])[:2]
        place, why = room.near(at, [p.at for p in out.places])
        if place is not None and (off := float(np.hypot(*(place.at - at)))) > _TOLD_MM:
            text = f"The {_NAMES[entry.zone]} stands {off:.1f} mm from where it was put: there {why}."
            out.flags.append(Flag("pin-moved", "note", text))
        if place is None:
            does = "so it stands where it can" if entry.zone else "so it is left out"
            out.flags.append(Flag("pin-not-there", "look", f"The {_NAMES[entry.zone]} cannot stand where it was put, {does}: {why}."))
            free += [entry.zone] if entry.zone else []
            continue
        out.places.append(place)
        out.who.append((entry.zone, ids[id(entry)]))
    found, out.why = room.by_itself(free, [p.at for p in out.places])
    for zone, place in found.items():
        out.places.append(place)
        out.who.append((zone, ids[id(zones[zone])] if zone in zones else ""))
    return out


def _strut(place: Place, jaw: int, face: float, back: NDArray) -> dict:
    ends = np.array([[*place.at, face], [*place.wall[jaw], face]])
    return {"from_mm": rounded(back[:3, :3] @ ends[0] + back[:3, 3]), "to_mm": rounded(back[:3, :3] @ ends[1] + back[:3, 3])}


def _said(pins: _Set, air: list[float], seat: float, back: NDArray) -> list[dict]:
    return [
        {
            "zone": zone, "entry": entry, "air_mm": round(a, 4),
            "at_mm": rounded(back[:3, :3] @ np.append(place.at, seat) + back[:3, 3]), "axis": rounded(back[:3, 2]),
        }
        for place, (zone, entry), a in zip(pins.places, pins.who, air, strict=True)
    ]  # fmt: skip


def _flags(pins: _Set, inputs: Inputs) -> list[Flag]:
    flags = list(pins.flags)
    if pins.why:
        text = "; ".join(f"{zone}, {no.why}" for zone, no in pins.why.items())
        more, fix = _raised(pins, inputs)
        severity: Literal["look", "note"] = "look" if len(pins.places) < 3 else "note"
        flags.append(Flag("fewer-pins", severity, f"Not everywhere does a pin stand: {text}.{more}", fix=fix))
    at = np.array([p.at for p in pins.places])
    if np.linalg.norm(at[:, None] - at[None], axis=2).max() < _GUIDE_MM:
        flags.append(Flag("pins-near", "look", "The pins stand too near together to guide: the pair will rock. Add one farther off."))
    count = f"{len(pins.places)} pin{'s' * (len(pins.places) != 1)}"
    flags.append(Flag("pinned", "note", f"{count} of 3.5 mm, 6 mm deep; the pair comes apart along the vertical."))
    return flags


def _readings(pins: _Set, air: list[float], room: Room) -> tuple[Reading, ...]:
    at = np.array([p.at for p in pins.places])
    out = [Reading("pins", len(at)), Reading("seat over the lower's mounting face", room.seat - room.floor, "mm")]
    if len(at) > 1:
        # Between the incisors in front of the bodies: the bench's own nought.
        out.append(Reading("play at the incisors, at most", play(at, np.array(air), np.zeros(2)), "mm"))
        out.append(Reading("farthest apart", float(np.linalg.norm(at[:, None] - at[None], axis=2).max()), "mm"))
    out.append(Reading("longest strut", max(max(p.long) for p in pins.places), "mm"))
    return tuple(out)


STEP = Step(
    name="articulate",
    title="Articulate",
    number=8,
    version=3,
    over=WHOLE,
    settings=ArticulateSettings,
    needs={
        "body": Need("base", "body", each=True),
        "walls": Need("base", "walls", each=True, optional=True),
        "parallel": Need("base", "parallel", setting=True, each=True),
        "home_to_bench": Need("level", "home_to_bench", each=True),
        "home_to_bite": Need("bite", "home_to_bite", each=True, optional=True),
    },
    gives={"solids": by_piece(SOLIDS), "struts": by_piece(json_of(list[Strut])), "pins": json_of(list[Pin])},
    apply=apply,
    about="What holds the pair in its bite.",
    off=lambda settings: settings.style == "none",
)
