"""GLB out, for the stage: positions float32, normals int8, shade uint8, packed with EXT_meshopt_compression.

Container: Khronos glTF 2.0, binary form; KHR_mesh_quantization for the normals.
"""

from __future__ import annotations

import json
import struct
from typing import Any

import meshopt
import numpy as np
from numpy.typing import NDArray

_EXT = "EXT_meshopt_compression"


def write(positions: NDArray, normals: NDArray, colours: NDArray, faces: NDArray, *, extras: dict | None = None) -> bytes:
    """positions (n, 3) mm; normals (n, 3) unit; colours (n, 4) uint8; faces (m, 3). extras go into the mesh."""
    n = len(positions)
    packed = np.zeros((n, 4), np.int8)
    packed[:, :3] = np.rint(normals * 127)
    p = np.ascontiguousarray(positions, "<f4")
    streams: list[tuple[bytes, int, int, str]] = [
        (meshopt.encode_gltf_buffer(p, "ATTRIBUTES", 0), n, 12, "ATTRIBUTES"),
        (meshopt.encode_gltf_buffer(packed, "ATTRIBUTES", 0), n, 4, "ATTRIBUTES"),
        (meshopt.encode_gltf_buffer(np.ascontiguousarray(colours, np.uint8), "ATTRIBUTES", 0), n, 4, "ATTRIBUTES"),
        (meshopt.encode_gltf_buffer(np.ascontiguousarray(faces, "<u4"), "TRIANGLES"), faces.size, 4, "TRIANGLES"),
    ]
    views: list[dict[str, Any]] = []
    body, plain = b"", 0
    for data, count, stride, mode in streams:
        size = count * stride
        view: dict[str, Any] = {"buffer": 1, "byteOffset": plain, "byteLength": size, "target": 34963 if mode == "TRIANGLES" else 34962}
        packed_at = {"buffer": 0, "byteOffset": len(body), "byteLength": len(data)}
        view["extensions"] = {_EXT: {**packed_at, "byteStride": stride, "mode": mode, "count": count}}
        if mode == "ATTRIBUTES":
            view["byteStride"] = stride
        views.append(view)
        body += data + b"\0" * (-len(data) % 4)
        plain += size
    return _container(_document(p, n, faces.size, views, len(body), plain, extras or {}), body)


def _document(p: NDArray, n: int, indices: int, views: list, packed: int, plain: int, extras: dict) -> dict:
    low = p.min(0).tolist() if n else [0, 0, 0]
    high = p.max(0).tolist() if n else [0, 0, 0]
    used = [_EXT, "KHR_mesh_quantization"]
    return {
        "asset": {"version": "2.0", "generator": "Bite Bench"},
        "extensionsUsed": used,
        "extensionsRequired": used,
        "scene": 0,
        "scenes": [{"nodes": [0]}],
        "nodes": [{"mesh": 0}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0, "NORMAL": 1, "COLOR_0": 2}, "indices": 3}], "extras": extras}],
        "buffers": [{"byteLength": packed}, {"byteLength": plain, "extensions": {_EXT: {"fallback": True}}}],
        "bufferViews": views,
        "accessors": [
            {"bufferView": 0, "componentType": 5126, "count": n, "type": "VEC3", "min": low, "max": high},
            {"bufferView": 1, "componentType": 5120, "count": n, "type": "VEC3", "normalized": True},
            {"bufferView": 2, "componentType": 5121, "count": n, "type": "VEC4", "normalized": True},
            {"bufferView": 3, "componentType": 5125, "count": indices, "type": "SCALAR"},
        ],
    }


def _container(document: dict, body: bytes) -> bytes:
    text = json.dumps(document, separators=(",", ":")).encode()
    text += b" " * (-len(text) % 4)
    size = 12 + 8 + len(text) + 8 + len(body)
    head = struct.pack("<4sII", b"glTF", 2, size)
    return head + struct.pack("<I4s", len(text), b"JSON") + text + struct.pack("<I4s", len(body), b"BIN\0") + body
