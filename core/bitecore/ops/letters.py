"""Letters as plane outlines and as solids bent along a wall, from the font that ships (Barlow Semi Condensed, SIL Open Font License)."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import manifold3d
import numpy as np
from fontTools.pens.recordingPen import DecomposingRecordingPen
from fontTools.ttLib import TTFont
from numpy.typing import NDArray

from ..mesh import GROUP_CUT, Mesh

_FONT = Path(__file__).parent.parent / "fonts" / "BarlowSemiCondensed-SemiBold.ttf"
# A curve of an outline is never farther from its chords (mm).
_FLAT_MM = 0.01
# Between letters, of their height; what is bent goes in steps of _STEP_MM.
_APART, _STEP_MM = 0.06, 0.4


@cache
def _font() -> tuple[TTFont, Any, dict[int, str]]:
    font = TTFont(_FONT)
    return font, font.getGlyphSet(), font.getBestCmap()


def unknown(text: str) -> str:
    """The characters that the font has no letter for."""
    return "".join(dict.fromkeys(c for c in text if ord(c) not in _font()[2]))


@dataclass(frozen=True)
class Line:
    """A line of text in its plane, mm: x along it from 0 to width, y up from its foot.

    shape : filled where letters are
    tall  : of a capital letter
    deep  : how far letters hang under the foot
    """

    shape: manifold3d.CrossSection
    width: float
    tall: float
    deep: float


def line(text: str, tall_mm: float) -> Line:
    """One line with capitals so tall. Raises ValueError for an empty one."""
    font, glyphs, known = _font()
    scale = tall_mm / font["OS/2"].sCapHeight
    at, contours = 0.0, list[NDArray]()
    for letter in text:
        name = known.get(ord(letter), ".notdef")
        pen = DecomposingRecordingPen(glyphs)
        glyphs[name].draw(pen)
        contours += [c * scale + [at, 0.0] for c in _contours(pen.value, scale)]
        at += glyphs[name].width * scale + _APART * tall_mm
    if not contours:
        raise ValueError("a line without letters")
    shape = manifold3d.CrossSection(contours, manifold3d.FillRule.NonZero)
    low = min(float(c[:, 1].min()) for c in contours)
    return Line(shape, at - _APART * tall_mm, tall_mm, max(-low, 0.0))


def _contours(drawn: list, scale: float) -> list[NDArray[np.float64]]:
    """Closed outlines of one letter in the font's own units, curves in chords."""
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
                points += _bent(points[-1], bend, end, scale)
        elif what == "curveTo":
            raise ValueError("a font with curves of third order")
        elif len(points) > 2:
            out.append(np.array(points))
    return out


def _bent(start: NDArray, bend: NDArray, end: NDArray, scale: float) -> list[NDArray]:
    """Points of a curve of second order, so many that no chord is farther off than _FLAT_MM."""
    count = max(2, int(np.ceil(np.sqrt(np.linalg.norm(start - 2 * bend + end) * scale / (4 * _FLAT_MM)))))
    share = (np.arange(1, count + 1) / count)[:, None]
    return list((1 - share) ** 2 * start + 2 * (1 - share) * share * bend + share**2 * end)


class Bend:
    """An outline in the plan (k, 2), counter-clockwise, as lengths along it (mm)."""

    def __init__(self, ring: NDArray[np.float64]) -> None:
        self._closed = np.vstack([ring, ring[:1]])
        step = np.linalg.norm(np.diff(self._closed, axis=0), axis=1)
        self._run = np.r_[0, np.cumsum(step)]
        self.length = float(self._run[-1])

    def at(self, along: NDArray | float) -> NDArray[np.float64]:
        """(k, 2) places."""
        s = np.atleast_1d(along) % self.length
        return np.c_[np.interp(s, self._run, self._closed[:, 0]), np.interp(s, self._run, self._closed[:, 1])]

    def outward(self, along: NDArray | float) -> NDArray[np.float64]:
        """(k, 2) directions out of the outline, evened over a millimetre."""
        s = np.atleast_1d(along)
        way = self.at(s + 0.5) - self.at(s - 0.5)
        way /= np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-9)
        return np.c_[way[:, 1], -way[:, 0]]

    def nearest(self, point: NDArray) -> float:
        """How far along the place nearest to a point (2,) lies."""
        s = np.arange(0, self.length, 0.25)
        return float(s[np.linalg.norm(self.at(s) - point, axis=1).argmin()])


def on_wall(
    text: Line, bend: Bend, *, start: float, floor: float, foot: float, inner: float, outer: float, lean: Callable[[NDArray], NDArray]
) -> Mesh:
    """Letters as a solid along a wall, z up, read from outside: from `inner` mm inside the wall to `outer` mm outside; `start` along
    the bend, `foot` mm over the `floor` where the bend lies; lean : of places along the bend, mm inwards a mm up."""
    solid = text.shape.extrude(inner + outer).refine_to_length(_STEP_MM)

    def bent(points: NDArray) -> NDArray:
        along = start + points[:, 0]
        out = points[:, 2] - inner - lean(along) * (foot + points[:, 1])
        plan = bend.at(along) + bend.outward(along) * out[:, None]
        return np.c_[plan, floor + foot + points[:, 1]]

    return _mesh(solid.warp_batch(bent))


def on_floor(text: Line, *, middle: NDArray, across: NDArray, floor: float, inner: float, outer: float) -> Mesh:
    """Letters on the underside, read from below: `across` (2,) is the direction of the line, seen from above from its end to its
    start."""
    solid = text.shape.extrude(inner + outer)
    side = np.array([-across[1], across[0]])

    def laid(points: NDArray) -> NDArray:
        x, y = points[:, 0] - text.width / 2, points[:, 1] - text.tall / 2
        # Seen from below the line runs the other way.
        plan = middle - x[:, None] * across + y[:, None] * side
        return np.c_[plan, floor - outer + points[:, 2]]

    return _mesh(solid.warp_batch(laid))


def _mesh(solid: manifold3d.Manifold) -> Mesh:
    out = solid.to_mesh64()
    faces = np.asarray(out.tri_verts).astype(np.int64)
    made = Mesh.of(np.asarray(out.vert_properties)[:, :3], faces, np.full(len(faces), GROUP_CUT, np.uint8))
    return made if solid.volume() > 0 else made.turned_inside_out()
