"""What the labels of a body say: patterns of the case's own words, a code of its number, a mark of the house."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Literal

from ..ops.fonts import FONTS, Font, unknown
from ..ops.written import Written, code, mark, text
from ..parts.house_mark import contours

WORDS = ("number", "patient", "date", "practice", "jaw", "teeth", "text")
_HIDDEN = "•"
# Under the veil a name is so many dots, or fewer where it is shorter: nothing is read off them.
_DOTS = 5
# A longer line has no room on any model.
_LONGEST = 120
# So tall are labels tried, the tallest first (mm): capitals, codes and marks, on a wall and underneath. Capitals of 2 mm can be read
# (judgement); the fields of a code of 8 mm are 0.38 mm wide.
_ON_WALL: dict[str, tuple[float, ...]] = {
    "text": (3.5, 3.0, 2.6, 2.2, 2.0), "code": (14.0, 12.0, 10.0, 9.0, 8.0), "mark": (8.0, 6.0, 5.0, 4.0, 3.0),
}  # fmt: skip
_UNDER: dict[str, tuple[float, ...]] = {
    "text": (5.0, 4.0, 3.0, 2.5, 2.0), "code": (14.0, 12.0, 10.0, 9.0, 8.0), "mark": (12.0, 9.0, 7.0, 5.0, 3.0),
}  # fmt: skip
Kind = Literal["text", "code", "mark"]
# Smaller capitals are tried only where there is no room else.
SMALLEST_MM = min(_ON_WALL["text"])


@dataclass(frozen=True)
class Said:
    """One label before it has a place.

    name   : text, code and mark of the settings, or the id of an entry
    lines  : of text; of a code or a mark its one name
    veiled : the same with dots for the patient's name; None where that is not in it
    drawn  : of a height (mm), and whether with dots
    sizes  : on a wall, and underneath; none: too long for any
    left   : characters that the font has no letter for
    """

    name: str
    kind: Kind
    lines: tuple[str, ...]
    veiled: tuple[str, ...] | None
    drawn: Callable[[float, bool], Written]
    sizes: tuple[tuple[float, ...], tuple[float, ...]]
    left: str = ""

    @property
    def words(self) -> str:
        return " / ".join(self.lines)

    @property
    def shown(self) -> str:
        """In findings nobody's name is read."""
        return " / ".join(self.veiled or self.lines)


@dataclass(frozen=True)
class Look:
    """How text is drawn: font, room between letters (of their height), width of the pen (mm)."""

    font: Font
    apart: float
    pen_mm: float


def check_pattern(pattern: str) -> str:
    """Raises ValueError with a sentence."""
    odd = [word for word in re.findall(r"\{(.*?)\}", pattern) if word not in WORDS]
    if odd or re.search(r"[{}]", re.sub(r"\{.*?\}", "", pattern)):
        raise ValueError(f"words in braces are {', '.join('{' + w + '}' for w in WORDS)}")
    missing = "".join(c for c in unknown(re.sub(r"\{.*?\}", "", pattern)) if all(unknown(c, font) for font in FONTS))
    if missing:
        raise ValueError(f"no font has a letter for {missing}")
    return pattern


def text_label(name: str, patterns: tuple[str, ...], words: Mapping[str, str], look: Look, tall_mm: float | None) -> Said | None:
    """None where the case has no words for it."""
    left, lines, veiled = "", [], []
    for pattern in patterns:
        line, lost = _filled(pattern, words, look)
        if line:
            lines.append(line)
            hidden = {**words, "patient": dotted(words["patient"])}
            veiled.append(_filled(pattern, hidden, look)[0])
        left += "".join(c for c in lost if c not in left)
    if not lines:
        return None
    if max(map(len, lines)) > _LONGEST:
        sizes: tuple[tuple[float, ...], tuple[float, ...]] = ((), ())
    else:
        sizes = _sizes("text", tall_mm)
    private = any("{patient}" in p for p in patterns) and bool(words["patient"])
    dots = tuple(veiled) if private else None

    def drawn(tall: float, hidden: bool) -> Written:
        return text(dots if hidden and dots else lines, look.font, tall_mm=tall, apart=look.apart, pen_mm=look.pen_mm)

    return Said(name, "text", tuple(lines), dots, drawn, sizes, left)


def dotted(patient: str) -> str:
    """What stands for a patient's name in findings, and under the veil."""
    return _HIDDEN * min(_DOTS, len(patient))


def filled(pattern: str, words: Mapping[str, str]) -> str:
    return re.sub(r"\{(.*?)\}", lambda m: words[m[1]], pattern)


def _filled(pattern: str, words: Mapping[str, str], look: Look) -> tuple[str, str]:
    """(a pattern with the case's words, in letters that the font has; what was left out)."""
    full = filled(pattern, words)
    lost = unknown(full, look.font).replace("\t", "").replace("\n", "")
    return " ".join("".join(c if c not in lost else "" for c in full).split()), lost


def code_label(name: str, number: str, side_mm: float | None) -> Said | None:
    """A code of the case's number; None where it has none."""
    if not number:
        return None
    return Said(name, "code", (number,), None, lambda tall, hidden: code(number, side_mm=tall), _sizes("code", side_mm))


def mark_label(name: str, record: Mapping[str, Any] | None, tall_mm: float | None) -> Said | None:
    """None without a mark. Raises ValueError for a record that holds none."""
    outline = str((record or {}).get("data", {}).get("outline") or "")
    if not record or not outline:
        return None
    rings = contours(outline)
    return Said(name, "mark", (str(record["name"]),), None, lambda tall, hidden: mark(rings, tall_mm=tall), _sizes("mark", tall_mm))


def _sizes(kind: str, asked: float | None) -> tuple[tuple[float, ...], tuple[float, ...]]:
    return ((asked,), (asked,)) if asked else (_ON_WALL[kind], _UNDER[kind])
