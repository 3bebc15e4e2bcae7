"""The proof of a case in words: the same on the screen and on paper."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Literal

from typing_extensions import TypedDict

from .proofed import OnPlate, Printed, Proof, StillAsked, WentOut

_HALF_HASH = 32
# Of what somebody typed so much stands at the head of the sheet.
_MOST_TYPED = 200
Look = Literal["text", "dim", "hash"]


class ProofCell(TypedDict):
    lines: list[str]
    look: Look


class ProofSection(TypedDict):
    """wide : of each column its share; none : what is said where there are no rows"""

    title: str
    wide: list[float]
    rows: list[list[ProofCell]]
    none: str


def head_lines(proof: Proof) -> list[str]:
    """The first is the title."""
    words = [proof.get("patient", ""), proof.get("practice", ""), proof.get("purpose", "")]
    more = [
        ("Teeth", proof.get("teeth", "")),
        ("Opened", proof["opened"]),
        ("Due", proof.get("due", "")),
        ("Technician", proof.get("technician", "")),
    ]
    whose = " · ".join(_short(word) for word in words if word)
    lines = [f"{name}: {_short(value)}" for name, value in more if value]
    return [f"Proof {proof['number']}", *([whose] if whose else []), *lines]


def _short(text: str) -> str:
    return text if len(text) <= _MOST_TYPED else f"{text[:_MOST_TYPED]}…"


def sections(proof: Proof) -> list[ProofSection]:
    """From the top of the sheet."""
    out = [_came_in(proof), _asked(proof), _went_out(proof), _plate(proof["plate"]), _left(proof), *_accepted(proof)]
    return [*out, *([_prints(proof["prints"])] if proof.get("prints") else [])]


def _text(*lines: str) -> ProofCell:
    return {"lines": list(lines), "look": "text"}


def _dim(*lines: str) -> ProofCell:
    return {"lines": list(lines), "look": "dim"}


def _hash(sha256: str) -> ProofCell:
    return {"lines": [sha256[:_HALF_HASH], sha256[_HALF_HASH:]], "look": "hash"}


def _section(title: str, wide: Sequence[float], rows: Iterable[list[ProofCell]], none: str = "") -> ProofSection:
    return {"title": title, "wide": list(wide), "rows": list(rows), "none": none}


def _came_in(proof: Proof) -> ProofSection:
    rows = [
        [
            _text(one["file"]),
            _text(one["jaw"] or one["kind"]),
            _dim(f"1 = {one['unit_mm']:g} mm" if one["unit_mm"] else ""),
            _hash(one["sha256"]),
        ]
        for one in proof["inputs"]
    ]
    return _section("Came in", (0.44, 0.12, 0.14, 0.30), rows, "No scans.")


def _asked(proof: Proof) -> ProofSection:
    rows = [
        [
            _text(one["title"] + (f", {one['jaw']}" if one["piece"] and one["jaw"] else "")),
            _text(one["label"]),
            _text(_with_unit(one["value_said"], one["unit"])),
            _dim(f"ships as {_with_unit(one['default_said'], one['unit'])}; {_WHOSE[one['whose']]}"),
        ]
        for one in proof["settings"]
    ]
    return _section("Asked for, where it differs from what ships", (0.18, 0.28, 0.20, 0.34), rows, "All settings are as they ship.")


_WHOSE = {
    "house": "set by the house",
    "purpose": "set by the purpose",
    "practice": "set by the practice",
    "case": "set for this case",
    "piece": "set for this scan",
}


def _with_unit(said: str, unit: str) -> str:
    return f"{said} {unit}".replace(" °", "°").strip()


def _went_out(proof: Proof) -> ProofSection:
    rows = [[_text(one["file"]), _text(*_figures(one)), _hash(one["sha256"])] for one in proof["outputs"]]
    return _section("Went out, measured on the files as they were read back", (0.24, 0.46, 0.30), rows, "No files were made yet.")


def _figures(one: WentOut) -> list[str]:
    size = " × ".join(f"{x:.2f}" for x in one["size_mm"])
    seams = one["open_edges"] + one["crowded_edges"]
    share = 100 * one["of_scan"] / max(one["corners"], 1)
    return [
        f"{size} mm in {one['frame']} coordinates",
        f"{one['volume_ml']:.2f} ml, {one['area_mm2']:.0f} mm², {one['triangles']:,} triangles",
        f"{one['bodies']} {'body' if one['bodies'] == 1 else 'bodies'}, {'closed' if seams == 0 else f'{seams} edges not closed'}",
        f"{share:.1f} % of its corners are the scan's, to 0.1 µm",
    ]


def sized(percent: Iterable[float]) -> str:
    """The size correction of a printer and resin."""
    x, y, z = percent
    return f"printed larger by {x:g} % in width, {y:g} % in depth, {z:g} % in height; the files of the models are not"


def _plate(plate: OnPlate | None) -> ProofSection:
    if plate is None:
        return _section("On its plate", (1.0,), [], "Its layers are not worked out.")
    words = [
        f"{plate['printer']}, {plate['resin']}",
        f"{plate['layers']} layers, the first {plate['layer_mm']:g} mm",
        f"{plate['seconds'] / 60:.0f} min",
        f"{plate['resin_ml']:.1f} ml",
    ]
    size = sized(plate["sized_percent"]) if "sized_percent" in plate else "no size correction"
    return _section("On its plate", (1.0,), [[_text(", ".join(words), f"Size: {size}")]])


def _left(proof: Proof) -> ProofSection:
    rows = [
        [_text(one["title"] + (f", {one['jaw']}" if one["jaw"] else "")), _text(one["message"]), _dim(*_waived(one))]
        for one in proof["left"]
    ]
    return _section("Left as it is, though the program asks for a look", (0.18, 0.58, 0.24), rows, "Nothing.")


def _waived(one: StillAsked) -> list[str]:
    """Who passed a doubt by a yes of its own."""
    return [f"accepted by {one['who'] or 'nobody known'}", _when(one["at"])] if "at" in one else []


def _accepted(proof: Proof) -> list[ProofSection]:
    if "accepted" not in proof:
        return []
    # What was said yes to at one stroke stands in one line.
    strokes: dict[tuple[str, str, str], list[str]] = {}
    for one in proof["accepted"]:
        strokes.setdefault((one["who"], one["at"], ", ".join(one["changed"])), []).append(one["title"])
    for made in proof.get("handed_off", []):
        strokes.setdefault((made["who"], made["at"], ""), []).append("Files made")
    rows = [
        [_text(", ".join(titles)), _text(who), _text(_when(at)), _dim(f"since then another: {changed}" if changed else "")]
        for (who, at, changed), titles in strokes.items()
    ]
    return [_section("Who said yes", (0.34, 0.18, 0.22, 0.26), rows, "Nothing was accepted by hand.")]


def _prints(prints: list[Printed]) -> ProofSection:
    rows = [[_text(one["name"]), _text(*_print_lines(one)), _hash(one["sha256"])] for one in prints]
    return _section("Prints", (0.20, 0.50, 0.30), rows)


def _print_lines(one: Printed) -> list[str]:
    ended = f", ended {_when(one['ended'])}" if one["ended"] else ""
    lines = [
        f"{one['printer']}, {one['resin']}, {one['resin_ml']:.1f} ml: {one['state']}",
        f"sent by {one['who'] or 'nobody known'} {_when(one['sent'])}{ended}",
    ]
    lines += [f"of {', '.join(one['bottles'])}"] if one["bottles"] else []
    return [*lines, sized(one["sized_percent"])] if "sized_percent" in one else lines


def _when(iso: str) -> str:
    return datetime.fromisoformat(iso).strftime("%d %b %Y, %H:%M UTC").lstrip("0") if iso else ""
