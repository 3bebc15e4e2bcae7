"""Where resin cannot flow: cups while a body is printed, and what stays shut in when it is done.

What is empty is joined run by run, along rows and from layer to layer (union-find), to what is outside. While printing, the plate shuts
the first layer and the film the layer that is being cured: what is not joined to the outside yet is a cup, it pulls at the film and
keeps its resin fresh from flowing. A part in the hand is open underneath and on top: what is not joined then is a closed pocket.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np

from .layers import Layers
from .unions import root_of

_MOST = 20_000


@dataclass(frozen=True)
class Cup:
    """begins : the layer where it begins; ends : where it opens, or the one after its last; area_mm2 : at its widest, in layer
    `widest`; x, y : pixels of the body's layers, a place in it there; ml : what it holds until it opens"""

    begins: int
    ends: int
    widest: int
    area_mm2: float
    ml: float
    x: float
    y: float


@nb.njit(cache=True)
def _gaps(offset, runs, row, wide, start, end, n):
    """The empty runs of a row, from n on; where they end."""
    x = 0
    for r in range(offset[row], offset[row + 1]):
        if runs[r, 0] > x:
            start[n], end[n] = x, runs[r, 0]
            n += 1
        x = runs[r, 1]
    if x < wide:
        start[n], end[n] = x, wide
        n += 1
    return n


@nb.njit(cache=True)
def _ended(out, count, of, k, born, last, widest, best, pixels, bx, by, for_good):
    if count < len(out):
        out[count] = np.array([born[of], k, last[of], widest[of], best[of], pixels[of], bx[of], by[of], for_good])
        return count + 1
    return count


@nb.njit(cache=True, nogil=True)
def _cups(offset, runs, count, tall, wide, out):
    size = len(runs) + count * tall
    start, end = np.empty(size, np.int32), np.empty(size, np.int32)
    # What is open while it is printed, and in the hand.
    parent, open_, loose = np.arange(size), np.zeros(size, np.bool_), np.zeros(size, np.bool_)
    pixels, born, last = np.zeros(size, np.int64), np.zeros(size, np.int32), np.zeros(size, np.int32)
    best, widest = np.zeros(size, np.int32), np.zeros(size, np.int32)
    bx, by = np.zeros(size, np.float32), np.zeros(size, np.float32)
    here, hx, hy = np.zeros(size, np.int32), np.zeros(size, np.int32), np.zeros(size, np.int32)
    first = np.zeros(count * tall + 1, np.int64)
    n, told = 0, 0
    for k in range(count):
        began = n
        for j in range(tall):
            row = k * tall + j
            first[row] = n
            n = _gaps(offset, runs, row, wide, start, end, n)
            first[row + 1] = n
            behind, under = first[row - 1] if j else 0, first[row - tall] if k else 0
            for t in range(first[row], n):
                pixels[t], born[t], last[t] = end[t] - start[t], k, k
                # The row before, and the same row of the layer below.
                for below in (0, 1):
                    if (below and k == 0) or (not below and j == 0):
                        continue
                    other = row - tall if below else row - 1
                    past = under if below else behind
                    while past < first[other + 1] and end[past] <= start[t]:
                        past += 1
                    if below:
                        under = past
                    else:
                        behind = past
                    for u in range(past, first[other + 1]):
                        if start[u] >= end[t]:
                            break
                        a, b = root_of(parent, u), root_of(parent, t)
                        if a == b:
                            continue
                        if open_[a] != open_[b]:
                            shut = b if open_[a] else a
                            if born[shut] < k and best[shut] > 0:
                                told = _ended(out, told, shut, k, born, last, widest, best, pixels, bx, by, False)
                        if a > b:
                            a, b = b, a
                        parent[b] = a
                        pixels[a] += pixels[b]
                        born[a], last[a] = min(born[a], born[b]), max(last[a], last[b])
                        open_[a] = open_[a] or open_[b]
                        loose[a] = loose[a] or loose[b]
                        if best[b] > best[a]:
                            best[a], widest[a], bx[a], by[a] = best[b], widest[b], bx[b], by[b]
                if k == 0 or k == count - 1:
                    loose[root_of(parent, t)] = True
                if start[t] == 0 or end[t] == wide or j == 0 or j == tall - 1:
                    a = root_of(parent, t)
                    loose[a] = True
                    if not open_[a]:
                        if born[a] < k and best[a] > 0:
                            told = _ended(out, told, a, k, born, last, widest, best, pixels, bx, by, False)
                        open_[a] = True
        # How wide what is shut is in this layer, and a place in it: its longest run.
        for row in range(k * tall, (k + 1) * tall):
            for t in range(first[row], first[row + 1]):
                a = root_of(parent, t)
                if not open_[a]:
                    here[a] += end[t] - start[t]
                    if end[t] - start[t] > hx[a]:
                        hx[a] = end[t] - start[t]
                        hy[a] = t
        for t in range(began, n):
            a = root_of(parent, t)
            if here[a] > 0:
                if here[a] > best[a]:
                    u = hy[a]
                    best[a], widest[a] = here[a], k
                    bx[a] = 0.5 * (start[u] + end[u])
                    by[a] = np.searchsorted(first[k * tall : (k + 1) * tall + 1], u, side="right") - 1
                here[a], hx[a] = 0, 0.0
    for t in range(n):
        if parent[t] == t and not open_[t] and best[t] > 0:
            told = _ended(out, told, t, count, born, last, widest, best, pixels, bx, by, not loose[t])
    return told


def cups(body: Layers) -> tuple[list[Cup], list[Cup]]:
    """(what the plate and the film shut in while it is printed, the pockets of it that stay shut in the finished part)."""
    out = np.zeros((_MOST, 9))
    told = _cups(body.offset, body.runs, body.count, body.tall, body.wide, out)
    pixel = body.pixel_mm**2
    found = [
        Cup(int(b), int(min(e, last + 1)), int(w), float(area) * pixel, float(px) * pixel * body.layer_mm / 1000, float(x), float(y))
        for b, e, last, w, area, px, x, y, _ in out[:told]
    ]
    return found, [cup for cup, row in zip(found, out[:told], strict=True) if row[8]]
