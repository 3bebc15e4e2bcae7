"""Files made to hang, swell or break a reader, in a few bytes each."""

from __future__ import annotations

import io
import json
import struct
import zipfile

import numpy as np

from bitecore.files import stl
from tests.broken import _3mf, _glb
from tests.core.test_files import zipped
from tests.shapes import sphere

_TRIANGLE = struct.pack("<9f", 0, 0, 0, 1, 0, 0, 0, 1, 0)
GOOD = stl.write_binary(sphere(6.0, 12))


def _junk_ply(form: bytes) -> bytes:
    return b"ply\nformat " + form + b" 1.0\nelement junk 1000000000000\nproperty list char int foo\nend_header\n"


def _long_rows() -> bytes:
    """As many empty rows as the bytes allow, and a face list far longer than a scan may be."""
    head = b"ply\nformat binary_little_endian 1.0\nelement vertex 1\nproperty uchar x\nproperty uchar y\nproperty uchar z\n"
    head += b"element junk 20000000\nproperty list uchar uchar a\nelement face 1\nproperty list uint uchar vertex_indices\nend_header\n"
    return head + b"\0" * 3 + b"\0" * 20_000_000 + struct.pack("<I", 9_000_000) + b"\0" * 9_000_000


def doubled_glb(levels: int = 30) -> bytes:
    """Every node has the next one twice as its child: 2**levels triangles in a few hundred bytes."""
    nodes: list[dict] = [{"children": [i + 1, i + 1]} for i in range(levels)] + [{"mesh": 0}]
    document = {
        "asset": {"version": "2.0"}, "scenes": [{"nodes": [0]}], "nodes": nodes,
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}],
        "accessors": [{"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3"}],
        "bufferViews": [{"buffer": 0, "byteLength": 36}], "buffers": [{"byteLength": 36}],
    }  # fmt: skip
    return _glb(document, _TRIANGLE)


def many_parts_glb() -> bytes:
    """A thousand nodes that each show a mesh of a thousand parts without triangles, over the same long accessor."""
    part = {"attributes": {"POSITION": 0}, "indices": 1}
    document = {
        "asset": {"version": "2.0"}, "scenes": [{"nodes": list(range(1000))}], "nodes": [{"mesh": 0}] * 1000,
        "meshes": [{"primitives": [part] * 1000}],
        "accessors": [{"componentType": 5126, "count": 100_000, "type": "VEC3"}, {"componentType": 5121, "count": 0, "type": "SCALAR"}],
        "bufferViews": [], "buffers": [{"byteLength": 36}],
    }  # fmt: skip
    return _glb(document, _TRIANGLE)


def nested_3mf(levels: int = 7, each: int = 40) -> bytes:
    """Every object is made of the next one many times."""
    parts = "".join(
        f'<object id="{i}"><components>{f"<component objectid={chr(34)}{i + 1}{chr(34)}/>" * each}</components></object>'
        for i in range(1, levels)
    )
    last = (
        f'<object id="{levels}"><mesh><vertices><vertex x="0" y="0" z="0"/><vertex x="1" y="0" z="0"/><vertex x="0" y="1" z="0"/>'
        '</vertices><triangles><triangle v1="0" v2="1" v3="2"/></triangles></mesh></object>'
    )
    return _3mf(f'<?xml version="1.0"?><model><resources>{parts}{last}</resources><build><item objectid="1"/></build></model>'.encode())


def bomb_zip(name: str, size: int, line: bytes) -> bytes:
    """A member that packs to almost nothing."""
    return zipped((name, line * (size // len(line))))


def _many_members() -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for i in range(25_000):
            archive.writestr(f"{i}.stl", b"")
    return out.getvalue()


def _damaged_deflate() -> bytes:
    data = bytearray(zipped(("u.stl", GOOD)))
    data[200:260] = bytes(60)
    return bytes(data)


def _huge_json() -> bytes:
    return _glb({"asset": {"version": "2.0"}, "nodes": [{"children": []}] * 1_200_000})


def _deep_json() -> bytes:
    text = b'{"nodes":' + b"[" * 100_000 + b"]" * 100_000 + b"}"
    text += b" " * (-len(text) % 4)
    return struct.pack("<4sII", b"glTF", 2, 20 + len(text)) + struct.pack("<I4s", len(text), b"JSON") + text


def _wide_view() -> bytes:
    """A packed view that promises a great deal."""
    view = {
        "extensions": {
            "EXT_meshopt_compression": {"buffer": 0, "byteLength": 36, "byteStride": 256, "count": 4_000_000, "mode": "ATTRIBUTES"}
        }
    }
    document = {
        "asset": {"version": "2.0"}, "scenes": [{"nodes": [0]}], "nodes": [{"mesh": 0}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}],
        "accessors": [{"bufferView": 0, "componentType": 5126, "count": 4_000_000, "type": "VEC3"}],
        "bufferViews": [view], "buffers": [{"byteLength": 36}],
    }  # fmt: skip
    return _glb(document, _TRIANGLE)


def _points_obj() -> bytes:
    return b"v 0 0 0\n" * 5_000_000 + b"f 1 2 3\n"


def _fan_obj() -> bytes:
    return b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf" + b" 1 2" * 1_000_000 + b"\n"


def _long_words() -> bytes:
    return b"v " + b"9" * 5_000_000 + b" 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"


HOSTILE: dict[str, bytes] = {
    "junk-text.ply": _junk_ply(b"ascii"),
    "junk-binary.ply": _junk_ply(b"binary_little_endian"),
    "below-nought.ply": b"ply\nformat ascii 1.0\nelement face -5\nproperty list char int v\nend_header\n1\n",
    "endless-header.ply": b"ply\nformat ascii 1.0\n" + b"comment x\n" * 300_000,
    "long-rows.ply": _long_rows(),
    "doubled.glb": doubled_glb(),
    "many-parts.glb": many_parts_glb(),
    "huge-document.glb": _huge_json(),
    "deep-document.glb": _deep_json(),
    "wide-view.glb": _wide_view(),
    "nested.3mf": nested_3mf(),
    "points.obj": _points_obj(),
    "fan.obj": _fan_obj(),
    "long-words.obj": _long_words(),
    "many-members.zip": _many_members(),
    "damaged-deflate.zip": _damaged_deflate(),
    "text.zip": bomb_zip("a.obj", 100_000_000, b"v 0 0 0\n"),
    "surrogates.glb": _glb({"asset": {"version": "2.0"}, "extensionsRequired": ["\ud800"]}),
    "lone.ply": b"ply\nformat ascii 1.0\nelement vertex 3\nproperty list uchar float x\nend_header\n1 1 1",
    "word.json.glb": struct.pack("<4sII", b"glTF", 2, 32) + struct.pack("<I4s", 12, b"JSON") + json.dumps([1, 2, 3]).encode().ljust(12),
    "no-numbers.stl": b"solid a\nfacet normal 0 0 1\nouter loop\n" + b"vertex 1 2\n" * 3 + b"endloop\nendfacet\nendsolid a\n",
}
BIG = np.iinfo(np.int64).max
