"""Bodies cut into layers: which pixels a printer cures, as runs in rows.

A pixel is cured where its middle lies inside a body at the layer's middle height. Every triangle that a layer's middle cuts gives
its crossings row by row; along a row what lies between a crossing in and the next out is inside, by the winding number, so that
parts that overlap are one. Neighbours compute the same point of their edge, so no crossing is lost or met twice.
"""

from __future__ import annotations

import io
from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import ArrayLike, NDArray

from ..errors import StepFailed
from ..mesh import Mesh

# Room around a body, in pixels.
_PAD = 2
# More pixels in a row than a run can count.
_WIDEST = 65_000


@nb.njit(cache=True, inline="always")
def _cut(v, a, b, z):
    """Where the edge goes through the height z, from its lower-numbered end: the same for both triangles of the edge."""
    if a > b:
        a, b = b, a
    share = (z - v[a, 2]) / (v[b, 2] - v[a, 2])
    return v[a, 0] + share * (v[b, 0] - v[a, 0]), v[a, 1] + share * (v[b, 1] - v[a, 1])


@nb.njit(cache=True, nogil=True)
def _walk(v, f, layer, count, wide, tall, position, out, fill):
    """v in pixels along x and y, in mm along z from the plate. Counts the crossings of every row, or writes them as column · 2 +
    whether the solid begins there."""
    for t in range(len(f)):
        a, b, c = v[f[t, 0], 2], v[f[t, 1], 2], v[f[t, 2], 2]
        first = max(int(np.ceil(min(a, b, c) / layer - 0.5)), 0)
        last = min(int(np.ceil(max(a, b, c) / layer - 0.5)) - 1, count - 1)
        for k in range(first, last + 1):
            z = (k + 0.5) * layer
            sx, sy, ex, ey, met = 0.0, 0.0, 0.0, 0.0, 0
            for e in range(3):
                p, q = f[t, e], f[t, (e + 1) % 3]
                # What lies on the height counts as below it.
                if (v[p, 2] <= z) == (v[q, 2] <= z):
                    continue
                met += 1
                if v[q, 2] <= z:
                    sx, sy = _cut(v, p, q, z)
                else:
                    ex, ey = _cut(v, p, q, z)
            if met != 2 or sy == ey:
                continue
            begins = 0
            if sy > ey:
                sx, sy, ex, ey, begins = ex, ey, sx, sy, 1
            low, high = max(int(np.ceil(sy - 0.5)), 0), min(int(np.ceil(ey - 0.5)) - 1, tall - 1)
            slope = (ex - sx) / (ey - sy)
            for j in range(low, high + 1):
                row = k * tall + j
                if fill:
                    column = int(np.ceil(sx + (j + 0.5 - sy) * slope - 0.5))
                    out[position[row]] = min(max(column, 0), wide) * 2 + begins
                position[row] += 1


