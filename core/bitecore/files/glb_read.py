"""GLB in: the triangles of every mesh of the scene in its place (Khronos, glTF 2.0 specification)."""

from __future__ import annotations

import json
import struct
from typing import Any

import meshopt
import numpy as np
from numpy.typing import NDArray

from ..errors import UnreadableFile
from .count import check_count, check_points

_TYPES = {5120: "i1", 5121: "u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
_WIDTH = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4}
_PACKED = "EXT_meshopt_compression"
_UNDERSTOOD = {_PACKED, "KHR_mesh_quantization", "KHR_materials_unlit", "KHR_texture_transform"}
_MOST_PARTS = 10_000
_LONGEST_DOCUMENT = 20_000_000
_WIDEST_STRIDE = 64


def looks(data: bytes) -> bool:
    return data[:4] == b"glTF"


def read(name: str, data: bytes, limit: int) -> NDArray[np.float64]:
    """(3m, 3) corners in the file's units, which by the specification are metres. Raises UnreadableFile."""
    try:
        document, body = _chunks(data)
        unknown = set(document.get("extensionsRequired", [])) - _UNDERSTOOD
        if unknown:
            raise UnreadableFile(
                f"“{name}” is packed in a way that cannot be read here ({', '.join(sorted(unknown))}). Export it unpacked, or as STL.",
                code="packed",
            )
        soup = _Scene(name, document, body, limit).soup()
    except UnreadableFile:
        raise
    except (
        ValueError,
        KeyError,
        IndexError,
        TypeError,
        struct.error,
        OverflowError,
        AttributeError,
        RuntimeError,
        RecursionError,
    ) as error:
        raise UnreadableFile(f"“{name}” is a GLB that is cut short or damaged. Copy or export it again.", code="truncated-file") from error
    if len(soup) == 0:
        raise UnreadableFile(f"“{name}” holds no triangles. Export the scan again.", code="no-triangles")
    return soup


def _chunks(data: bytes) -> tuple[dict[str, Any], bytes]:
    """Section 4.4: a 12-byte header, a JSON chunk, a BIN chunk."""
    magic, version, length = struct.unpack_from("<4sII", data)
    if magic != b"glTF" or version != 2 or length > len(data):
        raise ValueError("header")
    at, document, body = 12, None, b""
    while at + 8 <= length:
        size, kind = struct.unpack_from("<I4s", data, at)
        part = data[at + 8 : at + 8 + size]
        if len(part) != size:
            raise ValueError("cut short")
        if kind == b"JSON" and size > _LONGEST_DOCUMENT:
            raise ValueError("document")
        if kind == b"JSON":
            document = json.loads(part)
        elif kind == b"BIN\0":
            body = part
        at += 8 + size
    if not isinstance(document, dict):
        raise ValueError("no document")
    return document, body


