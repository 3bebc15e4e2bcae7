"""Walls of a body in layers that are too thin for what prints it: how far it is from side to side of a layer through a pixel, along the
rows, the columns and both diagonals, the least of which is 8 % too much at most. What ends in a corner or a ridge is thin there for a
little; a wall is so along some way and over some height."""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from .layers import Layers

# Every so many millimetres a layer is looked at; a wall is as long and as tall as this at least.
_EVERY_MM, _LONG_MM, _TALL_MM = 1.0, 1.5, 1.0
# What is nearer than this in the plan, from one layer looked at to the next, is one.
_NEAR_MM = 0.6
# Cells in which thin pixels are counted as one, of the plan (pixels).
_CELL = 4
_ROOT_2 = 1.4142135623730951


@dataclass(frozen=True)
class Thin:
    """A thin wall. layers : (first, last) it was seen in; x, y : pixels of the body's layers, of a place in its middle; wide_mm : how thick
    it is in the middle of what was seen; long_mm : how long"""

    layers: tuple[int, int]
    x: float
    y: float
    wide_mm: float
    long_mm: float


def thin_walls(body: Layers, least_mm: float) -> list[Thin]:
    """Walls thinner than least_mm, the longest first. Time grows with the area of the plan times the height."""
    every = max(round(_EVERY_MM / body.layer_mm), 1)
    need = least_mm / body.pixel_mm
    image = np.zeros((body.tall, body.wide), np.uint8)
    found = []
    for layer in range(every // 2, body.count, every):
        image[:] = 0
        body.only(layer, image)
        cells = _thin_cells(image, need, _LONG_MM / body.pixel_mm)
        found += [np.c_[cells, np.full(len(cells), layer)]] if len(cells) else []
    if not found:
        return []
    return _walls(np.vstack(found), body, every)


def _walls(cells: NDArray[np.float64], body: Layers, every: int) -> list[Thin]:
    """cells : (n, 4) x, y, pixels from side to side, layer"""
    at = np.c_[cells[:, :2] * body.pixel_mm, cells[:, 3] / every * _NEAR_MM]
    pairs = cKDTree(at).query_pairs(_NEAR_MM * _ROOT_2 * 1.01, output_type="ndarray")
    links = coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(len(at), len(at)))
    count, label = connected_components(links, directed=False)
    out = []
    for k in range(count):
        own = cells[label == k]
        seen = np.unique(own[:, 3])
        long = np.median([float(np.hypot(*np.ptp(own[own[:, 3] == z, :2], axis=0))) for z in seen]) * body.pixel_mm
        if (len(seen) - 1) * every * body.layer_mm < _TALL_MM or long < _LONG_MM:
            continue
        middle = own[np.argmin(np.hypot(*(own[:, :2] - np.median(own[:, :2], axis=0)).T))]
        wide = float(np.median(own[:, 2])) * body.pixel_mm
        out.append(Thin((int(seen[0]), int(seen[-1])), float(middle[0]), float(middle[1]), wide, float(long)))
    return sorted(out, key=lambda t: -t.long_mm)


def _thin_cells(image: NDArray[np.uint8], need: float, least_long: float) -> NDArray[np.float64]:
    """(n, 3) x, y of cells of the plan with pixels that are nearer from side to side than need (pixels), and how near, where that goes on
    for least_long (pixels)."""
    rows, columns = np.flatnonzero(image.any(1)), np.flatnonzero(image.any(0))
    if not len(rows):
        return np.zeros((0, 3))
    # What is empty beside it need not be walked through; cells stay where they are.
    top, left = rows[0] // _CELL * _CELL, columns[0] // _CELL * _CELL
    image = image[top : rows[-1] + 1, left : columns[-1] + 1]
    y, x, across = _across(image, need)
    if not len(y):
        return np.zeros((0, 3))
    # Tips and corners beside each other are no wall: what touches has to be long by itself.
    cells = np.zeros((image.shape[0] // _CELL + 1, image.shape[1] // _CELL + 1), bool)
    cells[y // _CELL, x // _CELL] = True
    label, _ = ndimage.label(cells, np.ones((3, 3)))
    long = [np.hypot(*(s.stop - s.start - 1 for s in at)) * _CELL >= least_long for at in ndimage.find_objects(label)]
    keep = np.r_[False, long][label[y // _CELL, x // _CELL]]
    y, x, across = y[keep], x[keep], across[keep]
    cell = (y // _CELL).astype(np.int64) * cells.shape[1] + x // _CELL
    _, first, inverse = np.unique(cell, return_index=True, return_inverse=True)
    least = np.full(len(first), np.inf)
    np.minimum.at(least, inverse, across)
    return np.c_[x[first] + left, y[first] + top, least]


@nb.njit(cache=True, nogil=True)
def _across(image, need):
    """(k,) rows, (k,) columns, (k,) float32: pixels from side to side where that is surely less than need, row by row."""
    tall, wide = image.shape
    least, ways, marked = np.zeros((tall, wide), np.float32), np.zeros((tall, wide), np.uint8), np.zeros(tall, np.bool_)
    down, one, other = np.zeros(wide, np.int64), np.zeros(wide + tall + 1, np.int64), np.zeros(wide + tall + 1, np.int64)
    for j in range(tall + 1):
        along = 0
        for i in range(wide + 1):
            solid = j < tall and i < wide and image[j, i] == 1
            p, q = i - j + tall, i + j
            if not solid and along == 0 and one[p] == 0 and other[q] == 0 and (i == wide or down[i] == 0):
                continue
            if i < wide:
                down[i] = _met(least, ways, marked, solid, down[i], j, i, -1, 0, 1.0, need)
            if j < tall:
                along = _met(least, ways, marked, solid, along, j, i, 0, -1, 1.0, need)
            one[p] = _met(least, ways, marked, solid, one[p], j, i, -1, -1, 1.4142135623730951, need)
            other[q] = _met(least, ways, marked, solid, other[q], j, i, -1, 1, 1.4142135623730951, need)
    count = 0
    for row in np.flatnonzero(marked):
        j = int(row)
        for i in range(wide):
            count += least[j, i] > 0 and ways[j, i] > 1
    y, x, out = np.zeros(count, np.int64), np.zeros(count, np.int64), np.zeros(count, np.float32)
    at = 0
    for row in np.flatnonzero(marked):
        j = int(row)
        for i in range(wide):
            if least[j, i] > 0 and ways[j, i] > 1:
                y[at], x[at], out[at] = j, i, least[j, i]
                at += 1
    return y, x, out


@nb.njit(cache=True, nogil=True, inline="always")
def _met(least, ways, marked, solid, so_far, j, i, back_j, back_i, each, need):
    """One pixel more of a run, or its end: then it is marked where it was short. Through a wall the way next to the shortest is 1.41 times
    as long at most; along a side, whose steps cut a slanting run short, all others go deep into the body."""
    if solid:
        return so_far + 1
    if so_far > 0 and so_far * each < 1.5 * need + 1:
        for k in range(1, so_far + 1):
            a, b = j + k * back_j, i + k * back_i
            ways[a, b] += 1
            # A pixel more it may be in truth.
            if (so_far + 1) * each <= need + 1e-6 and (least[a, b] == 0 or so_far * each < least[a, b]):
                least[a, b] = so_far * each
                marked[a] = True
    return 0
