"""Pins as the run sheet has them: which stand where, what a person put, and what is said of them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from ..engine.entries import in_order
from ..engine.gives import ByPiece
from ..engine.model import Fix, Flag, Inputs, Reading
from ..mesh import Mesh
from ..ops.rigid import rounded
from ..parts.pin_places import ZONES, No, Place, Room, Sizes
from ..parts.pins import play

_NAMES = {"": "added pin", **{zone: f"pin at the {zone}" for zone in ZONES}}
# Pins nearer to one another than this do not guide: the pair rocks.
_GUIDE_MM = 25.0
# A thicker base is not proposed; it is made so much thicker than what is just missing.
_THICKEST_MM, _SPARE_MM = 12.0, 0.5
# A pin that stands so near to where it was put is there.
_TOLD_MM = 0.3
# Between places of the map on which a pulled pin is told how it stands.
_MAP_MM = 0.4


@dataclass(frozen=True)
class Bench:
    """Both jaws where pins go down into sleeves: on the bench, or upside down there where the sleeves are on the upper.

    jaws : (with the sleeves, with the pins); piece, matrix : by jaw, home to there
    """

    jaws: tuple[str, str]
    piece: Mapping[str, str]
    matrix: Mapping[str, NDArray[np.float64]]

    @classmethod
    def of(cls, inputs: Inputs, sleeves: Literal["lower", "upper"]) -> Bench:
        piece = {jaw: each for each, jaw in inputs.jaws.items()}
        over = np.diag([1.0, 1.0, -1.0 if sleeves == "upper" else 1.0, 1.0])
        matrix = {jaw: over @ np.array(inputs["home_to_bench"][each]) for jaw, each in piece.items()}
        return cls(("upper", "lower") if sleeves == "upper" else ("lower", "upper"), piece, matrix)

    @property
    def up(self) -> NDArray[np.float64]:
        """(3,) the bench's vertical in the lower's home."""
        way = np.linalg.inv(self.matrix["lower"])[:3, 2].astype(np.float64)
        return -way if self.jaws[0] == "upper" else way

    def there(self, jaw: str, mesh: Mesh) -> Mesh:
        return _moved(mesh, self.matrix[jaw])

    def home(self, jaw: str, mesh: Mesh) -> Mesh:
        return _moved(mesh, np.linalg.inv(self.matrix[jaw]))

    def home_point(self, jaw: str, point: Sequence[float]) -> tuple[float, float, float]:
        back = np.linalg.inv(self.matrix[jaw])
        x, y, z = rounded(back[:3, :3] @ np.asarray(point, float) + back[:3, 3])
        return x, y, z

    def plan(self, point: Sequence[float]) -> NDArray[np.float64]:
        """(2,) of a point in the lower's home."""
        matrix = self.matrix["lower"]
        return (matrix[:3, :3] @ np.asarray(point, float) + matrix[:3, 3])[:2]


def none_held() -> dict[str, Any]:
    """What Articulate gives besides solids where there is nothing of it."""
    return {"struts": ByPiece(), "pins": [], "room": None, "hinge": None, "bearing": []}


def _moved(mesh: Mesh, matrix: NDArray) -> Mesh:
    out = mesh.with_vertices(mesh.vertices_mm @ matrix[:3, :3].T + matrix[:3, 3])
    return out.turned_inside_out() if np.linalg.det(matrix[:3, :3]) < 0 else out


@dataclass
class PinSet:
    """The pins as they stand. who : of each its zone and the id of its entry, either may be empty; why : zones without one."""

    places: list[Place] = field(default_factory=list)
    who: list[tuple[str, str]] = field(default_factory=list)
    why: dict[str, No] = field(default_factory=dict)
    flags: list[Flag] = field(default_factory=list)

    @property
    def at(self) -> NDArray[np.float64]:
        return np.array([p.at for p in self.places])


def zones_of(count: int, first: Literal["behind", "beside"]) -> tuple[str, ...]:
    """Where pins stand by themselves."""
    order = ZONES if first == "behind" else (*ZONES[2:], *ZONES[:2])
    return order[:count]


def placed(room: Room, settings: Any, bench: Bench) -> PinSet:
    """Those set by hand first; every zone of which nothing is said finds its own. settings : ArticulateSettings"""
    out = PinSet()
    ids = {id(entry): key for key, entry in settings.pins.items()}
    zones = {entry.zone: entry for entry in in_order(settings.pins) if entry.zone}  # the last one said counts
    hand = [e for e in in_order(settings.pins) if e.at is not None and (not e.zone or zones[e.zone] is e)]
    free = [zone for zone in zones_of(settings.count, settings.first) if zone not in zones]
    for entry in hand:
        at = bench.plan(entry.at)
        others = [p.at for p in out.places]
        place, why = room.near(at, others)
        if place is not None and (off := float(np.hypot(*(place.at - at)))) > _TOLD_MM:
            text = f"The {_NAMES[entry.zone]} stands {off:.1f} mm from where it was put: there {why}."
            out.flags.append(Flag("pin-moved", "note", text))
        if place is None:
            does = "so it stands where it can" if entry.zone else "so it is left out"
            text = f"The {_NAMES[entry.zone]} cannot stand where it was put, {does}: {why}."
            out.flags.append(Flag("pin-not-there", "look", text, fix=_nearest(room, at, others, bench, entry, ids[id(entry)]), unmet=True))
            free += [entry.zone] if entry.zone else []
            continue
        out.places.append(place)
        out.who.append((entry.zone, ids[id(entry)]))
    found, out.why = room.by_itself(free, [p.at for p in out.places])
    for zone, place in found.items():
        out.places.append(place)
        out.who.append((zone, ids[id(zones[zone])] if zone in zones else ""))
    return out


