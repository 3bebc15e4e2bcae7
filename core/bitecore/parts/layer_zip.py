"""layers.zip: one PNG a layer and layers.json, as docs/layers.md says; an open form of our own that anything can read."""

from __future__ import annotations

import io
import json
import struct
import zipfile
import zlib
from collections import OrderedDict
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from threading import Lock
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..blobs import Blobs
from ..ops.layers import Layers
from ..progress import QUIET, Run
from .printing import seconds_of, two_heights

_TIME = (2020, 1, 1, 0, 0, 0)
# So many bodies are kept as they were read, for whoever leafs through a plate: six megabytes each, about.
_KEPT = 24
_kept: OrderedDict[str, Layers] = OrderedDict()
_keeping = Lock()


@dataclass(frozen=True)
class PlateLayers:
    """bodies : in layers; size_px : of one layer's picture, (wide, tall); says : layers.json; thick : the same bodies in the layers that
    come first, so many of them, which stand for so many of the others; fine_seconds : what it would take without them; parts : of a pixel
    across, of which the bodies' own are"""

    bodies: list[Layers]
    size_px: tuple[int, int]
    says: dict[str, Any]
    thick: list[Layers] = field(default_factory=list)
    first: int = 0
    instead: int = 0
    fine_seconds: float = 0.0
    parts: int = 1

    def seen(self, layer: int, wide: int) -> bytes:
        """As a PNG for the screen, at least so many pixels wide where the layer is: lit by how much of each is cured."""
        bodies, k = self._at(layer)
        coarse = max(self.size_px[0] // max(wide, 1), 1)
        size = (-(-self.size_px[0] // coarse), -(-self.size_px[1] // coarse))
        return grey_picture(bodies, k, size, self.parts * coarse)

    def _at(self, layer: int) -> tuple[list[Layers], int]:
        return (self.thick, layer) if layer < self.first else (self.bodies, layer - self.first + self.instead)

    def picture(self, layer: int) -> bytes:
        """As a PNG (see picture, and grey_picture where a pixel is of parts)."""
        bodies, k = self._at(layer)
        return grey_picture(bodies, k, self.size_px, self.parts) if self.parts > 1 else picture(bodies, k, self.size_px)


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

    sent : of each body the digest of its layers; where these are set elsewhere, by how many pixels along x and y; and where the lower ones
    are thicker, the digest of those; plate, printing : a BuildPlate and a Printing (parts.printing)
    """
    parts = int(printing.get("grey", 1))
    bodies, thick = [], []
    for digest, *more in (each.split() for each in sent):
        x, y = (parts * int(n) for n in more[:2]) if more else (0, 0)
        # Of every height its layers; of edges in grey those of the parts of pixels, behind the others.
        stacks = [digest, *more[2:]]
        stacks = stacks[len(stacks) // 2 :] if parts > 1 else stacks
        bodies.append(_set(layers_of(blobs, stacks[0]), x, y))
        thick += [_set(layers_of(blobs, other), x, y) for other in stacks[1:]]
    size = (round(plate["width_mm"] / plate["pixel_mm"]), round(plate["depth_mm"] / plate["pixel_mm"]))
    names = {"printer": plate["printer"], "resin": printing["resin"]}
    count = max(b.count for b in bodies)
    first, instead = two_heights(printing, count) if thick else (0, 0)
    fine = round(sum(seconds_of({k: v for k, v in printing.items() if k != "thick"}, count)), 3)
    return PlateLayers(bodies, size, about(bodies, size, names, printing, thick), thick, first, instead, fine, parts)


def _set(body: Layers, x: int, y: int) -> Layers:
    return replace(body, x=body.x + x, y=body.y + y)


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


def grey_picture(bodies: Sequence[Layers], layer: int, size_px: tuple[int, int], parts: int) -> bytes:
    """The same with eight bits a pixel: lit by how much of it is covered, told in so many parts across."""
    wide, tall = size_px
    whole = parts * parts
    covered = np.zeros((tall, wide), np.uint16)
    for body in bodies:
        body.covered(layer, parts, covered)
    rows = np.zeros((tall, 1 + wide), np.uint8)
    # Parts of two bodies that overlap count once.
    lit = ((np.minimum(np.arange(1 << 16), whole) * 255 + whole // 2) // whole).astype(np.uint8)
    some = np.flatnonzero(covered.any(1))
    rows[tall - 1 - some, 1:] = lit[covered[some]]
    head = struct.pack(">IIBBBBB", wide, tall, 8, 0, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + _chunk(b"IHDR", head) + _chunk(b"IDAT", zlib.compress(rows.data, 1)) + _chunk(b"IEND", b"")


def _chunk(kind: bytes, data: bytes) -> bytes:
    return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(data, zlib.crc32(kind)))


def about(
    bodies: Sequence[Layers], size_px: tuple[int, int], names: Mapping[str, str], printing: Mapping[str, Any],
    thick: Sequence[Layers] = (),
) -> dict[str, Any]:  # fmt: skip
    """What layers.json says. names : printer and resin; thick : see PlateLayers"""
    grey = int(printing.get("grey", 1))
    pixel, high = round(bodies[0].pixel_mm * grey, 9), bodies[0].layer_mm
    count = max(b.count for b in bodies)
    first, instead = two_heights(printing, count) if thick else (0, 0)
    lower = thick[0].layer_mm if thick else high
    area = np.concatenate([_areas(thick, first)[:first], _areas(bodies, count)[instead:count]])
    ends = [round(k * lower, 6) for k in range(first + 1)] + [round(k * high, 6) for k in range(instead + 1, count + 1)]
    # A body that ends within a thick layer ends with it.
    seconds = seconds_of(printing, count) if thick else seconds_of({k: v for k, v in printing.items() if k != "thick"}, count)
    rows: list[dict[str, Any]] = [
        {"file": f"{k:05d}.png", "z_mm": [ends[k], ends[k + 1]], "area_mm2": round(float(area[k]), 4), "seconds": seconds[k]}
        for k in range(len(area))
    ]
    ml = float(sum(row["area_mm2"] * (row["z_mm"][1] - row["z_mm"][0]) for row in rows)) / 1000 if thick else area.sum() * high / 1000
    some = {"bits": 8} if grey > 1 else {}
    if "sized_percent" in printing:
        some["sized_percent"] = printing["sized_percent"]
    return some | {
        "format": 1, "printer": names["printer"], "resin": names["resin"], "pixel_mm": [pixel, pixel], "size_px": list(size_px),
        "origin_mm": [0.0, 0.0], "layers": rows, "resin_ml": round(float(ml), 6), "seconds": round(sum(seconds), 3),
    }  # fmt: skip


def _areas(bodies: Sequence[Layers], count: int) -> NDArray[np.float64]:
    out = np.zeros(max([count, *(b.count for b in bodies)]))
    for body in bodies:
        out[: body.count] += body.areas_mm2()
    return out


def written(found: PlateLayers, run: Run = QUIET) -> bytes:
    """The whole file. Bodies must not overlap on the plate, or what layers.json says counts them twice."""
    out = io.BytesIO()
    rows = found.says["layers"]
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive, ThreadPoolExecutor(2) as pool:
        archive.writestr(zipfile.ZipInfo("layers.json", _TIME), json.dumps(found.says, indent=1))
        for number, data in enumerate(pool.map(found.picture, range(len(rows)))):
            archive.writestr(zipfile.ZipInfo(rows[number]["file"], _TIME), data)
            if number % 25 == 0:
                run.tick(number / len(rows), "layers")
    return out.getvalue()
