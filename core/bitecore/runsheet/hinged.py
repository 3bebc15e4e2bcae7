"""Hinged backs as the run sheet has them: what they need, what is made, and what is said of them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from ..engine.gives import ByPiece, Solid, Solids
from ..engine.model import Fix, Flag, Inputs, Reading, StepResult
from ..mesh import Mesh
from ..ops.rigid import rounded
from ..parts.hinge import Halves, Side, halves, opens, pin, strain_percent, stuck_on
from ..parts.hinge_places import BackRoom, Backs, Hinge, Knuckles, NoBacks
from ..progress import Run
from .pinned import Bench, none_held, thicker

# What is printed by itself, of every jaw.
APART = ("hinge-left", "hinge-right")
PIN = "hinge-pin"
# From there on nothing may touch any more, the teeth included.
_OPEN_DEG = 3.0
# What a printed cheek bears while it snaps (judgement, no source: resins of models break at 3 to 6 %).
_STRAIN_PERCENT = 2.5
# An axis that stands so near to where it was asked for is there.
_TOLD_MM = 0.06


@dataclass(frozen=True)
class Asked:
    """What a person asked of hinged backs.

    turns   : on a wire, on printed pins, or on cones that snap; thick_mm : of wire and pin
    high_mm : of the axis over the lower's mounting face; None: in the occlusal plane
    wide_deg : how far it has to open; alone : the halves are stuck on
    """

    turns: Literal["wire", "pin", "snap"]
    thick_mm: float
    high_mm: float | None
    off_mm: float
    air_mm: float
    wide_deg: float
    alone: bool

    def sizes(self) -> Knuckles:
        if self.turns == "snap":
            return Knuckles(hole_mm=0.0, air_mm=self.air_mm, off_mm=self.off_mm, free_mm=14.0)
        radius = max(4.0, self.thick_mm / 2 + 2.0)
        hole = self.thick_mm + 2 * self.air_mm
        return Knuckles(radius_mm=radius, hole_mm=hole, air_mm=self.air_mm, off_mm=self.off_mm, free_mm=radius + 1.0)

    def parts(self) -> list[str]:
        return [*(APART if self.alone else ()), *((PIN,) if self.turns == "pin" else ())]


def hinged(inputs: Inputs, asked: Asked, run: Run) -> StepResult:
    """Of a pair in its bite."""
    bench, sizes = Bench.of(inputs, "lower"), asked.sizes()
    bodies = {jaw: bench.there(jaw, inputs["body"][bench.piece[jaw]]) for jaw in ("lower", "upper")}
    run.tick(0.1, "looking where hinges can stand")
    room = BackRoom(bodies["upper"], bodies["lower"], sizes)
    found = room.find(asked.high_mm)
    if isinstance(found, NoBacks):
        text, fix = thicker({found.low[0]: found.low[1]} if found.low else {}, inputs)
        raise_it = Fix("articulate", "*", {"style": "pins"}, label="Pins instead")
        flag = Flag(
            "no-hinge", "look", f"No hinged backs: {found.why}.{text}", fix=fix or raise_it, other=raise_it if fix else None, unmet=True
        )
        return StepResult({**none_held(), "solids": none_made(inputs, asked)}, (), (flag,), "no hinge")
    run.tick(0.3, "making both halves")
    made = {side: halves(hinge, found, sizes, floor=room.floor, ceiling=room.ceiling) for side, hinge in found.hinges.items()}
    run.tick(0.4, "opening")
    sides = {jaw: Side.of(body, [getattr(m, jaw) for m in made.values()]) for jaw, body in bodies.items()}
    free = opens(
        sides["upper"], sides["lower"], found.axis, least_deg=_OPEN_DEG, most_deg=asked.wide_deg,
        said=lambda part: run.tick(0.4 + 0.55 * part, "opening"),
    )  # fmt: skip
    values = {**none_held(), "solids": _solids(made, bodies, bench, sizes, asked, found, room), "struts": _arms(found, bench, room, sizes)}
    values["hinge"] = _axis(found, bench, free)
    readings = (
        Reading("axis over the mounting face", found.axis[1] - room.floor, "mm"),
        Reading("opens to", free, "°"),
        Reading("hinges apart", abs(found.hinges["left"].x - found.hinges["right"].x), "mm"),
    )
    flags = (*_moved(asked, found.axis[1] - room.floor), *_said(asked, sizes, free))
    return StepResult(values, readings, flags, "hinged backs")


def none_made(inputs: Inputs, asked: Asked) -> ByPiece:
    """Where there is no hinge, what is to be printed by itself must not be taken for the jaw's body: the assembly is given something
    that is none of it, and says so."""
    out = ByPiece()
    if asked.parts():
        for piece in inputs.jaws:
            out[piece] = Solids([Solid("part", pin(asked.sizes(), thick_mm=1.0), "nothing")])
    return out


def _solids(
    made: dict[str, Halves], bodies: dict[str, Mesh], bench: Bench, sizes: Knuckles, asked: Asked, found: Backs, room: BackRoom
) -> ByPiece:
    out, faces = ByPiece(), {"lower": room.floor, "upper": room.ceiling}
    for jaw, body in bodies.items():
        solids = Solids()
        for side, pair in made.items():
            half = getattr(pair, jaw)
            if asked.alone:
                solids.append(Solid("part", bench.home(jaw, stuck_on(half, body)), f"hinge-{side}"))
            else:
                solids.append(Solid("add", bench.home(jaw, half), f"the hinge on the {side}"))
        if asked.turns == "pin":
            solids.append(Solid("part", bench.home(jaw, _ready(pin(sizes, thick_mm=asked.thick_mm), jaw, found, faces, sizes)), PIN))
        out[bench.piece[jaw]] = solids
    return out


def _ready(mesh: Mesh, jaw: str, found: Backs, faces: dict[str, float], sizes: Knuckles) -> Mesh:
    """Behind its hinge, upright as the jaw stands: one on the left of the lower, one on the right of the upper."""
    way = 1.0 if jaw == "lower" else -1.0
    hinge = found.hinges["left" if jaw == "lower" else "right"]
    return mesh.with_vertices(mesh.vertices_mm * [1, way, way] + [hinge.x, found.axis[0] + 2 * sizes.radius_mm, faces[jaw]])


def _arms(found: Backs, bench: Bench, room: BackRoom, sizes: Knuckles) -> ByPiece:
    out = ByPiece()
    for number, (jaw, face) in enumerate((("lower", room.floor), ("upper", room.ceiling))):
        wide = 2 * sizes.half if jaw == "lower" else sizes.tongue_mm
        out[bench.piece[jaw]] = [_arm(bench, jaw, h, found.axis[0], number, face, wide, sizes) for h in found.hinges.values()]
    return out


def _arm(bench: Bench, jaw: str, hinge: Hinge, y: float, number: int, face: float, wide: float, sizes: Knuckles) -> dict:
    start, end = (bench.home_point(jaw, [hinge.x, at, face]) for at in (y, hinge.walls[number]))
    return {"from_mm": start, "to_mm": end, "wide_mm": wide, "post_mm": 2 * sizes.radius_mm}


def _axis(found: Backs, bench: Bench, free: float) -> dict:
    along = np.linalg.inv(bench.matrix["lower"])[:3, 0]
    xs = [h.x for h in found.hinges.values()]
    return {
        "at_mm": bench.home_point("lower", [0.0, *found.axis]), "along": tuple(rounded(along)), "from_mm": round(min(xs), 4),
        "to_mm": round(max(xs), 4), "behind_mm": round(found.axis[0], 4), "over_mm": round(found.axis[1], 4), "opens_deg": round(free, 2),
    }  # fmt: skip


def _moved(asked: Asked, high: float) -> list[Flag]:
    if asked.high_mm is None or abs(high - asked.high_mm) < _TOLD_MM:
        return []
    text = f"The axis stands {high:.1f} mm over the mounting face: at {asked.high_mm:.1f} mm one of both halves has no room."
    fix = Fix("articulate", "*", {"turn_high_mm": round(high, 1)}, label="So high")
    return [Flag("axis-moved", "look", text, fix=fix)]


def _said(asked: Asked, sizes: Knuckles, free: float) -> list[Flag]:
    out = []
    if free < asked.wide_deg:
        text = f"The hinge binds at {free:.1f}°; {asked.wide_deg:.0f}° were asked for."
        out.append(Flag("hinge-binds", "look", text))
    if asked.turns == "snap" and strain_percent(sizes) > _STRAIN_PERCENT:
        text = (
            f"The cheeks are strained by {strain_percent(sizes):.1f} % while they snap in; many resins break. A wire does not strain them."
        )
        out.append(Flag("snap-strain", "look", text, fix=Fix("articulate", "*", {"turns": "wire"}, label="On a wire")))
    what = {
        "wire": f"a wire of {asked.thick_mm:.1f} mm",
        "pin": f"two printed pins of {asked.thick_mm:.1f} mm",
        "snap": "cones that snap in",
    }
    out.append(Flag("hinged", "note", f"Two hinges behind the bases turn on {what[asked.turns]}."))
    return out
