"""PLY in (ASCII, binary of either byte order) and out (binary little endian).

Header of elements and properties, then the values in the order declared (Turk, The PLY Polygon File Format, 1994).
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..errors import UnreadableFile
from ..mesh import Mesh
from .count import check_count

TYPES = {
    "char": "i1", "int8": "i1", "uchar": "u1", "uint8": "u1",
    "short": "i2", "int16": "i2", "ushort": "u2", "uint16": "u2",
    "int": "i4", "int32": "i4", "uint": "u4", "uint32": "u4",
    "float": "f4", "float32": "f4", "double": "f8", "float64": "f8",
}  # fmt: skip


@dataclass
class Element:
    name: str
    count: int
    # (property, value type, type of the list's length or None)
    properties: list[tuple[str, str, str | None]] = field(default_factory=list)


def read(name: str, data: bytes, limit: int) -> NDArray[np.float64]:
    """(3m, 3) corners of the faces, polygons cut into fans. Raises UnreadableFile."""
    try:
        return _read(name, data, limit)
    except UnreadableFile:
        raise
    except (ValueError, KeyError, IndexError, UnicodeDecodeError, OverflowError) as error:
        raise UnreadableFile(f"“{name}” is a PLY that is cut short or damaged. Copy or export it again.", code="truncated-file") from error


def _read(name: str, data: bytes, limit: int) -> NDArray[np.float64]:
    form, elements, at = _header(data)
    vertices: NDArray | None = None
    faces: NDArray | None = None
    words = data[at:].split() if form == "ascii" else []
    word = 0
    for element in elements:
        if element.name == "face":
            check_count(name, element.count, limit)
        if form == "ascii":
            table, lists, word = _ascii(words, word, element)
        else:
            table, lists, at = _binary(data, at, element, "<" if form == "binary_little_endian" else ">")
        if element.name == "vertex":
            vertices = np.stack([np.asarray(table[axis], np.float64) for axis in "xyz"], axis=1)
        if element.name == "face":
            faces = lists
    if vertices is None or faces is None or len(faces) == 0:
        raise UnreadableFile(f"“{name}” holds points without triangles. Export the scan as a surface.", code="no-triangles")
    check_count(name, len(faces), limit)
    if faces.min() < 0 or faces.max() >= len(vertices):
        raise ValueError("index out of range")
    return vertices[faces.ravel()]


def _header(data: bytes) -> tuple[str, list[Element], int]:
    end = data.index(b"end_header")
    at = data.index(b"\n", end) + 1
    form, elements = "", []
    for line in data[:end].decode("ascii", "replace").splitlines()[1:]:
        part = line.split()
        if not part or part[0] in ("comment", "obj_info"):
            continue
        if part[0] == "format":
            form = part[1]
        elif part[0] == "element":
            elements.append(Element(part[1], int(part[2])))
        elif part[0] == "property" and part[1] == "list":
            elements[-1].properties.append((part[4], TYPES[part[3]], TYPES[part[2]]))
        elif part[0] == "property":
            elements[-1].properties.append((part[2], TYPES[part[1]], None))
    if form not in ("ascii", "binary_little_endian", "binary_big_endian"):
        raise ValueError("unknown form")
    return form, elements, at


def _fan(polygon: NDArray) -> NDArray:
    n = len(polygon)
    return np.stack([np.repeat(polygon[0], n - 2), polygon[1:-1], polygon[2:]], axis=1)


def _binary(data: bytes, at: int, element: Element, order: str) -> tuple[dict, NDArray | None, int]:
    fields: list = []
    for prop, value, length in element.properties:
        if length is None:
            fields.append((prop, order + value))
        else:
            # Nearly all lists are triangles: read them as records and check.
            fields += [(prop + ":n", order + length), (prop, order + value, 3)]
    dtype = np.dtype(fields)
    lists = [p for p, _, length in element.properties if length is not None]
    if not lists:
        table = np.frombuffer(data, dtype, element.count, at)
        return {p: table[p] for p, _, _ in element.properties}, None, at + dtype.itemsize * element.count
    if at + dtype.itemsize * element.count <= len(data):
        table = np.frombuffer(data, dtype, element.count, at)
        if all((table[p + ":n"] == 3).all() for p in lists):
            return {}, table[lists[0]].astype(np.int64), at + dtype.itemsize * element.count
    return _binary_slow(data, at, element, order)


def _binary_slow(data: bytes, at: int, element: Element, order: str) -> tuple[dict, NDArray, int]:
    out: list[NDArray] = []
    for _ in range(element.count):
        taken = False
        for _, value, length in element.properties:
            n = 1
            if length is not None:
                n = int(np.frombuffer(data, order + length, 1, at)[0])
                at += np.dtype(length).itemsize
            row = np.frombuffer(data, order + value, n, at)
            at += np.dtype(value).itemsize * n
            if length is not None and not taken and n >= 3:
                out.append(_fan(row.astype(np.int64)))
                taken = True
    return {}, np.vstack(out) if out else np.zeros((0, 3), np.int64), at


def _ascii(words: list[bytes], at: int, element: Element) -> tuple[dict, NDArray | None, int]:
    if all(length is None for _, _, length in element.properties):
        k = len(element.properties)
        end = at + k * element.count
        if end > len(words):
            raise ValueError("cut short")
        block = np.array(words[at:end], dtype="S32").astype(np.float64).reshape(-1, k)
        return {p: block[:, i] for i, (p, _, _) in enumerate(element.properties)}, None, end
    out: list[NDArray] = []
    for _ in range(element.count):
        taken = False
        for _, _, length in element.properties:
            n = int(words[at]) if length is not None else 1
            at += length is not None
            if length is not None and not taken and n >= 3:
                out.append(_fan(np.array(words[at : at + n], dtype="S16").astype(np.int64)))
                taken = True
            at += n
    if at > len(words):
        raise ValueError("cut short")
    return {}, np.vstack(out) if out else np.zeros((0, 3), np.int64), at


def write(mesh: Mesh, colours: NDArray[np.uint8] | None = None) -> bytes:
    """Binary little-endian PLY: float64 vertices, triangles; colours (n, 3) where there are any."""
    fields: list = [("xyz", "<f8", 3)]
    head = "property double x\nproperty double y\nproperty double z\n"
    if colours is not None:
        fields.append(("rgb", "u1", 3))
        head += "property uchar red\nproperty uchar green\nproperty uchar blue\n"
    vertex = np.zeros(len(mesh.vertices_mm), np.dtype(fields))
    vertex["xyz"] = mesh.vertices_mm
    if colours is not None:
        vertex["rgb"] = colours
    face = np.zeros(mesh.triangles, np.dtype([("n", "u1"), ("v", "<i4", 3)]))
    face["n"], face["v"] = 3, mesh.faces
    text = (
        f"ply\nformat binary_little_endian 1.0\ncomment Bite Bench\nelement vertex {len(vertex)}\n{head}"
        f"element face {mesh.triangles}\nproperty list uchar int vertex_indices\nend_header\n"
    )
    return text.encode() + vertex.tobytes() + face.tobytes()
