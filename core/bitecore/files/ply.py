"""PLY in (ASCII, binary of either byte order) and out (binary little endian).

Header of elements and properties, then the values in the order declared (Turk, The PLY Polygon File Format, 1994).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numba as nb
import numpy as np
from numpy.typing import NDArray

from ..errors import UnreadableFile
from ..mesh import Mesh
from .count import check_count, check_points
from .numbers import BAD, LATER, decimal, read_later, whole, word

_LONGEST_HEADER = 100_000
_RGB = ("red", "green", "blue")

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

    @property
    def columns(self) -> dict[str, int]:
        return {name: place for place, (name, _, _) in enumerate(self.properties)}

    @property
    def polygon(self) -> int:
        """Which property lists a face's vertices: the one called so, else the first list; -1 where there is none."""
        lists = [i for i, (_, value, length) in enumerate(self.properties) if length is not None and value[0] != "f"]
        called = [i for i in lists if self.properties[i][0] in ("vertex_indices", "vertex_index")]
        return [*called, *lists, -1][0]


def read(name: str, data: bytes, limit: int) -> NDArray[np.float64]:
    """(3m, 3) corners of the faces, polygons cut into fans. Raises UnreadableFile."""
    try:
        return _read(name, data, limit)
    except UnreadableFile:
        raise
    except (ValueError, KeyError, IndexError, UnicodeDecodeError, OverflowError) as error:
        raise UnreadableFile(f"“{name}” is a PLY that is cut short or damaged. Copy or export it again.", code="truncated-file") from error


def _read(name: str, data: bytes, limit: int) -> NDArray[np.float64]:
    elements, body = _opened(data, limit)
    vertices: NDArray | None = None
    faces: NDArray | None = None
    for element in elements:
        if element.name == "face":
            check_count(name, element.count, limit)
        if element.name == "vertex":
            check_points(name, element.count, limit)
        if element.count > body.most_rows(element):
            raise ValueError("more is promised than the file can hold")
        if element.name == "vertex":
            vertices = body.points(element)
        else:
            lists = body.faces(element)
            faces = lists if element.name == "face" else faces
    if vertices is None or faces is None or len(faces) == 0:
        raise UnreadableFile(f"“{name}” holds points without triangles. Export the scan as a surface.", code="no-triangles")
    check_count(name, len(faces), limit)
    if faces.min() < 0 or faces.max() >= len(vertices):
        raise ValueError("index out of range")
    return vertices[faces.ravel()]


def face_colours(data: bytes) -> NDArray[np.uint8] | None:
    """(m, 3) of each triangle in the order of `read`, the mean of its corners; None where vertices have none. Of a file that was read."""
    elements, body = _opened(data, 10**9)
    if not any(e.name == "vertex" and all(c in e.columns for c in _RGB) for e in elements):
        return None
    colours, faces = np.zeros((0, 3)), np.zeros((0, 3), np.int64)
    for element in elements:
        if element.name == "vertex":
            colours = body.points(element, _RGB)
            value = next(v for n, v, _ in element.properties if n == "red")
            colours = colours * (255.0 if value[0] == "f" else 1.0 if value == "u1" else 255.0 / 65535.0)
        else:
            lists = body.faces(element)
            faces = lists if element.name == "face" else faces
    return np.clip(np.nan_to_num(np.rint(colours[faces].mean(1))), 0, 255).astype(np.uint8)


def _opened(data: bytes, limit: int) -> tuple[list[Element], _Text | _Binary]:
    form, elements, at = _header(data)
    body = _Text(data, at, limit) if form == "ascii" else _Binary(data, at, limit, form == "binary_big_endian")
    return elements, body


def _header(data: bytes) -> tuple[str, list[Element], int]:
    end = data.index(b"end_header", 0, _LONGEST_HEADER)
    at = data.index(b"\n", end, end + 80) + 1
    form, elements = "", []
    for line in data[:end].decode("ascii", "replace").splitlines()[1:]:
        part = line.split()
        if not part or part[0] in ("comment", "obj_info"):
            continue
        if part[0] == "format":
            form = part[1]
        elif part[0] == "element":
            elements.append(Element(part[1], int(part[2])))
            if elements[-1].count < 0:
                raise ValueError("a count below nought")
        elif part[0] == "property" and part[1] == "list":
            elements[-1].properties.append((part[4], TYPES[part[3]], TYPES[part[2]]))
        elif part[0] == "property":
            elements[-1].properties.append((part[2], TYPES[part[1]], None))
    if form not in ("ascii", "binary_little_endian", "binary_big_endian"):
        raise ValueError("unknown form")
    return form, elements, at


