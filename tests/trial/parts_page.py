"""Parts of arches as a page."""

from __future__ import annotations

from .parts import PartOutcome
from .teeth import JawOutcome

# What Level and Teeth can begin with (degrees).
_UP_DEG, _FRONT_DEG = 12.0, 16.0
_SURE = 0.8


def parts_page(found: dict[str, list[tuple[PartOutcome, JawOutcome | None]]]) -> str:
    rows = []
    for name, outcomes in found.items():
        for what in dict.fromkeys(seen.what for seen, _ in outcomes):
            rows.append(_row(name, what, [(s, j) for s, j in outcomes if s.what == what]))
    return _TEXT.format(rows="\n".join(rows), up=_UP_DEG, front=_FRONT_DEG)


def _row(name: str, what: str, outcomes: list[tuple[PartOutcome, JawOutcome | None]]) -> str:
    seen = [s for s, _ in outcomes]
    facing = [s.kind and s.up_deg < _UP_DEG and s.front_deg < _FRONT_DEG for s in seen]
    believed = sum(not ok and s.facing_sure >= _SURE for ok, s in zip(facing, seen, strict=True) if s.kind)
    teeth = [t for _, jaw in outcomes if jaw for t in jaw.teeth]
    wrong = sum(t.told != t.fdi and t.sure >= _SURE for t in teeth)
    cells = (
        name, what, f"{sum(s.kind for s in seen)} of {len(seen)}", f"{sum(facing)}, {believed}", f"{sum(s.jaw for s in seen)}",
        f"{sum(t.found for t in teeth)} of {len(teeth)}", f"{sum(t.told == t.fdi for t in teeth)}, {wrong}",
    )  # fmt: skip
    return "| " + " | ".join(cells) + " |"


_TEXT = """## Parts of arches
Scans of one side past the midline, three quarters, the front, and the back teeth of one side; strips of bites, which are none. *Faces
right*: up within {up:g}° and front within {front:g}°, then how many face wrongly and were said to be sure. *Numbered right*: with the jaw
as a person says it, then how many teeth have a wrong number and were said to be sure. Of a tooth at the cut most has to be there.

| set | part | kind seen | faces right, wrong and sure | jaw right | teeth found | numbered right, wrong and sure |
|---|---|---|---|---|---|---|
{rows}
"""
