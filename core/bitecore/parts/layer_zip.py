"""layers.zip: one PNG a layer and layers.json, as docs/layers.md says; an open form of our own that anything can read."""

from __future__ import annotations

import io
import json
import struct
import zipfile
import zlib
from collections import OrderedDict
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from threading import Lock
from typing import Any

import numpy as np

from ..blobs import Blobs
from ..ops.layers import Layers
from ..progress import QUIET, Run

_TIME = (2020, 1, 1, 0, 0, 0)
# So many bodies are kept as they were read, for whoever leafs through a plate: six megabytes each, about.
_KEPT = 24
_kept: OrderedDict[str, Layers] = OrderedDict()
_keeping = Lock()


@dataclass(frozen=True)
class PlateLayers:
    """size_px : of one layer's picture, (wide, tall); says : layers.json"""

    bodies: list[Layers]
    size_px: tuple[int, int]
    says: dict[str, Any]


def layers_of(blobs: Blobs, digest: str) -> Layers:
    """A body in layers, from its blob."""
    with _keeping:
        known = _kept.get(digest)
        if known is not None:
            _kept.move_to_end(digest)
            return known
    read = Layers.from_bytes(blobs.read(digest))
    with _keeping:
        _kept[digest] = read
        while len(_kept) > _KEPT:
            _kept.popitem(last=False)
    return read


def laid_out(sent: Sequence[str], plate: Mapping[str, Any], printing: Mapping[str, Any], blobs: Blobs) -> PlateLayers:
    """A plate from what was kept of it: the same bytes whenever it is asked for.

    sent : of each body the digest of its layers and, where these are set elsewhere, by how many pixels along x and y; plate, printing :
    a BuildPlate and a Printing (parts.printing)
    """
    bodies = []
    for digest, *by in (each.split() for each in sent):
        body = layers_of(blobs, digest)
        x, y = (int(n) for n in by) if by else (0, 0)
        bodies.append(replace(body, x=body.x + x, y=body.y + y))
    size = (round(plate["width_mm"] / plate["pixel_mm"]), round(plate["depth_mm"] / plate["pixel_mm"]))
    names = {"printer": plate["printer"], "resin": printing["resin"]}
    return PlateLayers(bodies, size, about(bodies, size, names, printing))


def picture(bodies: Sequence[Layers], layer: int, size_px: tuple[int, int]) -> bytes:
    """One layer of the whole plate as a PNG of one bit a pixel (ISO/IEC 15948), row 0 at the far side (+y): white where it is
    cured."""
    wide, tall = size_px
    # Each row begins with a byte that says how it is filtered: not at all.
    rows = np.zeros((tall, 1 + (wide + 7) // 8), np.uint8)
    for body in bodies:
        body.in_bits(layer, wide, rows[::-1, 1:])
    head = struct.pack(">IIBBBBB", wide, tall, 1, 0, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + _chunk(b"IHDR", head) + _chunk(b"IDAT", zlib.compress(rows.data, 1)) + _chunk(b"IEND", b"")


def _chunk(kind: bytes, data: bytes) -> bytes:
    return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(data, zlib.crc32(kind)))


def about(bodies: Sequence[Layers], size_px: tuple[int, int], names: Mapping[str, str], timing: Mapping[str, float]) -> dict[str, Any]:
    """What layers.json says. names : printer and resin; timing : layer_s, first_layer_s, first_layers."""
    pixel, high = bodies[0].pixel_mm, bodies[0].layer_mm
    count = max(b.count for b in bodies)
    area = np.zeros(count)
    for body in bodies:
        area[: body.count] += body.areas_mm2()
    seconds = [timing["first_layer_s"] if k < timing["first_layers"] else timing["layer_s"] for k in range(count)]
    ends = [round(k * high, 6) for k in range(count + 1)]
    rows = [
        {"file": f"{k:05d}.png", "z_mm": [ends[k], ends[k + 1]], "area_mm2": round(float(area[k]), 4), "seconds": seconds[k]}
        for k in range(count)
    ]
    return {
        "format": 1, "printer": names["printer"], "resin": names["resin"], "pixel_mm": [pixel, pixel], "size_px": list(size_px),
        "origin_mm": [0.0, 0.0], "layers": rows, "resin_ml": round(float(area.sum()) * high / 1000, 6), "seconds": round(sum(seconds), 3),
    }  # fmt: skip


def written(bodies: Sequence[Layers], says: dict[str, Any], run: Run = QUIET) -> bytes:
    """The whole file. Bodies must not overlap on the plate, or what layers.json says counts them twice."""
    out = io.BytesIO()
    size = (int(says["size_px"][0]), int(says["size_px"][1]))
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
        archive.writestr(zipfile.ZipInfo("layers.json", _TIME), json.dumps(says, indent=1))
        for number, data in enumerate(_images(bodies, len(says["layers"]), size)):
            archive.writestr(zipfile.ZipInfo(says["layers"][number]["file"], _TIME), data)
            if number % 25 == 0:
                run.tick(number / len(says["layers"]), "layers")
    return out.getvalue()


def _images(bodies: Sequence[Layers], count: int, size: tuple[int, int]) -> Iterator[bytes]:
    with ThreadPoolExecutor(2) as pool:
        yield from pool.map(lambda k: picture(bodies, k, size), range(count))