def _nearest(room: Room, at: NDArray, others: list[NDArray], bench: Bench, entry: Any, key: str) -> Fix | None:
    place = room.anywhere(at, others)
    if place is None:
        return None
    there = bench.home_point("lower", [*place.at, room.seat])
    far = float(np.hypot(*(place.at - at)))
    return Fix("articulate", "*", {"zone": entry.zone, "at": there}, at="pins", id=key, label=f"{far:.0f} mm on, where it can")


def cured(pins: PinSet, sizes: Sizes, inputs: Inputs) -> tuple[str, Fix | None]:
    """What would help the zones without a pin: heights that are not asked for, or a thicker base, see `thicker`."""
    asked = sizes.seat_mm is not None or np.isfinite(sizes.high_mm)
    if asked and any(no.free for no in pins.why.values()):
        values = {"seat_mm": None, "strut_high_mm": None}
        return " With the heights found by themselves posts stand less free.", Fix("articulate", "*", values, label="Heights by themselves")
    missing: dict[str, float] = {}
    for no in pins.why.values():
        if no.low:
            missing[no.low[0]] = max(missing.get(no.low[0], 0.0), no.low[1])
    return thicker(missing, inputs)


def thicker(missing: Mapping[str, float], inputs: Inputs) -> tuple[str, Fix | None]:
    """Where a thicker base gives struts the height that is missing, by jaw in mm: what to say of it, and the Fix for one jaw."""
    for jaw, more in sorted(missing.items(), key=lambda m: -m[1]):
        piece = next(p for p, j in inputs.jaws.items() if j == jaw)
        walls = inputs["walls"].get(piece)
        thick = float(np.ceil((walls["under_mm"] + more + _SPARE_MM) * 10) / 10) if walls else np.inf
        if thick <= _THICKEST_MM:
            text = f" Fix makes the {jaw}'s base {thick:.1f} mm thick under the lowest point, high enough for it."
            return text, Fix("base", piece, {"height": "under", "thickness_mm": thick})
    return "", None


def said(pins: PinSet, sizes: Sizes, inputs: Inputs) -> Iterator[Flag]:
    yield from pins.flags
    if pins.why:
        text = "; ".join(f"{zone}, {no.why}" for zone, no in pins.why.items())
        more, fix = cured(pins, sizes, inputs)
        yield Flag("fewer-pins", "look", f"Not everywhere does a pin stand: {text}.{more}", fix=fix, unmet=True)
    if np.linalg.norm(pins.at[:, None] - pins.at[None], axis=2).max() < _GUIDE_MM:
        yield Flag("pins-near", "look", "The pins stand too near together to guide: the pair will rock. Add one farther off.")
    count = f"{len(pins.places)} pin{'s' * (len(pins.places) != 1)}"
    text = f"{count} of {sizes.pin_mm:.1f} mm, {sizes.deep_mm:.1f} mm deep; the pair comes apart along the vertical."
    yield Flag("pinned", "note", text)


def room_map(room: Room, bench: Bench) -> dict[str, Any]:
    """As PinRoom."""
    low, codes = room.map(_MAP_MM)
    flat = codes.ravel()
    first = np.flatnonzero(np.r_[True, flat[1:] != flat[:-1]])
    runs = np.c_[flat[first], np.diff(np.r_[first, len(flat)])]
    why = {str(int(code)): room.why(int(code)) for code in np.unique(flat) if code}
    return {
        "low_mm": tuple(rounded(low)), "step_mm": _MAP_MM, "count": codes.shape, "codes": [(int(c), int(n)) for c, n in runs], "why": why,
        "to_plan": [round(float(x), 9) for x in bench.matrix["lower"].ravel()],
    }  # fmt: skip


def readings(pins: PinSet, air: list[float], room: Room) -> tuple[Reading, ...]:
    at = pins.at
    out = [Reading("pins", len(at)), Reading(f"seat over the {room.names[0]}'s mounting face", room.seat - room.floor, "mm")]
    if len(at) > 1:
        # Between the incisors in front of the bodies: the bench's own nought.
        out.append(Reading("play at the incisors, at most", play(at, np.array(air), np.zeros(2)), "mm"))
        out.append(Reading("farthest apart", float(np.linalg.norm(at[:, None] - at[None], axis=2).max()), "mm"))
    out.append(Reading("longest strut", max(max(p.long) for p in pins.places), "mm"))
    return tuple(out)