class _Binary:
    """The values after a binary header."""

    def __init__(self, data: bytes, at: int, limit: int, big: bool) -> None:
        self.data, self.bytes, self.at, self.limit, self.big = data, np.frombuffer(data, np.uint8), at, limit, big

    def most_rows(self, element: Element) -> int:
        least = sum(np.dtype(length or value).itemsize for _, value, length in element.properties)
        return (len(self.data) - self.at) // least if least else element.count

    def points(self, element: Element, names: Sequence[str] = "xyz") -> NDArray[np.float64]:
        """(n, 3), of an element of plain numbers. names : of three properties."""
        if any(length is not None for _, _, length in element.properties):
            raise ValueError("a vertex with a list")
        order = ">" if self.big else "<"
        table = np.frombuffer(self.data, np.dtype([(p, order + value) for p, value, _ in element.properties]), element.count, self.at)
        self.at += table.dtype.itemsize * element.count
        return np.stack([np.asarray(table[axis], np.float64) for axis in names], axis=1)

    def faces(self, element: Element) -> NDArray[np.int64]:
        """(m, 3): fans of an element's lists; of one without lists nothing, but it is passed over."""
        triangles = self._triangles(element)
        if triangles is not None:
            return triangles
        fields = np.array([[np.dtype(v).itemsize, 0 if n is None else np.dtype(n).itemsize] for _, v, n in element.properties], np.int64)
        signed = np.array([[v[0] == "i", (n or "u")[0] == "i"] for _, v, n in element.properties], np.bool_)
        if any(length is not None and length[0] == "f" for _, _, length in element.properties):
            raise ValueError("a length that is no whole number")
        args = (self.bytes, self.at, element.count, fields.reshape(-1, 2), signed.reshape(-1, 2), element.polygon, self.big)
        count, after = _binary_lists(*args, np.zeros((0, 3), np.int64), self.limit)
        out = np.empty((count, 3), np.int64)
        _binary_lists(*args, out, self.limit)
        self.at = after
        return out

    def _triangles(self, element: Element) -> NDArray[np.int64] | None:
        """Nearly all faces are triangles: they are records then, read in one go."""
        order, fields = ">" if self.big else "<", list[tuple[str, str, int]]()
        for place, (_, value, length) in enumerate(element.properties):
            fields += [(f"n{place}", order + length, 1)] if length else []
            fields.append((f"v{place}", order + value, 3 if length else 1))
        dtype = np.dtype(fields)
        if element.polygon < 0 or self.at + dtype.itemsize * element.count > len(self.data):
            return None
        table = np.frombuffer(self.data, dtype, element.count, self.at)
        if not all((table[name] == 3).all() for name in dtype.names or () if name[0] == "n"):
            return None
        self.at += dtype.itemsize * element.count
        return table[f"v{element.polygon}"].astype(np.int64)


class _Text:
    """The values after a header of the text form."""

    def __init__(self, data: bytes, at: int, limit: int) -> None:
        self.text, self.at, self.limit = np.frombuffer(data, np.uint8), at, limit

    def most_rows(self, element: Element) -> int:
        # A word and the blank after it are two bytes at least; the last has none.
        return (len(self.text) - self.at + 1) // (2 * len(element.properties)) if element.properties else element.count

    def points(self, element: Element, names: Sequence[str] = "xyz") -> NDArray[np.float64]:
        if any(length is not None for _, _, length in element.properties):
            raise ValueError("a vertex with a list")
        column = element.columns
        places = np.array([column[axis] for axis in names], np.int64)
        out, spans = np.empty((element.count, 3)), np.empty((3 * element.count, 3), np.int64)
        later, self.at = _text_points(self.text, self.at, len(element.properties), places, out, spans)
        if later < 0:
            raise ValueError("cut short, or not a number")
        read_later(self.text, spans[:later], out)
        return out

    def faces(self, element: Element) -> NDArray[np.int64]:
        is_list = np.array([length is not None for _, _, length in element.properties], np.bool_)
        args = (self.text, self.at, element.count, is_list, element.polygon)
        count, after = _text_lists(*args, np.zeros((0, 3), np.int64), self.limit)
        out = np.empty((count, 3), np.int64)
        _text_lists(*args, out, self.limit)
        self.at = after
        return out


