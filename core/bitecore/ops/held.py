"""What a layer does not hold: islands, and places that hang too far out over the layers below.

One field says it all: how far a pixel is from what holds it, along its layer; every layer pays off what a wall of the given slope may
lean out. In a level ledge the field is the distance from the wall, in a slope flatter than asked it grows with height, in what begins
in mid-air it is infinite.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from .layers import Layers

# Pixels of the field, at least; what begins in mid-air and is joined within so much height is of no account.
_PIXEL_MM, _TIP_PIXEL_MM, _QUIET_MM = 0.1, 0.25, 0.1
# Hangs of one place follow each other within so many layers.
_SAME_LAYERS = 8
_MOST, _MOST_TIPS = 4000, 5000
# A way out so narrow is a drain: what lies behind it is a cavity. Looked at in cells of so much.
_WAY_MM, _WAY_CELL_MM = 5.0, 0.2
# From a pixel to its neighbours, as a knight on a chessboard goes too: no distance comes out more than 3 % too long.
_HALF = [(1, 0), (0, 1), (1, 1), (1, -1), (2, 1), (1, 2), (2, -1), (1, -2)]
_STEPS = np.array([*_HALF, *((-a, -b) for a, b in _HALF)])


@dataclass(frozen=True)
class Unheld:
    """A place that is not held.

    island   : it begins in mid-air; else it hangs
    layer    : where it begins; x, y : pixels of the body's layers, of its middle (an island) or its farthest (a hang)
    area_mm2 : of what is not held, all its layers from above together
    far_mm   : how far it hangs out at most
    """

    island: bool
    layer: int
    x: float
    y: float
    area_mm2: float
    far_mm: float


@nb.njit(cache=True)
def _spread(e, stamp, k, idx, n, cost, way):
    for turn in range(400):
        changed = False
        for t in range(n):
            q = idx[t] if turn & 1 == 0 else idx[n - 1 - t]
            best = e[q]
            for s in range(len(way)):
                p = q + way[s]
                if stamp[p] == k and e[p] + cost[s] < best:
                    best = e[p] + cost[s]
            if best < e[q] - 1e-6:
                e[q] = best
                changed = True
        if not changed:
            return


@nb.njit(cache=True)
def _flood(start, wanted, taken, stack, wide):
    """How many hang together with `start`, over sides and corners; they stand in `stack` then."""
    n, m = 0, 1
    stack[0] = start
    taken[start] = True
    while n < m:
        q = stack[n]
        n += 1
        for a in (-1, 0, 1):
            for b in (-wide, 0, wide):
                p = q + a + b
                if wanted[p] and not taken[p]:
                    taken[p] = True
                    stack[m] = p
                    m += 1
    return m


@nb.njit(cache=True)
def _laid(offset, runs, k, tall0, sub, wide, stamp, e, born, idx, first_held):
    """The layer onto the field: every pixel that is cured, those with a debt in idx; how many these are."""
    n = 0
    for j in range((tall0 - sub // 2 + sub - 1) // sub):
        row = k * tall0 + j * sub + sub // 2
        base = (j + 4) * wide + 4
        for r in range(offset[row], offset[row + 1]):
            for i in range((runs[r, 0] - sub // 2 + sub - 1) // sub, (runs[r, 1] - sub // 2 + sub - 1) // sub):
                q = base + i
                if stamp[q] != k - 1:
                    e[q] = 0.0 if k == 0 and first_held else 1e9
                    born[q] = k
                stamp[q] = k
                if e[q] > 0:
                    idx[n] = q
                    n += 1
    return n


@nb.njit(cache=True)
def _nearest_middle(stack, m, wide):
    sx, sy = 0.0, 0.0
    for u in range(m):
        sx += stack[u] % wide
        sy += stack[u] // wide
    best, at = 1e18, stack[0]
    for u in range(m):
        far = (stack[u] % wide - sx / m) ** 2 + (stack[u] // wide - sy / m) ** 2
        if far < best:
            best, at = far, stack[u]
    return at


@nb.njit(cache=True)
def _reached(start, e, stamp, k, queue, cost, way):
    """A tip holds `start`: what is nearer to it than to anything else that holds owes it now."""
    n, m = 0, 1
    queue[0] = start
    e[start] = 0.0
    while n < m:
        q = queue[n % len(queue)]
        n += 1
        for s in range(len(way)):
            p = q + way[s]
            if stamp[p] == k and e[q] + cost[s] < e[p] - 1e-6 and m - n < len(queue):
                e[p] = e[q] + cost[s]
                queue[m % len(queue)] = p
                m += 1


@nb.njit(cache=True)
def _propped(stack, m, e, stamp, k, queue, reach, wide, pixel, bar, cost, way, tips, told):
    """Tips under what hangs together in `stack`: first in a lattice of triangles, then where it is still too far from one. None where
    `bar` says so (a x + b y + c z > d, pixels and layers). How many tips there are then."""
    step = np.sqrt(3.0) * reach * 0.95
    for first in (True, False):
        while told < len(tips):
            at, far = -1, reach
            for u in range(m):
                q = stack[u]
                x, y = q % wide, q // wide
                if bar[0] * x + bar[1] * y + bar[2] * k > bar[3]:
                    continue
                if first:
                    row = int(np.floor(y * pixel / (step * 0.8660254)))
                    on_row = y * pixel - row * step * 0.8660254 < pixel
                    shift = 0.5 * step if row % 2 else 0.0
                    on = on_row and (x * pixel + shift) % step < pixel
                    if on and e[q] > reach:
                        at = q
                        break
                elif e[q] > far:
                    at, far = q, e[q]
            if at < 0:
                break
            _reached(at, e, stamp, k, queue, cost, way)
            tips[told, 0], tips[told, 1], tips[told, 2] = k, at % wide, at // wide
            told += 1
    return told


@nb.njit(cache=True, nogil=True)
def _unheld(offset, runs, count, tall0, sub, wide, size, pay, reach, quiet, cost, way, out, tips, bar, first_held):
    """How many are told in `out`, and how many tips are set (none where there is no room for any)."""
    e, born = np.full(size, 1e9, np.float32), np.zeros(size, np.int32)
    stamp, last, group = np.full(size, -2, np.int32), np.full(size, -1000, np.int32), np.zeros(size, np.int32)
    wanted, taken = np.zeros(size, np.bool_), np.zeros(size, np.bool_)
    idx, stack = np.empty(size, np.int32), np.empty(size, np.int32)
    queue = np.empty(size if len(tips) else 1, np.int32)
    found, told = 0, 0
    for k in range(count):
        n = _laid(offset, runs, k, tall0, sub, wide, stamp, e, born, idx, first_held)
        if n == 0:
            continue
        _spread(e, stamp, k, idx, n, cost, way)
        # First what begins in mid-air (1), then what hangs out too far (0); once told, it counts as held.
        for island in (1, 0):
            for t in range(n):
                q = idx[t]
                taken[q] = False
                wanted[q] = e[q] > 1e8 if island else reach < e[q] < 1e8
            for t in range(n):
                q = idx[t]
                if not wanted[q] or taken[q]:
                    continue
                m = _flood(q, wanted, taken, stack, wide)
                at, since, far, known, fresh = q, k, np.float32(0.0), -1, 0
                for u in range(m):
                    p = stack[u]
                    since = min(since, born[p])
                    if not island and e[p] > far:
                        at, far = p, e[p]
                    fresh += 1 if k - last[p] > _SAME_LAYERS else 0
                    for a in (-1, 0, 1):
                        for b in (-wide, 0, wide):
                            if known < 0 and k - last[p + a + b] <= _SAME_LAYERS:
                                known = group[p + a + b]
                if island and k - since < quiet:
                    for u in range(m):
                        born[stack[u]] = since
                    continue
                if len(tips):
                    if island and m * cost[0] ** 2 < 3.0 * reach * reach:
                        at = _nearest_middle(stack, m, wide)
                        if bar[0] * (at % wide) + bar[1] * (at // wide) + bar[2] * k <= bar[3] and told < len(tips):
                            _reached(at, e, stamp, k, queue, cost, way)
                            tips[told, 0], tips[told, 1], tips[told, 2] = k, at % wide, at // wide
                            told += 1
                    told = _propped(stack, m, e, stamp, k, queue, reach, wide, cost[0], bar, cost, way, tips, told)
                    # What is left is told by its farthest place.
                    far = np.float32(0.0)
                    for u in range(m):
                        if e[stack[u]] > far:
                            at, far = stack[u], e[stack[u]]
                    if far <= reach:
                        continue
                elif island:
                    at = _nearest_middle(stack, m, wide)
                if (known < 0 or island) and found < len(out):
                    out[found] = np.array([island, since if island else k, at % wide, at // wide, m, far])
                    known = found
                    found += 1
                elif known >= 0:
                    out[known, 4] += fresh
                    out[known, 5] = max(out[known, 5], far)
                for u in range(m):
                    e[stack[u]] = 0.0
                    last[stack[u]], group[stack[u]] = k, known
        for t in range(n):
            q = idx[t]
            wanted[q] = False
            if e[q] < 1e8:
                e[q] = max(np.float32(0.0), e[q] - pay)
    return found, told


def unheld(body: Layers, *, reach_mm: float, slope_deg: float = 45.0) -> list[Unheld]:
    """All that is not held, the first layer (on the plate) is. reach_mm : how far a layer may stand out freely; slope_deg : from the
    vertical, how far a wall may lean out without end. Time grows with what is not held, memory with the plan."""
    return _asked(body, reach_mm, slope_deg, _PIXEL_MM, np.zeros((0, 3)), np.zeros(4), True)[0]


def tips_for(
    body: Layers, *, reach_mm: float, bar: tuple[float, float, float, float], slope_deg: float = 45.0
) -> tuple[NDArray[np.float64], list[Unheld]]:  # fmt: skip
    """((k, 3) mm on the plate: where tips hold all of a body that stands on nothing, what they do not hold).

    bar : a, b, c, d; no tip where a x + b y + c z > d (mm on the plate): the teeth
    """
    sub = max(round(_TIP_PIXEL_MM / body.pixel_mm), 1)
    pixel = sub * body.pixel_mm
    a, b, c, d = bar
    # In pixels of the field and layers.
    x0, y0 = (body.x * body.pixel_mm - 4 * pixel), (body.y * body.pixel_mm - 4 * pixel)
    inner = np.array([a * pixel, b * pixel, c * body.layer_mm, d - a * x0 - b * y0])
    tips = np.zeros((_MOST_TIPS, 3))
    left, told = _asked(body, reach_mm, slope_deg, _TIP_PIXEL_MM, tips, inner, False)
    made = tips[:told]
    places = np.c_[x0 + (made[:, 1] + 0.5) * pixel, y0 + (made[:, 2] + 0.5) * pixel, made[:, 0] * body.layer_mm]
    return places, left


def _asked(
    body: Layers, reach: float, slope_deg: float, pixel_mm: float, tips: NDArray, bar: NDArray, first_held: bool
) -> tuple[list[Unheld], int]:  # fmt: skip
    sub = max(round(pixel_mm / body.pixel_mm), 1)
    pixel = sub * body.pixel_mm
    wide, tall = body.wide // sub + 9, body.tall // sub + 9
    pay = np.float32(body.layer_mm * np.tan(np.radians(slope_deg)))
    quiet = max(round(_QUIET_MM / body.layer_mm), 1)
    out = np.zeros((_MOST, 6))
    cost = (pixel * np.hypot(*_STEPS.T)).astype(np.float32)
    count, told = _unheld(
        body.offset, body.runs, body.count, body.tall, sub, wide, wide * tall, pay, np.float32(reach), quiet, cost,
        _STEPS[:, 0] + _STEPS[:, 1] * wide, out, tips, bar, first_held,
    )  # fmt: skip
    found = [
        Unheld(bool(row[0]), int(row[1]), _fine(row[2], sub), _fine(row[3], sub), float(row[4]) * pixel**2, float(row[5]))
        for row in out[:count]
    ]
    return found, int(told)


def _fine(cell: float, sub: int) -> float:
    """A pixel of the field in pixels of the layers."""
    return float((cell - 4) * sub + sub // 2)


def shut_in(body: Layers, layer: int, x: float, y: float) -> bool:
    """Is a place empty in this layer shut in by the body, but for ways out narrower than a drain? Then it is in a cavity."""
    step = max(round(_WAY_CELL_MM / body.pixel_mm), 1)
    image = np.zeros((body.tall, body.wide), np.uint8)
    body.only(layer, image)
    pad = round(_WAY_MM / (step * body.pixel_mm)) + 2
    empty = np.pad(image[::step, ::step] == 0, pad, constant_values=True)
    cell = step * body.pixel_mm
    label, _ = ndimage.label(ndimage.distance_transform_edt(empty) * cell > _WAY_MM / 2)
    outside = label == label[0, 0]
    away = ndimage.distance_transform_edt(~outside) * cell
    return bool(away[int(y) // step + pad, int(x) // step + pad] > _WAY_MM / 2 + 2 * cell)
