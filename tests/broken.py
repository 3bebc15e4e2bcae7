"""Files that cannot be used, at least one of every kind that turned up or can be thought of."""

from __future__ import annotations

import json
import struct

import numpy as np

from bitecore.files import ply, stl
from tests.core.test_files import zipped
from tests.shapes import sphere

BALL = sphere(6.0, 12)
GOOD = stl.write_binary(BALL)


def _nan() -> bytes:
    record = np.frombuffer(bytearray(GOOD), stl.RECORD, offset=84).copy()
    record["corner"][:] = np.nan
    return GOOD[:84] + record.tobytes()


def _flat() -> bytes:
    record = np.frombuffer(bytearray(GOOD), stl.RECORD, offset=84).copy()
    record["corner"][:] = 1.0
    return GOOD[:84] + record.tobytes()


def _lying_zip() -> bytes:
    data = bytearray(zipped(("u.stl", GOOD)))
    struct.pack_into("<I", data, data.rindex(b"PK\x01\x02") + 24, 50)
    return bytes(data)


def _locked_zip() -> bytes:
    data = bytearray(zipped(("u.stl", GOOD)))
    for mark, at in ((b"PK\x03\x04", 6), (b"PK\x01\x02", 8)):
        data[data.index(mark) + at] |= 1
    return bytes(data)


def _glb(document: dict, body: bytes = b"") -> bytes:
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    size = 12 + 8 + len(text) + 8 + len(body)
    return struct.pack("<4sIIII", b"glTF", 2, size, len(text), 0x4E4F534A) + text + struct.pack("<II", len(body), 0x004E4942) + body


def _3mf(model: bytes) -> bytes:
    return zipped(("[Content_Types].xml", b"<Types/>"), ("3D/a.model", model))


_PLY_HEAD = b"ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\n"
_NO_POSITION = _glb(
    {"asset": {"version": "2.0"}, "scenes": [{"nodes": [0]}], "nodes": [{"mesh": 0}], "meshes": [{"primitives": [{"attributes": {}}]}]}
)
_LOOP = _glb({"asset": {"version": "2.0"}, "scenes": [{"nodes": [0]}], "nodes": [{"children": [0]}]})
_NESTED = zipped(("inner.zip", zipped(("u.stl", GOOD))))

BROKEN: dict[str, bytes] = {
    "empty.stl": b"",
    "one-byte.stl": b"s",
    "cut-header.stl": GOOD[:60],
    "cut-in-the-middle.stl": GOOD[: len(GOOD) // 2],
    "no-triangles.stl": GOOD[:80] + struct.pack("<I", 0),
    "only-nan.stl": _nan(),
    "only-points.stl": _flat(),
    "letter.stl": b"Dear all, the scans come tomorrow.\n" * 40,
    "photo.stl": b"\x89PNG\r\n\x1a\n" + bytes(range(256)) * 30,
    "page.stl": b"%PDF-1.7\n" + b"1 0 obj << >> endobj\n" * 60,
    "program.stl": b"\x7fELF" + b"\0" * 3000,
    "zeros.stl": b"\0" * 5000,
    "cut-text.stl": stl.write_ascii(BALL)[:3000],
    "words-for-numbers.stl": stl.write_ascii(BALL).replace(b"vertex ", b"vertex x", 3),
    "empty-solid.stl": b"solid nothing\nendsolid nothing\n",
    "cut.ply": ply.write(BALL)[:900],
    "no-end-of-header.ply": b"ply\nformat ascii 1.0\nelement vertex 3\n",
    "unknown-form.ply": b"ply\nformat sideways 1.0\nelement vertex 0\nelement face 0\nend_header\n",
    "points-only.ply": _PLY_HEAD + b"end_header\n0 0 0\n1 0 0\n0 1 0\n",
    "index-beyond.ply": _PLY_HEAD + b"element face 1\nproperty list uchar int vertex_indices\nend_header\n0 0 0\n1 0 0\n0 1 0\n3 0 1 9\n",
    "huge-count.ply": _PLY_HEAD.replace(b"vertex 3", b"vertex 99999999999")
    + b"element face 1\nproperty list uchar int v\nend_header\n0 0 0\n",
    "points-only.obj": b"v 0 0 0\nv 1 0 0\nv 0 1 0\n",
    "index-beyond.obj": b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 9\n",
    "cut.obj": b"v 0 0 0\nv 1 0\nv 0 1 0\nf 1 2 3\n",
    "cut.glb": _glb({"asset": {"version": "2.0"}})[:30],
    "without-positions.glb": _NO_POSITION,
    "nodes-in-a-ring.glb": _LOOP,
    "other-packing.glb": _glb({"asset": {"version": "2.0"}, "extensionsRequired": ["X_packed"]}),
    "empty-model.3mf": _3mf(b'<?xml version="1.0"?><model unit="millimeter"><resources/><build/></model>'),
    "broken-xml.3mf": _3mf(b"<model><resources><object id="),
    "entities.3mf": _3mf(b'<?xml version="1.0"?><!DOCTYPE m [<!ENTITY a "aaaa">]><model>&a;</model>'),
    "index-beyond.3mf": _3mf(
        b'<model><resources><object id="1"><mesh><vertices><vertex x="0" y="0" z="0"/></vertices>'
        b'<triangles><triangle v1="0" v2="1" v3="2"/></triangles></mesh></object></resources><build><item objectid="1"/></build></model>'
    ),
    "cut.zip": zipped(("u.stl", GOOD))[:500],
    "without-scans.zip": zipped(("letter.txt", b"hello")),
    "zip-in-zip.zip": _NESTED,
    "leads-out.zip": zipped(("../../u.stl", GOOD)),
    "absolute.zip": zipped(("/etc/u.stl", GOOD)),
    "sizes-lie.zip": _lying_zip(),
    "locked.zip": _locked_zip(),
}
