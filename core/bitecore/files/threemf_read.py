"""3MF in: every object that the build holds, in its place, in millimetres (3MF Consortium, Core Specification 1.3)."""

from __future__ import annotations

import io
import itertools
import posixpath
import xml.parsers.expat
import zipfile
from array import array
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..errors import UnreadableFile
from .count import check_count, check_points
from .threemf import RELATION
from .threemf_text import taken_out

# Section 3.4 of the specification.
_UNITS_MM = {"micron": 0.001, "millimeter": 1.0, "centimeter": 10.0, "inch": 25.4, "foot": 304.8, "meter": 1000.0}
_DEEPEST = 8
_MOST_PLACES = 10_000
# Two vertex lines and a triangle line of a wordy writer; and room for what else a model says.
_BYTES_A_TRIANGLE, _BYTES_BESIDE = 200, 20_000_000


@dataclass
class _Object:
    """vertices, triangles : as the XML parser met them one by one; or whole, where they were taken out before."""

    vertices: array[float] = field(default_factory=lambda: array("d"))
    triangles: array[int] = field(default_factory=lambda: array("q"))
    all_vertices: NDArray[np.float64] | None = None
    all_triangles: NDArray[np.int64] | None = None
    parts: list[tuple[str, NDArray]] = field(default_factory=list)


@dataclass
class _Model:
    unit: str = "millimeter"
    objects: dict[str, _Object] = field(default_factory=dict)
    build: list[tuple[str, NDArray]] = field(default_factory=list)
    placed: int = 0


def looks(data: bytes) -> bool:
    """A ZIP package that says what types its parts have and holds a model."""
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as package:
            names = package.namelist()
    except Exception:  # zipfile raises many kinds for a damaged archive; then it is no 3MF
        return False
    return "[Content_Types].xml" in names and any(n.lower().endswith(".model") for n in names)


def read(name: str, data: bytes, limit: int) -> NDArray[np.float64]:
    """(3m, 3) corners in mm. Raises UnreadableFile."""
    damaged = UnreadableFile(f"“{name}” is a 3MF that is damaged. Copy or export it again.", code="truncated-file")
    try:
        model = _parsed(name, _model_part(name, data, limit), limit)
        soup = _built(name, model, limit)
    except UnreadableFile:
        raise
    except xml.parsers.expat.ExpatError as error:
        raise damaged from error
    except Exception as error:  # zipfile and zlib raise many kinds inside a damaged package
        raise damaged from error
    if len(soup) == 0:
        raise UnreadableFile(f"“{name}” holds no triangles. Export the scan again.", code="no-triangles")
    return soup * _UNITS_MM.get(model.unit, 1.0)


def _model_part(name: str, data: bytes, limit: int) -> bytes:
    with zipfile.ZipFile(io.BytesIO(data)) as package:
        names = {n.lower(): n for n in package.namelist()}
        path = next(n for n in names.values() if n.lower().endswith(".model"))
        if "_rels/.rels" in names:
            told = _start(_whole(package, package.getinfo(names["_rels/.rels"]), _BYTES_BESIDE))
            if told and told.lstrip("/").lower() in names:
                path = names[posixpath.normpath(told.lstrip("/")).lower()]
        most = _BYTES_A_TRIANGLE * limit + _BYTES_BESIDE
        info = package.getinfo(path)
        if info.file_size > most:
            text = f"The model inside “{name}” unpacks to more than {most // 1_000_000} MB. Export it again as STL."
            raise UnreadableFile(text, code="too-large")
        return _whole(package, info, most)


def _whole(package: zipfile.ZipFile, info: zipfile.ZipInfo, most: int) -> bytes:
    with package.open(info) as stream:
        text = stream.read(min(info.file_size, most) + 1)
    if len(text) != info.file_size:
        raise ValueError("sizes do not agree")
    return text


def _start(text: bytes) -> str | None:
    found: list[str] = []

    def start(tag: str, attributes: dict[str, str]) -> None:
        if tag.split(":")[-1] == "Relationship" and attributes.get("Type") == RELATION:
            found.append(attributes.get("Target", ""))

    _parser(start).Parse(text, True)
    return found[0] if found else None