@nb.njit(cache=True)
def _integer(data, at, size, signed, big):
    value = 0
    for i in range(size):
        value = value * 256 + int(data[at + (i if big else size - 1 - i)])
    return value - (1 << (8 * size)) if signed and value >> (8 * size - 1) else value


@nb.njit(cache=True)
def _binary_lists(data, at, count, fields, signed, polygon, big, out, limit):
    """(triangles, where it ends); they are written where out has room. Raises ValueError where the data breaks off."""
    end, found = len(data), 0
    for _ in range(count if len(fields) else 0):
        for p in range(len(fields)):
            size, length = fields[p]
            n = 1
            if length:
                if at + length > end:
                    raise ValueError("cut short")
                n = _integer(data, at, length, signed[p, 1], big)
                at += length
            if n < 0 or n > (end - at) // size:
                raise ValueError("cut short")
            if p == polygon:
                if n - 2 > limit - found:
                    return limit + 1, at
                for i in range(2, n):
                    if found < len(out):
                        out[found, 0] = _integer(data, at, size, signed[p, 0], big)
                        out[found, 1] = _integer(data, at + (i - 1) * size, size, signed[p, 0], big)
                        out[found, 2] = _integer(data, at + i * size, size, signed[p, 0], big)
                    found += 1
            at += n * size
    return found, at


@nb.njit(cache=True)
def _text_points(text, at, columns, places, out, spans):
    """(numbers left for later or -1, where it ends)."""
    later = 0
    for row in range(len(out)):
        for column in range(columns):
            begin, after = word(text, at)
            if begin == after:
                return -1, at
            for k in range(3):
                if places[k] == column:
                    out[row, k], stop, how = decimal(text, begin, after)
                    if how == BAD or stop != after:
                        return -1, at
                    if how == LATER:
                        spans[later, 0], spans[later, 1], spans[later, 2] = 3 * row + k, begin, after
                        later += 1
            at = after
    return later, at


@nb.njit(cache=True)
def _text_lists(text, at, count, is_list, polygon, out, limit):
    """As _binary_lists, of words."""
    found = 0
    for _ in range(count if len(is_list) else 0):
        for p in range(len(is_list)):
            n = 1
            if is_list[p]:
                begin, at = word(text, at)
                n, stop, good = whole(text, begin, at)
                if not good or stop != at or n < 0 or n > len(text) - at:
                    raise ValueError("cut short")
            if p == polygon and n - 2 > limit - found:
                return limit + 1, at
            first, last = 0, 0
            for i in range(n):
                begin, at = word(text, at)
                if begin == at:
                    raise ValueError("cut short")
                if p != polygon:
                    continue
                index, stop, good = whole(text, begin, at)
                if not good or stop != at:
                    raise ValueError("not a whole number")
                if i >= 2:
                    if found < len(out):
                        out[found, 0], out[found, 1], out[found, 2] = first, last, index
                    found += 1
                first = index if i == 0 else first
                last = index
    return found, at


def write(mesh: Mesh, colours: NDArray[np.uint8] | None = None, *, labels: tuple[str, NDArray[np.int16]] | None = None) -> bytes:
    """Binary little-endian PLY: float64 vertices, triangles; colours (n, 3) where there are any; labels : a name and a whole number
    for each face, as a property short of it."""
    fields: list = [("xyz", "<f8", 3)]
    head = "property double x\nproperty double y\nproperty double z\n"
    if colours is not None:
        fields.append(("rgb", "u1", 3))
        head += "property uchar red\nproperty uchar green\nproperty uchar blue\n"
    vertex = np.zeros(len(mesh.vertices_mm), np.dtype(fields))
    vertex["xyz"] = mesh.vertices_mm
    if colours is not None:
        vertex["rgb"] = colours
    face_fields: list = [("n", "u1"), ("v", "<i4", 3)]
    if labels is not None:
        face_fields.append(("label", "<i2"))
    face = np.zeros(mesh.triangles, np.dtype(face_fields))
    face["n"], face["v"] = 3, mesh.faces
    if labels is not None:
        face["label"] = labels[1]
    more = f"property short {labels[0]}\n" if labels is not None else ""
    text = (
        f"ply\nformat binary_little_endian 1.0\ncomment Bite Bench\nelement vertex {len(vertex)}\n{head}"
        f"element face {mesh.triangles}\nproperty list uchar int vertex_indices\n{more}end_header\n"
    )
    return text.encode() + vertex.tobytes() + face.tobytes()
