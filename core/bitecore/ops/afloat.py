"""What begins in mid-air, exact to the pixel: the field of held.py takes what lies less than one of its own pixels apart for one thing."""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import NDArray

from .layers import Layers

# Of a run: something under it holds it, or that is not known yet; else since which layer it floats.
_HELD, _LOOSE = -1, -2
# So many specks are remembered by their places: a rough underside has thousands that are soon joined.
_PLACES = 200_000


@nb.njit(cache=True)
def _laid(offset, runs, k, tall, born, loose, rows, first_held):
    """Which runs of a layer lie on nothing that is held: they stand in `loose`, with their rows; how many there are."""
    n = 0
    for j in range(tall):
        row = k * tall + j
        below, end = (offset[row - tall], offset[row - tall + 1]) if k else (0, 0)
        for r in range(offset[row], offset[row + 1]):
            while below < end and runs[below, 1] <= runs[r, 0]:
                below += 1
            held = k == 0 and first_held
            b = below
            while b < end and runs[b, 0] < runs[r, 1] and not held:
                held = born[b] == _HELD
                b += 1
            if held:
                born[r] = _HELD
            else:
                born[r] = _LOOSE
                loose[n], rows[n] = r, j
                n += 1
    return n


@nb.njit(cache=True)
def _together(start, row, offset, runs, k, tall, born, stack, rows):
    """(how many runs hang together with `start` in its layer, over corners too, whether one of them is held); they stand in `stack`."""
    n, m, held = 0, 1, False
    stack[0], rows[0] = start, row
    born[start] = k
    while n < m:
        r, j = stack[n], rows[n]
        n += 1
        for beside in (j - 1, j + 1):
            if beside < 0 or beside >= tall:
                continue
            for o in range(offset[k * tall + beside], offset[k * tall + beside + 1]):
                if runs[o, 0] > runs[r, 1]:
                    break
                if runs[o, 1] < runs[r, 0]:
                    continue
                if born[o] == _HELD:
                    held = True
                elif born[o] == _LOOSE:
                    born[o] = k
                    stack[m], rows[m] = o, beside
                    m += 1
    return m, held


@nb.njit(cache=True)
def _known(stack, rows, m, offset, runs, k, tall, born, place):
    """(in which layer began what hangs together in `stack`, its place of those told below, -1 where there is none)."""
    since, known = k, -1
    for t in range(m if k else 0):
        r, row = stack[t], (k - 1) * tall + rows[t]
        for b in range(offset[row], offset[row + 1]):
            if runs[b, 0] < runs[r, 1] and runs[b, 1] > runs[r, 0]:
                since = min(since, born[b])
                if place[b] >= 0 and (known < 0 or place[b] < known):
                    known = place[b]
    return since, known


@nb.njit(cache=True)
def _middle(stack, rows, m, runs):
    """(pixels, the column and the row of their middle)."""
    area, x, y = 0.0, 0.0, 0.0
    for t in range(m):
        a, b = float(runs[stack[t], 0]), float(runs[stack[t], 1])
        area += b - a
        x += (b - a) * (a + b - 1) / 2
        y += (b - a) * rows[t]
    return int(area), x / area, y / area


@nb.njit(cache=True)
def _nearest(stack, rows, m, runs, x, y, k, bar, sub, first, wide):
    """(row, column) of the pixel of `stack` nearest to a place that no tip is barred from; (-1, -1) where there is none."""
    best, at, on = 1e18, -1, -1
    for t in range(m):
        for column in range(runs[stack[t], 0], runs[stack[t], 1]):
            far = (column - x) ** 2 + (rows[t] - y) ** 2
            if far < best and k < bar[field_pixel(rows[t], column, sub, first, wide)]:
                best, at, on = far, rows[t], column
    return at, on


@nb.njit(cache=True)
def field_pixel(row, column, sub, first, wide) -> int:
    """Of the field of held.py, so many of the layers' pixels wide, the pixel that a place lies in."""
    return (max(row - first[1], 0) + sub // 2) // sub * wide + (max(column - first[0], 0) + sub // 2) // sub + 4 * wide + 4


@nb.njit(cache=True, nogil=True)
def _afloat(offset, runs, count, tall, quiet, least, speck, first_held, bar, sub, first, wide, out):
    born, place = np.empty(len(runs), np.int32), np.empty(len(runs), np.int32)
    places = np.zeros((_PLACES, 3), np.int64)
    most = 0
    for k in range(count):
        most = max(most, offset[(k + 1) * tall] - offset[k * tall])
    loose, rows = np.empty(most, np.int64), np.empty(most, np.int64)
    stack, of = np.empty(most, np.int64), np.empty(most, np.int64)
    found, known = 0, 0
    for k in range(count):
        n = _laid(offset, runs, k, tall, born, loose, rows, first_held)
        for t in range(n):
            if born[loose[t]] != _LOOSE:
                continue
            m, held = _together(loose[t], rows[t], offset, runs, k, tall, born, stack, of)
            since, at = _known(stack, of, m, offset, runs, k, tall, born, place)
            area, x, y = _middle(stack, of, m, runs)
            if not held and at < 0 and area >= speck and known < len(places):
                row, column = _nearest(stack, of, m, runs, x, y, k, bar, sub, first, wide)
                if row >= 0:
                    places[known] = np.array([k, row, column])
                    at = known
                    known += 1
            # Where no tip may stand it has to be as sure as the check is.
            told = not held and area >= least and k - since >= (quiet if at >= 0 else max(quiet, 1)) and found < len(out)
            if told and at >= 0:
                out[found] = np.array([k, since, places[at, 1], places[at, 2], area, places[at, 0]])
            elif told:
                out[found] = np.array([k, since, round(y), round(x), area, -1])
            found += told
            for u in range(m):
                # Once told, it counts as held.
                born[stack[u]] = _HELD if held or told else since
                place[stack[u]] = at
    return found


@dataclass(frozen=True)
class Field:
    """That of held.py: sub : pixels of the layers across one of its own; first : the column and the row it begins with; wide : pixels in a
    row of it; bar : from which layer on no tip stands in each, nowhere where it has no places"""

    sub: int
    first: tuple[int, int]
    wide: int
    bar: NDArray[np.float32]


def afloat(
    body: Layers, field: Field, *, quiet: int, least_px: int, speck_px: int, first_held: bool, most: int
) -> NDArray[np.int64]:  # fmt: skip
    """(f, 6) of what begins in mid-air: in which layer that is sure, in which it began, row and column of its place, pixels, in which layer
    it had that place. The place is the first that is not barred once it has speck_px pixels; -1 at the end and its middle where none is.

    quiet : so many layers later it still hangs together with nothing that is held; first_held : what lies in the first layer is
    """
    out = np.zeros((most, 6), np.int64)
    bar = field.bar if len(field.bar) else np.full(field.wide * (body.tall // field.sub + 9), np.inf, np.float32)
    told = _afloat(
        body.offset, body.runs, body.count, body.tall, quiet, least_px, speck_px, first_held, bar, field.sub, field.first, field.wide, out
    )
    return out[:told]