def _parser(start) -> xml.parsers.expat.XMLParserType:
    parser = xml.parsers.expat.ParserCreate()
    parser.StartElementHandler = start

    def refuse(*_: object) -> None:
        # A model has no use for entities of its own; bombs are made of them.
        raise ValueError("entities are not accepted")

    parser.EntityDeclHandler = refuse
    parser.StartDoctypeDeclHandler = refuse
    return parser


def _matrix(text: str | None) -> NDArray[np.float64]:
    """(4, 3) row-vector form of the specification, section 3.3: p' = [x y z 1] · M."""
    if not text:
        return np.vstack([np.eye(3), np.zeros(3)])
    return np.array(text.split(), float).reshape(4, 3)


def _parsed(name: str, text: bytes, limit: int) -> _Model:
    model, now = _Model(), [_Object()]
    text, *long = taken_out(text)
    vertices, triangles = (itertools.chain(part, itertools.repeat(None)) for part in long)

    def start(tag: str, a: dict[str, str]) -> None:
        tag = tag.rsplit(":", 1)[-1]
        if tag == "vertex":
            now[0].vertices.extend((float(a["x"]), float(a["y"]), float(a["z"])))
            check_points(name, len(now[0].vertices) // 3, limit)
        elif tag == "triangle":
            now[0].triangles.extend((int(a["v1"]), int(a["v2"]), int(a["v3"])))
            check_count(name, len(now[0].triangles) // 3, limit)
        elif tag == "vertices":
            now[0].all_vertices = next(vertices)
        elif tag == "triangles":
            now[0].all_triangles = next(triangles)
        elif tag == "object":
            now[0] = model.objects.setdefault(a["id"], _Object())
        elif tag == "component":
            now[0].parts.append((a["objectid"], _matrix(a.get("transform"))))
        elif tag == "item":
            model.build.append((a["objectid"], _matrix(a.get("transform"))))
        elif tag == "model":
            model.unit = a.get("unit", "millimeter")
        model.placed += tag in ("component", "item")
        if model.placed > _MOST_PLACES:
            raise _too_many_places(name)

    _parser(start).Parse(text, True)
    return model


def _too_many_places(name: str) -> UnreadableFile:
    return UnreadableFile(f"“{name}” places its objects more than {_MOST_PLACES:,} times. Export the scan as one.", code="too-many-parts")


def _surface(item: _Object) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """(vertices (n, 3), corners (3m,)) of an object itself."""
    vertices = item.all_vertices if item.all_vertices is not None else np.array(item.vertices).reshape(-1, 3)
    corners = item.all_triangles.ravel() if item.all_triangles is not None else np.array(item.triangles, np.int64)
    if len(corners) and (corners.min() < 0 or corners.max() >= len(vertices)):
        raise ValueError("index out of range")
    return vertices, corners


def _built(name: str, model: _Model, limit: int) -> NDArray[np.float64]:
    """Objects may stand in each other and in many places (section 4.2): what is placed is counted."""
    out: list[NDArray] = []
    total = places = 0
    for item in model.objects.values():
        check_count(name, len(item.triangles) // 3 if item.all_triangles is None else len(item.all_triangles), limit)
    surfaces = {key: _surface(item) for key, item in model.objects.items()}
    roots = model.build or [(key, _matrix(None)) for key in model.objects]
    waiting = [(key, [matrix]) for key, matrix in reversed(roots)]
    while waiting:
        key, matrices = waiting.pop()
        places += 1
        if places > _MOST_PLACES:
            raise _too_many_places(name)
        if len(matrices) > _DEEPEST:
            raise ValueError("components are nested too deep")
        vertices, corners = surfaces[key]
        if len(corners):
            total += len(corners) // 3
            check_count(name, total, limit)
            for m in reversed(matrices):
                vertices = vertices @ m[:3] + m[3]
            out.append(vertices[corners])
        waiting += [(child, [*matrices, matrix]) for child, matrix in reversed(model.objects[key].parts)]
    return np.vstack(out) if out else np.zeros((0, 3))