class _Scene:
    """Nodes are a strict tree (section 3.5.2), so each is walked once; what is read is counted before it is made."""

    def __init__(self, name: str, document: dict[str, Any], body: bytes, limit: int) -> None:
        self.name, self.document, self.body, self.limit = name, document, memoryview(body), limit
        self.triangles = self.points = self.parts = 0
        self.seen: set[int] = set()
        # A file may use what it holds more than once, but not endlessly.
        self.left = 8 * len(body) + 64_000_000

    def soup(self) -> NDArray[np.float64]:
        nodes = self.document.get("nodes", [])
        scenes = self.document.get("scenes")
        roots = scenes[self.document.get("scene", 0)].get("nodes", []) if scenes else self._roots(nodes)
        out: list[NDArray] = []
        waiting = [(root, np.eye(4)) for root in reversed(roots)]
        while waiting:
            number, above = waiting.pop()
            if number in self.seen:
                raise ValueError("a node has two parents")
            self.seen.add(number)
            node = nodes[number]
            place = above @ _transform(node)
            if "mesh" in node:
                out += [points @ place[:3, :3].T + place[:3, 3] for points in self._mesh(node["mesh"])]
            waiting += [(child, place) for child in reversed(node.get("children", []))]
        return np.vstack(out) if out else np.zeros((0, 3))

    @staticmethod
    def _roots(nodes: list[dict[str, Any]]) -> list[int]:
        below = {child for node in nodes for child in node.get("children", [])}
        return [number for number in range(len(nodes)) if number not in below]

    def _mesh(self, number: int) -> list[NDArray]:
        parts = self.document["meshes"][number]["primitives"]
        self.parts += len(parts)
        if self.parts > _MOST_PARTS:
            text = f"“{self.name}” is made of more than {_MOST_PARTS:,} parts. Export the scan as one surface."
            raise UnreadableFile(text, code="too-many-parts")
        return [self._triangles(part) for part in parts]

    def _spend(self, size: int) -> None:
        self.left -= size
        if self.left < 0:
            raise UnreadableFile(f"“{self.name}” uses the same data over and over. Export the scan as one surface.", code="too-large")

    def _triangles(self, part: dict[str, Any]) -> NDArray[np.float64]:
        mode = part.get("mode", 4)
        if mode not in (4, 5, 6):
            return np.zeros((0, 3))
        vertices = self._accessor(part["attributes"]["POSITION"]).astype(np.float64)
        self.points += len(vertices)
        check_points(self.name, self.points, self.limit)
        index = self._accessor(part["indices"]).ravel().astype(np.int64) if "indices" in part else np.arange(len(vertices))
        if mode != 4:
            n = max(len(index) - 2, 0)
            first = index[:n] if mode == 5 else np.full(n, index[0] if len(index) else 0)
            faces = np.stack([first, index[1 : n + 1], index[2:]], axis=1)
            if mode == 5:
                faces[1::2] = faces[1::2][:, [0, 2, 1]]
            index = faces.ravel()
        index = index[: len(index) // 3 * 3]
        self.triangles += len(index) // 3
        check_count(self.name, self.triangles, self.limit)
        if len(index) and (index.min() < 0 or index.max() >= len(vertices)):
            raise ValueError("index out of range")
        return vertices[index]

    def _accessor(self, number: int) -> NDArray:
        a = self.document["accessors"][number]
        dtype, width, count = np.dtype(_TYPES[a["componentType"]]), _WIDTH[a["type"]], int(a["count"])
        if count < 0 or "sparse" in a:
            raise ValueError("accessor")
        # Three indices, or at most three corners, a triangle: said before anything of that size is made.
        check_count(self.name, count // 3, self.limit)
        self._spend(count * width * dtype.itemsize)
        if "bufferView" not in a:
            return np.zeros((count, width), dtype)
        data, stride = self._view(a["bufferView"])
        stride = stride or dtype.itemsize * width
        at = int(a.get("byteOffset", 0))
        if at < 0 or at + (count - 1) * stride + dtype.itemsize * width > len(data) or stride < dtype.itemsize * width:
            raise ValueError("cut short")
        rows = np.lib.stride_tricks.as_strided(np.frombuffer(data, np.uint8, offset=at), (count, dtype.itemsize * width), (stride, 1))
        values = np.ascontiguousarray(rows).view(dtype).reshape(count, width)
        if a.get("normalized") and dtype.kind in "iu":
            values = np.maximum(values / np.iinfo(dtype).max, -1.0)
        return values

    def _view(self, number: int) -> tuple[memoryview | bytes, int]:
        view = self.document["bufferViews"][number]
        packed = view.get("extensions", {}).get(_PACKED)
        if packed is None:
            at = int(view.get("byteOffset", 0))
            return self._bytes(view["buffer"], at, int(view["byteLength"])), int(view.get("byteStride", 0))
        count, stride = int(packed["count"]), int(packed["byteStride"])
        check_count(self.name, count // 3, self.limit)
        if count < 0 or not 1 <= stride <= _WIDEST_STRIDE:
            raise ValueError("packed view")
        source = bytes(self._bytes(packed["buffer"], int(packed.get("byteOffset", 0)), int(packed["byteLength"])))
        self._spend(len(source) + count * stride)
        return bytes(np.asarray(meshopt.decode_gltf_buffer(source, count, stride, packed["mode"]))), stride

    def _bytes(self, buffer: int, at: int, length: int) -> memoryview:
        if buffer != 0 or "uri" in self.document["buffers"][0] or at < 0 or length < 0 or at + length > len(self.body):
            raise ValueError("data outside of the file")
        return self.body[at : at + length]


def _transform(node: dict[str, Any]) -> NDArray[np.float64]:
    """Section 3.5.3: a column-major matrix, or scale, then rotation (quaternion x y z w), then translation."""
    if "matrix" in node:
        return np.array(node["matrix"], float).reshape(4, 4).T
    out = np.eye(4)
    x, y, z, w = (float(q) for q in node.get("rotation", (0, 0, 0, 1)))
    out[:3, :3] = [
        [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
        [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
        [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
    ]
    out[:3, :3] *= np.array([float(s) for s in node.get("scale", (1, 1, 1))])
    out[:3, 3] = [float(t) for t in node.get("translation", (0, 0, 0))]
    return out
