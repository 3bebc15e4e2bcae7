"""GLB in: the triangles of every mesh of the scene in its place (Khronos, glTF 2.0 specification)."""

from __future__ import annotations

import json
import struct
from typing import Any

import meshopt
import numpy as np
from numpy.typing import NDArray

from ..errors import UnreadableFile
from .count import check_count

_TYPES = {5120: "i1", 5121: "u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
_WIDTH = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4}
_PACKED = "EXT_meshopt_compression"
_UNDERSTOOD = {_PACKED, "KHR_mesh_quantization", "KHR_materials_unlit", "KHR_texture_transform"}
_DEEPEST = 32


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
    except (ValueError, KeyError, IndexError, TypeError, struct.error, OverflowError, RuntimeError, RecursionError) as error:
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
        if kind == b"JSON":
            document = json.loads(part)
        elif kind == b"BIN\0":
            body = part
        at += 8 + size
    if not isinstance(document, dict):
        raise ValueError("no document")
    return document, body


class _Scene:
    def __init__(self, name: str, document: dict[str, Any], body: bytes, limit: int) -> None:
        self.name, self.document, self.body, self.limit = name, document, body, limit
        self.total = 0

    def soup(self) -> NDArray[np.float64]:
        nodes = self.document.get("nodes", [])
        scenes = self.document.get("scenes")
        roots = scenes[self.document.get("scene", 0)].get("nodes", []) if scenes else range(len(nodes))
        out: list[NDArray] = []
        for root in roots:
            self._node(root, np.eye(4), out, 0)
        return np.vstack(out) if out else np.zeros((0, 3))

    def _node(self, number: int, above: NDArray, out: list[NDArray], depth: int) -> None:
        if depth > _DEEPEST:
            raise ValueError("nodes are nested too deep")
        node = self.document["nodes"][number]
        place = above @ _transform(node)
        if "mesh" in node:
            for part in self.document["meshes"][node["mesh"]]["primitives"]:
                points = self._triangles(part)
                out.append(points @ place[:3, :3].T + place[:3, 3])
        for child in node.get("children", []):
            self._node(child, place, out, depth + 1)

    def _triangles(self, part: dict[str, Any]) -> NDArray[np.float64]:
        mode = part.get("mode", 4)
        if mode not in (4, 5, 6):
            return np.zeros((0, 3))
        vertices = self._accessor(part["attributes"]["POSITION"]).astype(np.float64)
        index = self._accessor(part["indices"]).ravel().astype(np.int64) if "indices" in part else np.arange(len(vertices))
        if mode != 4:
            n = max(len(index) - 2, 0)
            first = index[:n] if mode == 5 else np.full(n, index[0] if len(index) else 0)
            faces = np.stack([first, index[1 : n + 1], index[2:]], axis=1)
            if mode == 5:
                faces[1::2] = faces[1::2][:, [0, 2, 1]]
            index = faces.ravel()
        index = index[: len(index) // 3 * 3]
        self.total += len(index) // 3
        check_count(self.name, self.total, self.limit)
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

    def _view(self, number: int) -> tuple[bytes, int]:
        view = self.document["bufferViews"][number]
        packed = view.get("extensions", {}).get(_PACKED)
        if packed is None:
            at = int(view.get("byteOffset", 0))
            return self._bytes(view["buffer"], at, int(view["byteLength"])), int(view.get("byteStride", 0))
        count, stride = int(packed["count"]), int(packed["byteStride"])
        check_count(self.name, count // 3, self.limit)
        if count < 0 or not 1 <= stride <= 256:
            raise ValueError("packed view")
        source = self._bytes(packed["buffer"], int(packed.get("byteOffset", 0)), int(packed["byteLength"]))
        return bytes(np.asarray(meshopt.decode_gltf_buffer(source, count, stride, packed["mode"]))), stride

    def _bytes(self, buffer: int, at: int, length: int) -> bytes:
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
