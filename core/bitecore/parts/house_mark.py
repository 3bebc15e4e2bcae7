"""A house's mark: a stranger's SVG file becomes plain outlines, and nothing else of it is kept."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any
from xml.etree import ElementTree

import manifold3d
import numpy as np
from fontTools.misc.transform import Transform
from fontTools.pens.recordingPen import RecordingPen
from fontTools.pens.transformPen import TransformPen
from fontTools.svgLib.path import SVGPath
from numpy.typing import NDArray

from ..ops.fonts import outlines

LONGEST_FILE, _MOST_ELEMENTS, _MOST_POINTS, _DEEPEST, _FARTHEST = 300_000, 2000, 4000, 40, 1e7
# More corners than this are not even begun with.
_MOST_DRAWN = 20_000
# A mark is kept so tall, in numbers without a unit; on a model it is as tall as asked. So much may its outline be evened.
_TALL, _EVENED = 100.0, 0.03
_DRAWS = {"path", "rect", "circle", "ellipse", "polygon", "polyline"}
_HOLDS = {"svg", "g", "a", "switch"}
# Of the attributes of a part these say its form: everything else is left behind.
_FORM = {"d", "points", "x", "y", "width", "height", "rx", "ry", "cx", "cy", "r"}
_CLEAR = {"none", "transparent"}
_PAPER = {"white", "#fff", "#ffffff", "rgb(255,255,255)"}
_MOVE = re.compile(r"(matrix|translate|scale|rotate|skewX|skewY)\s*\(([^)]*)\)")


@dataclass(frozen=True)
class _Part:
    """What is filled, y down; paper : in white, over what was drawn before"""

    drawn: list[tuple[str, Any]]
    paper: bool
    rule: manifold3d.FillRule


def cleaned(svg: str) -> str:
    """The filled outlines of an SVG file as lines, y up, 100 tall: 'M x y L x y … Z' and nothing else. White takes away what lies under
    it. Raises ValueError with a sentence."""
    if len(svg) > LONGEST_FILE:
        raise ValueError(f"the file is larger than {LONGEST_FILE // 1000} kB; draw it more simply")
    svg = re.sub(r"<!\s*doctype[^>\[]*>", "", svg, flags=re.IGNORECASE)
    if re.search(r"<!\s*(doctype|entity)", svg, re.IGNORECASE):
        # Nothing that a drawing needs: entities can grow without end and name files.
        raise ValueError("the file declares entities; save it as a plain SVG")
    try:
        root = ElementTree.fromstring(svg.strip())
    except (ElementTree.ParseError, ValueError) as error:
        raise ValueError("the file is no SVG that can be read") from error
    if _name(root) != "svg":
        raise ValueError("the file is no SVG")
    parts = []
    for part in _parts(root, Transform(1, 0, 0, -1, 0, 0), {}, 0):
        parts.append(part)
        if len(parts) > _MOST_ELEMENTS:
            raise ValueError(f"it has more than {_MOST_ELEMENTS} parts; draw it more simply")
    return _kept(parts)


def contours(outline: str) -> list[NDArray[np.float64]]:
    """(k, 2) outlines of a mark as it is kept. Raises ValueError for anything else."""
    if not re.fullmatch(r"[MLZ\d.\- ]{0,400000}", outline):
        raise ValueError("no outline of a mark")
    rings = [ring.replace("M", " ").replace("L", " ").split() for ring in outline.split("Z") if ring.strip()]
    out = [np.array(ring, np.float64).reshape(-1, 2) for ring in rings]
    if any(len(ring) < 3 for ring in out) or sum(map(len, out)) > _MOST_POINTS:
        raise ValueError("no outline of a mark")
    return out


def plain_outline(outline: str) -> None:
    """Raises ValueError for an outline that encloses nothing. One that crosses itself without end takes a child's time, not ours."""
    shape = manifold3d.CrossSection(contours(outline), manifold3d.FillRule.EvenOdd)
    if outline.strip() and shape.area() <= 0:
        raise ValueError("its outlines enclose nothing")