@nb.njit(cache=True, nogil=True)
def _swept(start, crossing, rows):
    """(offsets (rows + 1,), runs (r, 2) from and to, how many rows do not close)."""
    offset = np.zeros(rows + 1, np.int64)
    runs = np.empty((len(crossing) // 2 + 1, 2), np.uint16)
    n, open_rows = 0, 0
    for row in range(rows):
        a, b = start[row], start[row + 1]
        if b > a:
            mine = np.sort(crossing[a:b])
            winding, since, first, i = 0, -1, n, 0
            while i < len(mine):
                column = mine[i] >> 1
                while i < len(mine) and mine[i] >> 1 == column:
                    winding += 1 if mine[i] & 1 else -1
                    i += 1
                if winding > 0 and since < 0:
                    since = column
                elif winding <= 0 and since >= 0:
                    if column > since:
                        if n > first and runs[n - 1, 1] == since:
                            runs[n - 1, 1] = column
                        else:
                            runs[n, 0], runs[n, 1] = since, column
                            n += 1
                    since = -1
            open_rows += winding != 0
        offset[row + 1] = n
    return offset, runs[:n].copy(), open_rows


@nb.njit(cache=True, nogil=True)
def _painted(offset, runs, first_row, out):
    for j in range(out.shape[0]):
        for r in range(offset[first_row + j], offset[first_row + j + 1]):
            for i in range(runs[r, 0], min(runs[r, 1], out.shape[1])):
                out[j, i] = 1


@nb.njit(cache=True, nogil=True)
def _in_bits(offset, runs, first_row, tall, x, y, wide, out):
    for j in range(tall):
        at = y + j
        if at < 0 or at >= out.shape[0]:
            continue
        for r in range(offset[first_row + j], offset[first_row + j + 1]):
            i, end = max(runs[r, 0] + x, 0), min(runs[r, 1] + x, wide)
            while i < end:
                if i & 7 == 0 and i + 8 <= end:
                    out[at, i >> 3] = 255
                    i += 8
                else:
                    out[at, i >> 3] |= 128 >> (i & 7)
                    i += 1


@nb.njit(cache=True, nogil=True)
def _covered(offset, runs, first_row, tall, x, y, parts, out):
    for j in range(tall):
        at = (y + j) // parts
        if at < 0 or at >= out.shape[0]:
            continue
        for r in range(offset[first_row + j], offset[first_row + j + 1]):
            i, end = max(runs[r, 0] + x, 0), min(runs[r, 1] + x, out.shape[1] * parts)
            if i >= end:
                continue
            first, last = i // parts, (end - 1) // parts
            if first == last:
                out[at, first] += end - i
                continue
            # Only the first and the last are covered in part.
            out[at, first] += (first + 1) * parts - i
            for k in range(first + 1, last):
                out[at, k] += parts
            out[at, last] += end - last * parts


@dataclass(frozen=True)
class Layers:
    """One body in layers.

    offset : (count · tall + 1,) where the runs of each row begin; row j of layer k is row k · tall + j
    runs   : (r, 2) from and to (column, exclusive)
    x, y   : pixels from the plate's corner to column 0 of row 0; rows go towards +y
    """

    offset: NDArray[np.int64]
    runs: NDArray[np.uint16]
    count: int
    wide: int
    tall: int
    x: int
    y: int
    pixel_mm: float
    layer_mm: float

    def in_bits(self, layer: int, wide: int, rows: NDArray[np.uint8]) -> None:
        """Into rows (towards +y) of `wide` pixels of the plate from its corner on, eight a byte, the left one its highest bit: set
        where it is cured."""
        if layer < self.count:
            _in_bits(self.offset, self.runs, layer * self.tall, self.tall, self.x, self.y, wide, rows)

    def covered(self, layer: int, parts: int, rows: NDArray[np.uint16]) -> None:
        """Onto rows (towards +y) of pixels of the plate that are so many of this one's across: how many of these are cured in each."""
        if layer < self.count:
            _covered(self.offset, self.runs, layer * self.tall, self.tall, self.x, self.y, parts, rows)

    def only(self, layer: int, image: NDArray[np.uint8]) -> None:
        """Into an image of the body alone, (tall, wide): 1 where it is cured."""
        if 0 <= layer < self.count:
            _painted(self.offset, self.runs, layer * self.tall, image[: self.tall])

    def areas_mm2(self) -> NDArray[np.float64]:
        """(count,) cured in each layer."""
        long = (self.runs[:, 1].astype(np.int64) - self.runs[:, 0]).cumsum()
        ends = np.r_[0, long][self.offset[:: self.tall]] if self.tall else np.zeros(self.count + 1)
        return np.diff(ends) * self.pixel_mm**2

    @property
    def volume_ml(self) -> float:
        return float(self.areas_mm2().sum()) * self.layer_mm / 1000

    def to_bytes(self) -> bytes:
        out = io.BytesIO()
        numbers = np.array([self.count, self.wide, self.tall, self.x, self.y], np.int64)
        np.savez(out, offset=self.offset.astype(np.uint32), runs=self.runs, numbers=numbers, mm=np.array([self.pixel_mm, self.layer_mm]))
        return out.getvalue()

    @staticmethod
    def from_bytes(data: bytes) -> Layers:
        with np.load(io.BytesIO(data), allow_pickle=False) as kept:
            count, wide, tall, x, y = (int(n) for n in kept["numbers"])
            pixel, layer = (float(n) for n in kept["mm"])
            return Layers(kept["offset"].astype(np.int64), kept["runs"], count, wide, tall, x, y, pixel, layer)


def layers(body: Mesh, to_plate: ArrayLike, *, pixel_mm: float, layer_mm: float) -> Layers:
    """A closed body on the plate (to_plate : (4, 4) from its home) in layers, the plate at z = 0.

    Raises StepFailed for a body so wide that its rows have too many pixels, or that is not closed.
    """
    matrix = np.asarray(to_plate, np.float64)
    points = body.vertices_mm @ matrix[:3, :3].T + matrix[:3, 3]
    low, high = points.min(0), points.max(0)
    corner = np.floor(low[:2] / pixel_mm).astype(int) - _PAD
    wide, tall = (np.ceil(high[:2] / pixel_mm).astype(int) + _PAD - corner).tolist()
    if wide > _WIDEST:
        raise StepFailed("The body is too wide for layers with pixels so small. Take larger pixels.", code="too-wide")
    count = max(int(np.ceil(high[2] / layer_mm - 1e-6)), 0)
    points[:, :2] = points[:, :2] / pixel_mm - corner
    rows = count * tall
    number = np.zeros(rows, np.int64)
    _walk(points, body.faces, layer_mm, count, wide, tall, number, np.empty(0, np.int32), False)
    start = np.r_[0, np.cumsum(number)]
    crossing = np.empty(int(start[-1]), np.int32)
    _walk(points, body.faces, layer_mm, count, wide, tall, start[:-1].copy(), crossing, True)
    offset, runs, open_rows = _swept(start, crossing, rows)
    if open_rows:
        raise StepFailed(f"The body is not closed: {open_rows} rows of its layers have no end.", code="body-open")
    return Layers(offset, runs, count, wide, tall, int(corner[0]), int(corner[1]), pixel_mm, layer_mm)
