"""What begins in mid-air, exact to the pixel: the field of held.py takes what lies less than one of its own pixels apart for one thing."""

from __future__ import annotations

import numba as nb
import numpy as np
from numpy.typing import NDArray

from .layers import Layers

# Of a run: something under it holds it, or that is not known yet; else since which layer it floats.
_HELD, _LOOSE = -1, -2


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
def _since(stack, rows, m, offset, runs, k, tall, born):
    """In which layer began what hangs together in `stack`."""
    since = k
    for t in range(m if k else 0):
        r, row = stack[t], (k - 1) * tall + rows[t]
        for b in range(offset[row], offset[row + 1]):
            if runs[b, 0] < runs[r, 1] and runs[b, 1] > runs[r, 0]:
                since = min(since, born[b])
    return since


@nb.njit(cache=True)
def _middle(stack, rows, m, runs):
    """(pixels, the row and the column of the one nearest to their middle)."""
    area, x, y = 0.0, 0.0, 0.0
    for t in range(m):
        a, b = float(runs[stack[t], 0]), float(runs[stack[t], 1])
        area += b - a
        x += (b - a) * (a + b - 1) / 2
        y += (b - a) * rows[t]
    best, row, column = 1e18, 0, 0.0
    for t in range(m):
        a, b = float(runs[stack[t], 0]), float(runs[stack[t], 1])
        at = min(max(np.floor(x / area + 0.5), a), b - 1)
        far = (at - x / area) ** 2 + (rows[t] - y / area) ** 2
        if far < best:
            best, row, column = far, rows[t], at
    return int(area), row, int(column)


@nb.njit(cache=True, nogil=True)
def _afloat(offset, runs, count, tall, quiet, least, first_held, out):
    born = np.empty(len(runs), np.int32)
    most = 0
    for k in range(count):
        most = max(most, offset[(k + 1) * tall] - offset[k * tall])
    loose, rows = np.empty(most, np.int64), np.empty(most, np.int64)
    stack, of = np.empty(most, np.int64), np.empty(most, np.int64)
    found = 0
    for k in range(count):
        n = _laid(offset, runs, k, tall, born, loose, rows, first_held)
        for t in range(n):
            if born[loose[t]] != _LOOSE:
                continue
            m, held = _together(loose[t], rows[t], offset, runs, k, tall, born, stack, of)
            since = _since(stack, of, m, offset, runs, k, tall, born)
            area, row, column = _middle(stack, of, m, runs)
            told = not held and k - since >= quiet and area >= least and found < len(out)
            if told:
                out[found] = np.array([k, since, row, column, area])
                found += 1
            for u in range(m):
                # Once told, it counts as held.
                born[stack[u]] = _HELD if held or told else since
    return found


def afloat(body: Layers, *, quiet: int, least_px: int, first_held: bool, most: int) -> NDArray[np.int64]:
    """(f, 5) of what begins in mid-air: in which layer that is sure, in which it began, row and column of its middle, pixels.

    quiet : so many layers later it still hangs together with nothing that is held; first_held : what lies in the first layer is
    """
    out = np.zeros((most, 5), np.int64)
    return out[: _afloat(body.offset, body.runs, body.count, body.tall, quiet, least_px, first_held, out)]