def _kept(parts: list[_Part]) -> str:
    points = np.array([p for part in parts if not part.paper for _, given in part.drawn for p in given if p is not None], float)
    if len(points) == 0:
        raise ValueError("nothing in it is filled; turn its lines into filled outlines")
    span = float(np.ptp(points[:, 1])) if np.abs(points).max() < _FARTHEST else 0.0
    if span <= 0 or float(np.ptp(points[:, 0])) > 100 * span:
        raise ValueError("its outlines enclose nothing")
    scale, shape, count = _TALL / span, manifold3d.CrossSection(), 0
    for part in parts:
        rings = [ring * scale for ring in outlines([*part.drawn, ("closePath", ())], scale)]
        count += sum(map(len, rings))
        if count > _MOST_DRAWN or any(not np.isfinite(ring).all() for ring in rings):
            raise ValueError("its outlines have too many corners; draw it more simply")
        if rings:
            one = manifold3d.CrossSection(rings, part.rule)
            shape = shape - one if part.paper else shape + one
    shape = shape.simplify(_EVENED)
    if shape.is_empty() or shape.area() <= 0:
        raise ValueError("its outlines enclose nothing")
    left, low, _, high = shape.bounds()
    kept = [(np.asarray(ring) - [left, low]) * (_TALL / (high - low)) for ring in shape.to_polygons()]
    if sum(map(len, kept)) > _MOST_POINTS:
        raise ValueError(f"its outlines have more than {_MOST_POINTS} corners; draw it more simply")
    return " ".join("M " + " L ".join(f"{x:.3f} {y:.3f}" for x, y in ring) + " Z" for ring in kept)


def _parts(element: ElementTree.Element, at: Transform, given: dict[str, str], depth: int) -> Iterator[_Part]:
    """Everything that is filled in an element, in the order it is drawn; given : how what it stands in is filled."""
    if depth > _DEEPEST:
        raise ValueError("it is nested too deeply; draw it more simply")
    how = given | _how(element)
    if how.get("display") == "none" or how.get("visibility") == "hidden":
        return
    at = at.transform(_moved(element.get("transform", "")))
    name = _name(element)
    if name in _HOLDS:
        for child in element:
            yield from _parts(child, at, how, depth + 1)
    fill = how.get("fill", "black").replace(" ", "").lower()
    if name in _DRAWS and fill not in _CLEAR:
        rule = manifold3d.FillRule.EvenOdd if how.get("fill-rule") == "evenodd" else manifold3d.FillRule.NonZero
        yield _Part(_drawn(element, name, at), fill in _PAPER, rule)


def _drawn(element: ElementTree.Element, name: str, at: Transform) -> list[tuple[str, Any]]:
    path, pen = SVGPath(), RecordingPen()
    path.root = ElementTree.Element("svg")
    ElementTree.SubElement(
        path.root, name, {k: _plain(v) if k not in ("d", "points") else v for k, v in element.attrib.items() if k in _FORM}
    )
    try:
        path.draw(TransformPen(pen, at))
    except (ValueError, TypeError, IndexError, KeyError, AttributeError, AssertionError, ArithmeticError) as error:
        raise ValueError(f"a part of it ({name}) cannot be read") from error
    return [("closePath", ()) if what == "endPath" else (what, points) for what, points in pen.value]


def _name(element: ElementTree.Element) -> str:
    return element.tag.rpartition("}")[2].lower() if isinstance(element.tag, str) else ""


def _plain(length: str) -> str:
    return re.sub(r"\s*px\s*$", "", length)


def _how(element: ElementTree.Element) -> dict[str, str]:
    style = dict(pair.split(":", 1) for pair in element.get("style", "").split(";") if ":" in pair)
    said = {key: element.get(key) for key in ("fill", "fill-rule", "display", "visibility")} | {
        k.strip(): v.strip() for k, v in style.items()
    }
    return {key: value for key, value in said.items() if value}


def _moved(text: str) -> Transform:
    """Of a transform attribute. Raises ValueError."""
    out = Transform()
    for what, inside in _MOVE.findall(text):
        try:
            n = [float(x) for x in re.split(r"[\s,]+", inside.strip())]
            out = out.transform(_one(what, n))
        except (IndexError, TypeError) as error:
            raise ValueError("a part of it is moved in a way that cannot be read") from error
    return out


def _one(what: str, n: list[float]) -> Transform:
    plain = Transform()
    if what == "matrix":
        return Transform(n[0], n[1], n[2], n[3], n[4], n[5])
    if what == "translate":
        return plain.translate(n[0], n[1] if len(n) > 1 else 0.0)
    if what == "scale":
        return plain.scale(n[0], n[-1])
    if what == "rotate":
        x, y = (n[1], n[2]) if len(n) > 2 else (0.0, 0.0)
        return plain.translate(x, y).rotate(np.radians(n[0])).translate(-x, -y)
    return plain.skew(np.radians(n[0]), 0) if what == "skewX" else plain.skew(0, np.radians(n[0]))
