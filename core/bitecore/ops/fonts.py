"""The fonts that ship (SIL Open Font License 1.1, unchanged): outlines of their letters, with Latin accents, Greek and Cyrillic."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any, Literal

import numpy as np
from fontTools.pens.recordingPen import DecomposingRecordingPen
from fontTools.ttLib import TTFont
from numpy.typing import NDArray

Font = Literal["narrow", "wide", "line"]
_FOLDER = Path(__file__).parent.parent / "fonts"
FILES: dict[str, Path] = {
    "narrow": _FOLDER / "FiraSansCondensed-SemiBold.ttf",
    "wide": _FOLDER / "Play-Bold.ttf",
    # Its hairlines are drawn with a pen of their own width (see letters.py).
    "line": _FOLDER / "FiraSans-Thin.ttf",
}
FONTS: tuple[Font, ...] = ("narrow", "wide", "line")
# A curve of an outline is never farther from its chords (mm).
FLAT_MM = 0.01


@dataclass(frozen=True)
class _Read:
    font: TTFont
    glyphs: Any
    known: dict[int, str]

    @property
    def capital(self) -> float:
        return float(self.font["OS/2"].sCapHeight)


@cache
def _read(font: str) -> _Read:
    read = TTFont(FILES[font])
    return _Read(read, read.getGlyphSet(), read.getBestCmap())


def unknown(text: str, font: Font = "narrow") -> str:
    """The characters that a font has no letter for."""
    return "".join(dict.fromkeys(c for c in text if ord(c) not in _read(font).known))


@cache
def hairline(font: Font) -> float:
    """How thin the strokes of a font are, of the height of its capitals: the lesser of the widths of I and of the hyphen."""
    widths = []
    for letter, axis in (("I", 0), ("-", 1)):
        points = np.concatenate(glyph(letter, font, 1.0)[0])
        widths.append(float(np.ptp(points[:, axis])))
    return min(widths)


def glyph(letter: str, font: Font, tall_mm: float) -> tuple[list[NDArray[np.float64]], float]:
    """(closed outlines (k, 2) in mm of one letter with capitals so tall, how far the next one stands from it)."""
    read = _read(font)
    scale = tall_mm / read.capital
    name = read.known.get(ord(letter), ".notdef")
    pen = DecomposingRecordingPen(read.glyphs)
    read.glyphs[name].draw(pen)
    return [c * scale for c in outlines(pen.value, scale)], float(read.glyphs[name].width * scale)


def outlines(drawn: Sequence[tuple[str, Any]], scale: float) -> list[NDArray[np.float64]]:
    """Closed outlines from what a pen recorded, in its own units, curves in chords; scale : mm a unit."""
    out, points = list[NDArray](), list[NDArray]()
    for what, given in drawn:
        corners = [np.array(p, float) for p in given if p is not None]
        if what == "moveTo":
            points = [corners[0]]
        elif what == "lineTo":
            points.append(corners[0])
        elif what == "qCurveTo":
            for k, bend in enumerate(corners[:-1]):
                end = corners[-1] if k == len(corners) - 2 else (bend + corners[k + 1]) / 2
                points += _second(points[-1], bend, end, scale)
        elif what == "curveTo":
            points += _third(points[-1], corners[0], corners[1], corners[2], scale=scale)
        else:
            if len(points) > 2:
                out.append(np.array(points))
            points = []
    return out


def _second(start: NDArray, bend: NDArray, end: NDArray, scale: float) -> list[NDArray]:
    """Points of a curve of second order, so many that no chord is farther off than FLAT_MM."""
    count = max(2, int(np.ceil(np.sqrt(np.linalg.norm(start - 2 * bend + end) * scale / (4 * FLAT_MM)))))
    share = (np.arange(1, count + 1) / count)[:, None]
    return list((1 - share) ** 2 * start + 2 * (1 - share) * share * bend + share**2 * end)


def _third(start: NDArray, one: NDArray, two: NDArray, end: NDArray, *, scale: float) -> list[NDArray]:
    """The same of third order: its second derivative is 6 times the larger bend at most."""
    bend = max(np.linalg.norm(start - 2 * one + two), np.linalg.norm(one - 2 * two + end))
    count = max(2, int(np.ceil(np.sqrt(6 * bend * scale / (8 * FLAT_MM)))))
    t = (np.arange(1, count + 1) / count)[:, None]
    return list((1 - t) ** 3 * start + 3 * (1 - t) ** 2 * t * one + 3 * (1 - t) * t**2 * two + t**3 * end)
