"""What a label says as a plane shape: lines of text, a QR code (ISO/IEC 18004, by segno), a mark."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import manifold3d
import numpy as np
import segno
from numpy.typing import NDArray

from .fonts import Font, glyph, hairline

# From the foot of a line to the foot of the next, of the height of its capitals.
_LEADING = 1.6
# Fields of a code that meet at a corner are grown by so much, or they would hang together in one point.
_GROWN_MM = 0.002
_ROUND = 24


@dataclass(frozen=True)
class Written:
    """A shape in its plane, mm, within x from 0 to width and y up from 0 to height.

    tall   : of a capital letter, of a code or a mark as a whole
    stroke : how thin its thinnest strokes are; 0 where that is not known
    """

    shape: manifold3d.CrossSection
    width: float
    height: float
    tall: float
    stroke: float


def text(lines: Sequence[str], font: Font = "narrow", *, tall_mm: float, apart: float = 0.06, pen_mm: float = 0.4) -> Written:
    """Lines of text one under the other, each in the middle.

    tall_mm : of capitals
    apart   : more room between letters than the font itself gives, of the height of capitals
    pen_mm  : how wide the strokes of the font of single lines are
    Raises ValueError where there is no letter.
    """
    pen = pen_mm if font == "line" else 0.0
    rows = [_row(line, font, tall_mm, apart) for line in lines]
    if not any(contours for contours, _ in rows):
        raise ValueError("a line without letters")
    wide = max(width for _, width in rows)
    contours = [
        c + [(wide - width) / 2, -n * _LEADING * tall_mm] for n, (row, width) in enumerate(rows) for c in row
    ]  # fmt: skip
    shape = manifold3d.CrossSection(contours, manifold3d.FillRule.NonZero)
    stroke = hairline(font) * tall_mm
    if pen:
        grown = (pen - stroke) / 2
        shape = shape.offset(grown, manifold3d.JoinType.Round, circular_segments=_ROUND)
        stroke = pen
    return _boxed(shape, tall_mm, stroke)


def _row(line: str, font: Font, tall_mm: float, apart: float) -> tuple[list[NDArray[np.float64]], float]:
    """(outlines, width) of one line from its foot."""
    at, contours = 0.0, list[NDArray[np.float64]]()
    for letter in line:
        drawn, wide = glyph(letter, font, tall_mm)
        contours += [c + [at, 0.0] for c in drawn]
        at += wide + apart * tall_mm
    return contours, max(at - apart * tall_mm, 0.0)


def _boxed(shape: manifold3d.CrossSection, tall: float, stroke: float) -> Written:
    left, low, right, high = shape.bounds()
    return Written(shape.translate((-left, -low)), right - left, high - low, tall, stroke)


def code(text: str, *, side_mm: float) -> Written:
    """A QR code without its quiet zone, level M, dark fields filled; read with the sides as they are. Raises ValueError for a text
    that no code holds."""
    try:
        # What is no plain text says how it is written, or it is read in another alphabet.
        plain = text.isascii()
        made = segno.make_qr(text, error="m", boost_error=False, encoding=None if plain else "utf-8", eci=not plain)
        fields = np.array([list(row) for row in made.matrix], bool)
    except segno.DataOverflowError as error:
        raise ValueError("too long for a code") from error
    count, step = len(fields), side_mm / len(fields)
    contours = []
    for row, dark in enumerate(fields):
        ends = np.flatnonzero(np.diff(np.r_[0, dark.astype(int), 0]))
        for start, stop in zip(ends[::2], ends[1::2], strict=True):
            x0, x1 = start * step - _GROWN_MM, stop * step + _GROWN_MM
            y0, y1 = (count - row - 1) * step - _GROWN_MM, (count - row) * step + _GROWN_MM
            contours.append(np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]]))
    shape = manifold3d.CrossSection(contours, manifold3d.FillRule.Positive)
    return Written(shape, side_mm, side_mm, side_mm, step)


def mark(contours: Sequence[NDArray[np.float64]], *, tall_mm: float) -> Written:
    """A mark as tall as that: outlines (k, 2) y up, filled by even and odd. Raises ValueError for one that encloses nothing."""
    shape = manifold3d.CrossSection(list(contours), manifold3d.FillRule.EvenOdd)
    if shape.is_empty() or shape.area() <= 0:
        raise ValueError("a mark that encloses nothing")
    left, low, right, high = shape.bounds()
    scale = tall_mm / (high - low)
    grown = shape.translate((-left, -low)).scale((scale, scale))
    return Written(grown, (right - left) * scale, tall_mm, tall_mm, _thinnest(grown, tall_mm))


def _thinnest(shape: manifold3d.CrossSection, tall: float, lost: float = 0.05) -> float:
    """So wide a pen still draws all of it but a small share: the widest opening (mm), halved into."""
    low, high, area = 0.0, tall, shape.area()
    for _ in range(9):
        pen = (low + high) / 2
        kept = shape.offset(-pen / 2, manifold3d.JoinType.Round).offset(pen / 2, manifold3d.JoinType.Round, circular_segments=_ROUND)
        low, high = (pen, high) if kept.area() >= (1 - lost) * area else (low, pen)
    return low
