"""3MF in: every object that the build holds, in its place, in millimetres (3MF Consortium, Core Specification 1.3)."""

from __future__ import annotations

import io
import posixpath
import xml.parsers.expat
import zipfile
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..errors import UnreadableFile
from .count import check_count
from .threemf import RELATION

# Section 3.4 of the specification.
_UNITS_MM = {"micron": 0.001, "millimeter": 1.0, "centimeter": 10.0, "inch": 25.4, "foot": 304.8, "meter": 1000.0}
_DEEPEST = 8
_MOST_BYTES = 600_000_000


@dataclass
class _Object:
    vertices: list[float] = field(default_factory=list)
    triangles: list[int] = field(default_factory=list)
    parts: list[tuple[str, NDArray]] = field(default_factory=list)


@dataclass
class _Model:
    unit: str = "millimeter"
    objects: dict[str, _Object] = field(default_factory=dict)
    build: list[tuple[str, NDArray]] = field(default_factory=list)


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
        model = _parsed(name, _model_part(data), limit)
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


def _model_part(data: bytes) -> bytes:
    with zipfile.ZipFile(io.BytesIO(data)) as package:
        names = {n.lower(): n for n in package.namelist()}
        path = next(n for n in names.values() if n.lower().endswith(".model"))
        if "_rels/.rels" in names:
            told = _start(package.read(names["_rels/.rels"]))
            if told and told.lstrip("/").lower() in names:
                path = names[posixpath.normpath(told.lstrip("/")).lower()]
        info = package.getinfo(path)
        if info.file_size > _MOST_BYTES:
            raise UnreadableFile("The model inside unpacks to more than 600 MB. Export it again as STL.", code="too-large")
        with package.open(info) as stream:
            text = stream.read(info.file_size + 1)
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

    def start(tag: str, a: dict[str, str]) -> None:
        tag = tag.rsplit(":", 1)[-1]
        if tag == "vertex":
            now[0].vertices += (float(a["x"]), float(a["y"]), float(a["z"]))
        elif tag == "triangle":
            now[0].triangles += (int(a["v1"]), int(a["v2"]), int(a["v3"]))
            if len(now[0].triangles) > 3 * limit:
                check_count(name, len(now[0].triangles) // 3, limit)
        elif tag == "object":
            now[0] = model.objects.setdefault(a["id"], _Object())
        elif tag == "component":
            now[0].parts.append((a["objectid"], _matrix(a.get("transform"))))
        elif tag == "item":
            model.build.append((a["objectid"], _matrix(a.get("transform"))))
        elif tag == "model":
            model.unit = a.get("unit", "millimeter")

    _parser(start).Parse(text, True)
    return model


def _built(name: str, model: _Model, limit: int) -> NDArray[np.float64]:
    out: list[NDArray] = []
    total = 0

    def place(key: str, matrices: list[NDArray]) -> None:
        nonlocal total
        if len(matrices) > _DEEPEST:
            raise ValueError("components are nested too deep")
        item = model.objects[key]
        if item.triangles:
            vertices = np.array(item.vertices, float).reshape(-1, 3)
            faces = np.array(item.triangles, np.int64)
            if faces.min() < 0 or faces.max() >= len(vertices):
                raise ValueError("index out of range")
            for m in reversed(matrices):
                vertices = vertices @ m[:3] + m[3]
            total += len(faces) // 3
            check_count(name, total, limit)
            out.append(vertices[faces])
        for child, matrix in item.parts:
            place(child, [*matrices, matrix])

    for key, matrix in model.build or [(k, _matrix(None)) for k in model.objects]:
        place(key, [matrix])
    return np.vstack(out) if out else np.zeros((0, 3))
