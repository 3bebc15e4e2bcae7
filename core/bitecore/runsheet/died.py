"""Dies as the run sheet has them: which teeth come out, what is told of them, and what would mend it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..anatomy.notation import tooth
from ..engine.model import Fix, Flag, Inputs, Place, Reading
from ..mesh import Mesh
from ..ops.rigid import rounded, unit
from ..parts.dies import Die, Dies, NoDie
from .part_names import PART

# A wall takes so much of merged contacts without being asked (judgement).
_LOST_MM = 0.2
# A die turns so far in its seat at most; a seat is so large at least (judgement).
_TURNS_DEG, _SEAT_MM2 = 0.3, 4.0
_THICKEST_MM, _SPARE_MM = 14.0, 0.3
# Which way the tongue lies from a tooth, by its place from the midline: degrees from sideways to the back, in an arch of usual form
# (judgement, no source).
_TO_BACK_DEG = {1: 80, 2: 65, 3: 45, 4: 25, 5: 15, 6: 10, 7: 5, 8: 0}


def asked(teeth: Sequence[int], jaw: str | None, settings: Any) -> dict[int, Any]:
    """{tooth: its entry or None} of all that come out of a jaw. settings : DiesSettings"""
    entries = {entry.fdi: entry for entry in settings.taken.values() if tooth(entry.fdi).jaw == jaw}
    wanted = {fdi: entries.get(fdi) for fdi in teeth if settings.dies == "chart"} | entries
    return {fdi: entry for fdi, entry in sorted(wanted.items()) if entry is None or entry.kind != "left"}


def part_name(fdi: int, entry: Any) -> str:
    return f"{PART[entry.kind if entry is not None else 'die']}-{fdi}"


def tongues(teeth: Sequence[int], up: NDArray[np.float64], front: NDArray[np.float64], jaw: str) -> dict[int, NDArray[np.float64]]:
    """(3,) the way to the tongue's side from each tooth."""
    left = np.cross(up, front) * (1.0 if jaw == "lower" else -1.0)
    out = {}
    for fdi in teeth:
        right = (fdi // 10 - 1) % 4 in (0, 3)
        turn = np.radians(_TO_BACK_DEG[min(fdi % 10, 8)])
        out[fdi] = unit(np.cos(turn) * left * (1.0 if right else -1.0) - np.sin(turn) * unit(front))
    return out


def told(die: Die, entry: Any, up: NDArray[np.float64], own: Mesh, others: Mapping[int, Mesh]) -> dict[str, Any]:
    """As values_held.Die."""
    shaft, back = die.shaft, die.rotation
    at = np.array([*shaft.centre, shaft.top])
    ring = np.asarray(die.plan.shape.to_polygons()[0])
    rim = np.c_[ring[:: max(len(ring) // 48, 1)], np.full(len(ring[:: max(len(ring) // 48, 1)]), shaft.top)]
    socket = shaft.at(shaft.top, shaft.sizes.air)[::4]
    crown = float((own.vertices_mm @ die.way).max())
    return {
        "fdi": die.wanted.fdi, "part": part_name(die.wanted.fdi, entry), "kind": "die" if die.wanted.ditched else "loose",
        "way": _point(die.way), "by_hand": die.wanted.way is not None, "lean_deg": round(_between_deg(die.way, up), 2),
        "at_mm": _point(at @ back), "over_mm": round(crown - shaft.top, 3), "long_mm": round(shaft.length, 3),
        "seat_mm2": round(shaft.seat_mm2, 2), "wall_mm": round(die.wall_mm, 3), "turns_deg": round(shaft.turns_deg(), 3),
        "steep": round(shaft.steep, 4),
        "rim": _points(rim @ back), "socket": _points(np.c_[socket, np.full(len(socket), shaft.top)] @ back),
        "opens": [
            {"fdi": fdi, "mm": round(o.mm, 2), "at_mm": _point(_on(others[fdi], o.at, back))} for fdi, o in sorted(die.plan.opened.items())
        ],
        "walls": _walls(die, crown),
        "window": None if die.window is None else {
            "from_mm": _point(die.window[0]), "to_mm": _point(die.window[1]), "wide_mm": shaft.sizes.window,
        },
        "lost_mm": round(die.plan.lost_mm, 3), "kept": round(die.kept, 5),
    }  # fmt: skip


def _walls(die: Die, crown: float) -> list[dict[str, Any]]:
    """crown : how high its top is along its way (mm)"""
    back = die.rotation
    return [
        {"fdi": fdi, "at_mm": _point(np.r_[w.at, crown] @ back), "towards": _point(w.towards @ back[:2]), "moved_mm": round(w.moved_mm, 2)}
        for fdi, w in sorted(die.plan.walls.items())
    ]


def _on(mesh: Mesh, at: NDArray, rotation: NDArray) -> NDArray[np.float64]:
    """The place of a surface over one in the plan."""
    flat = mesh.vertices_mm @ rotation[:2].T
    return mesh.vertices_mm[int(((flat - at) ** 2).sum(1).argmin())]


def _between_deg(a: NDArray, b: NDArray) -> float:
    return float(np.degrees(np.arccos(np.clip(unit(a) @ unit(b), -1, 1))))


def _point(at: NDArray) -> tuple[float, float, float]:
    x, y, z = rounded(at)
    return x, y, z


def _points(at: NDArray) -> list[tuple[float, float, float]]:
    return [_point(p) for p in np.round(at, 3)]


def readings(made: Dies, listed: Sequence[Mapping[str, Any]], air: float) -> tuple[Reading, ...]:
    if not listed:
        return ()
    out = [
        Reading("air round shafts, a side", air, "mm"),
        Reading("shortest shaft", min(d["long_mm"] for d in listed), "mm"),
        Reading("smallest seat", min(d["seat_mm2"] for d in listed), "mm²"),
        Reading("turns in its seat, lifted by 0.01 mm, at most", max(d["turns_deg"] for d in listed), "°"),
        Reading("thinnest wall round a socket", min(d["wall_mm"] for d in listed), "mm"),
    ]
    if made.between:
        out.append(Reading("thinnest wall between sockets", min(made.between.values()), "mm"))
    out.append(Reading("faces of these teeth as scanned", f"{100 * min(d['kept'] for d in listed):.1f} % at least"))
    return tuple(out)


def flags(made: Dies, listed: Sequence[Mapping[str, Any]], inputs: Inputs, settings: Any) -> Iterator[Flag]:
    """settings : DiesSettings"""
    for no in made.without:
        yield _without(no, inputs, settings, for_all=max(_thick(other, inputs, settings) for other in made.without))
    for die, each in zip(made.made, listed, strict=True):
        yield from _contacts(each, inputs.piece, settings)
        if each["lost_mm"] > 0:
            text = f"The wall beside {each['fdi']} takes up to {each['lost_mm']:.2f} mm of the tooth itself, where it meets others."
            yield Flag("die-cut", "look" if each["lost_mm"] > _LOST_MM else "note", text, _place(inputs.piece, each["at_mm"]))
        if each["seat_mm2"] < _SEAT_MM2 or each["turns_deg"] > _TURNS_DEG:
            small = f"{each['seat_mm2']:.1f} mm²"
            text = f"The seat of {each['fdi']} is small, {small}; it turns by {each['turns_deg']:.2f}° before it is lifted."
            thinner = round(settings.socket_wall_mm - 0.2, 1)
            fix = Fix("dies", "*", {"socket_wall_mm": thinner}, label=f"Walls of {thinner:.1f} mm") if thinner >= 0.6 else None
            yield Flag("die-seat", "look", text, _place(inputs.piece, each["at_mm"]), fix=fix)
        if die.window is None and settings.window_mm:
            yield Flag("die-window", "note", f"{each['fdi']} has no window: the wall before it is too thick, or its shaft too short.")
        got = float(np.degrees(np.arctan(die.shaft.slope)))
        if got < settings.die_taper_deg - 0.05:
            yield Flag("die-taper", "note", f"The shaft of {each['fdi']} tapers by {got:.1f}°: with more its corners would fold.")
        if not die.numbered:
            yield Flag("die-number", "note", f"Under {each['fdi']} there is no room for its number.")
    if made.made:
        names = ", ".join(str(each["fdi"]) for each in listed)
        out = "comes out on a shaft of its own" if len(listed) == 1 else "come out, each on a shaft of its own"
        yield Flag("dies-made", "note", f"{names} {out}.")


def _turned(no: NoDie, settings: Any) -> bool:
    """Its way was turned by hand, perhaps too far: no base is thick enough for that."""
    return any(e.fdi == no.fdi and e.way is not None for e in settings.taken.values())


def _thick(no: NoDie, inputs: Inputs, settings: Any) -> float:
    """The base's thickness under the lowest point that gives a die room (mm); nought where none does."""
    walls = inputs["walls"]
    if not walls or not no.low_mm or no.long_mm or _turned(no, settings):
        return 0.0
    thick = float(np.ceil((walls["under_mm"] + no.low_mm + _SPARE_MM) * 10) / 10)
    return thick if thick <= _THICKEST_MM else 0.0


def _without(no: NoDie, inputs: Inputs, settings: Any, for_all: float) -> Flag:
    """for_all : a base so thick (mm) gives room to all that lack it"""
    leave = _entry(settings, no.fdi, inputs.piece, {"kind": "left"}, f"Leave {no.fdi} in")
    text = f"No die of {no.fdi}: {no.why}."
    if _turned(no, settings):
        return Flag(
            "no-die", "look", text, fix=_entry(settings, no.fdi, inputs.piece, {"way": None}, "Out its own way"), other=leave, unmet=True
        )
    if no.long_mm:
        deep = float(np.ceil(no.long_mm * 2) / 2)
        longer = Fix("dies", "*", {"die_deep_mm": deep}, label=f"Shafts up to {deep:.1f} mm")
        return Flag("no-die", "look", text, fix=longer, other=leave, unmet=True)
    if thick := _thick(no, inputs, settings):
        raise_it = Fix("base", inputs.piece, {"height": "under", "thickness_mm": for_all}, label=f"Base of {for_all:.1f} mm")
        text = f"{text} A base {thick:.1f} mm thick under the lowest point gives it room"
        more = f", one of {for_all:.1f} mm all that lack it" if for_all > thick else ""
        return Flag("no-die", "look", f"{text}{more}.", fix=raise_it, other=leave, unmet=True)
    return Flag("no-die", "look", text, fix=leave, unmet=True)


def _contacts(each: Mapping[str, Any], piece: str, settings: Any) -> Iterator[Flag]:
    entry = next((e for e in settings.taken.values() if e.fdi == each["fdi"]), None)
    free = max(settings.contact_mm, entry.opens_mm if entry is not None and entry.opens_mm else 0.0)
    for opening in each["opens"]:
        if opening["mm"] <= free + 1e-9:
            continue
        text = f"{opening['fdi']} is in the way of {each['fdi']}: its contact is opened by {opening['mm']:.2f} mm so that it comes out."
        wide = float(np.ceil(opening["mm"] * 20) / 20)
        open_it = _entry(settings, each["fdi"], piece, {"kind": each["kind"], "opens_mm": wide}, f"Open it by {opening['mm']:.2f} mm")
        out_too = _entry(settings, opening["fdi"], piece, {"kind": "loose"}, f"Take {opening['fdi']} out too")
        yield Flag("die-blocked", "look", text, _place(piece, opening["at_mm"]), fix=open_it, other=out_too)


def _entry(settings: Any, fdi: int, piece: str, values: Mapping[str, Any], label: str) -> Fix:
    """What is said of a tooth, as its entry; what was said of it before stays."""
    known = next(((key, e) for key, e in settings.taken.items() if e.fdi == fdi), None)
    before = {k: v for k, v in known[1].model_dump(mode="json").items() if v not in (None, {})} if known else {}
    ident = known[0] if known else ""
    return Fix("dies", piece, {**before, "fdi": fdi, **values}, at="taken", id=ident, label=label)


def _place(piece: str, at: Sequence[float]) -> Place:
    x, y, z = at
    return Place(piece, (x, y, z), 3.0)
