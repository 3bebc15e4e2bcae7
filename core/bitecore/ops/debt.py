"""The field behind held.py, compiled: what every pixel of a layer owes to what holds it.

e : the debt (mm), infinite where nothing holds; stamp : the last layer in which a pixel was cured; cost, way : (s,), (s, 3) of each step to
a neighbour its length, where it goes and which two pixels it passes; idx, stack, queue : room to work in
"""

from __future__ import annotations

import numba as nb
import numpy as np

from .afloat import field_pixel

# Hangs of one place follow each other within so many layers.
_SAME_LAYERS = 8


@nb.njit(cache=True)
def _spread(e, stamp, k, idx, n, cost, way):
    for turn in range(400):
        changed = False
        for t in range(n):
            q = idx[t] if turn & 1 == 0 else idx[n - 1 - t]
            best = e[q]
            for s in range(len(way)):
                p = q + way[s, 0]
                if stamp[p] == k and e[p] + cost[s] < best and (stamp[q + way[s, 1]] == k or stamp[q + way[s, 2]] == k):
                    best = e[p] + cost[s]
            if best < e[q] - 1e-6:
                e[q] = best
                changed = True
        if not changed:
            return


@nb.njit(cache=True)
def _onward(e, stamp, k, young, n, queue, cost, way):
    """Those cured now for the first time know what they owe: what was there before may owe less over them."""
    for t in range(n):
        q = young[t]
        for s in range(len(way)):
            p = q + way[s, 0]
            if stamp[p] == k and e[q] + cost[s] < e[p] - 1e-6:
                _reached(q, e[q], e, stamp, k, queue, cost, way)
                break


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
def _floating(start, idx, n, e, stamp, k, wanted, taken, stack, wide):
    """How many that nothing holds hang together with `start`; they stand in `stack` then."""
    if e[start] < 1e8 or stamp[start] != k:
        return 0
    for t in range(n):
        wanted[idx[t]], taken[idx[t]] = e[idx[t]] > 1e8, False
    return _flood(start, wanted, taken, stack, wide)


@nb.njit(cache=True)
def _laid(offset, runs, k, tall0, sub, first, wide, stamp, e, born, idx, young, first_held):
    """The layer onto the field: every pixel that is cured, those with a debt in idx, those not cured in the layer before in young too; how
    many these are each. first : the column and the row that the field begins with"""
    n, new = 0, 0
    for j in range((tall0 - first[1] + sub - 1) // sub):
        row = k * tall0 + j * sub + first[1]
        base = (j + 4) * wide + 4
        for r in range(offset[row], offset[row + 1]):
            for i in range((runs[r, 0] - first[0] + sub - 1) // sub, (runs[r, 1] - first[0] + sub - 1) // sub):
                q = base + i
                if stamp[q] != k - 1:
                    e[q] = 0.0 if k == 0 and first_held else 1e9
                    born[q] = k
                    young[new] = q
                    new += 1
                stamp[q] = k
                if e[q] > 0:
                    idx[n] = q
                    n += 1
    return n, new


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
def _reached(start, owes, e, stamp, k, queue, cost, way):
    """`start` owes so much now (nothing where a tip holds it): what owes less over it does."""
    n, m = 0, 1
    queue[0] = start
    e[start] = owes
    while n < m:
        q = queue[n % len(queue)]
        n += 1
        for s in range(len(way)):
            p = q + way[s, 0]
            by = stamp[q + way[s, 1]] == k or stamp[q + way[s, 2]] == k
            if by and stamp[p] == k and e[q] + cost[s] < e[p] - 1e-6 and m - n < len(queue):
                e[p] = e[q] + cost[s]
                queue[m % len(queue)] = p
                m += 1


@nb.njit(cache=True)
def _nearest_cured(row, column, first, sub, stamp, k, wide):
    """The pixel of the field beside a place of the layers; one that is not cured where none is."""
    middle = field_pixel(row, column, sub, first, wide)
    for a, b in ((0, 0), (0, 1), (0, -1), (1, 0), (-1, 0), (1, 1), (1, -1), (-1, 1), (-1, -1)):
        if stamp[middle + a * wide + b] == k:
            return middle + a * wide + b
    return middle


@nb.njit(cache=True)
def _propped(stack, m, e, stamp, k, queue, reach, wide, pixel, bar, cost, way, tips, told):
    """Tips under what hangs together in `stack`: first in a lattice of triangles, then where it is still too far from one. None where
    `bar` says so (from which layer on, of every pixel). How many tips there are then."""
    step = np.sqrt(3.0) * reach * 0.95
    for first in (True, False):
        while told < len(tips):
            at, far = -1, reach
            for u in range(m):
                q = stack[u]
                if k >= bar[q]:
                    continue
                if first:
                    x, y = q % wide, q // wide
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
            _reached(at, 0.0, e, stamp, k, queue, cost, way)
            tips[told, 0], tips[told, 1], tips[told, 2] = k, at % wide, at // wide
            told += 1
    return told


@nb.njit(cache=True)
def _afloat(one, first, sub, wide, stamp, e, idx, n, wanted, taken, stack, queue, cost, way, tips, told, out, found, last, group):
    """What begins in mid-air as afloat.py says gets its tip, or is told: (how many tips there are then, how many are told)."""
    k, since, row, column, area, low = one
    at = _nearest_cured(row, column, first, sub, stamp, k, wide)
    if told < len(tips) and low >= 0:
        if stamp[at] == k:
            _reached(at, 0.0, e, stamp, k, queue, cost, way)
        tips[told, 0], tips[told, 1], tips[told, 2] = low, (column - first[0]) / sub + 4, (row - first[1]) / sub + 4
        return told + 1, found
    if found == len(out):
        return told, found
    out[found] = np.array([1, since, at % wide, at // wide, area / sub**2, 0.0])
    for u in range(_floating(at, idx, n, e, stamp, k, wanted, taken, stack, wide)):
        e[stack[u]] = 0.0
        last[stack[u]], group[stack[u]] = k, found
    return told, found + 1


@nb.njit(cache=True)
def _farthest(stack, m, e):
    at, far = stack[0], np.float32(0.0)
    for u in range(m):
        if e[stack[u]] > far:
            at, far = stack[u], e[stack[u]]
    return at, far


@nb.njit(cache=True)
def _known(stack, m, k, born, last, group, wide):
    """(the layer in which it began, the finding it goes on from or -1, how many of its pixels belong to none yet)."""
    since, known, fresh = k, -1, 0
    for u in range(m):
        p = stack[u]
        since = min(since, born[p])
        fresh += 1 if k - last[p] > _SAME_LAYERS else 0
        for a in (-1, 0, 1):
            for b in (-wide, 0, wide):
                if known < 0 and k - last[p + a + b] <= _SAME_LAYERS:
                    known = group[p + a + b]
    return since, known, fresh


@nb.njit(cache=True, nogil=True)
def owed(
    offset, runs, count, tall0, sub, first, wide, size, pay, reach, quiet, cost, way, out, tips, bar, first_held, begun
) -> tuple[int, int]:  # fmt: skip
    """How many are told in `out`, and how many tips are set (none where there is no room for any). begun : of afloat.py, what begins in
    mid-air, whatever it seems to hang together with here"""
    e, born = np.full(size, 1e9, np.float32), np.zeros(size, np.int32)
    stamp, last, group = np.full(size, -2, np.int32), np.full(size, -1000, np.int32), np.zeros(size, np.int32)
    wanted, taken = np.zeros(size, np.bool_), np.zeros(size, np.bool_)
    idx, young, stack, queue = np.empty(size, np.int32), np.empty(size, np.int32), np.empty(size, np.int32), np.empty(size, np.int32)
    found, told, next_begun, changed = 0, 0, 0, True
    for k in range(count):
        n, new = _laid(offset, runs, k, tall0, sub, first, wide, stamp, e, born, idx, young, first_held)
        if changed:
            _spread(e, stamp, k, idx, n, cost, way)
        elif new > 0:
            # What was there before owes less by the same everywhere: only what is new can change that.
            _spread(e, stamp, k, young, new, cost, way)
            _onward(e, stamp, k, young, new, queue, cost, way)
        changed = False
        while next_begun < len(begun) and begun[next_begun, 0] == k:
            told, found = _afloat(
                begun[next_begun], first, sub, wide, stamp, e, idx, n, wanted, taken, stack, queue, cost, way, tips, told, out, found,
                last, group,
            )  # fmt: skip
            next_begun += 1
            changed = True
        # First what begins in mid-air (1), then what hangs out too far (0); once told, it counts as held.
        over = False
        for t in range(n):
            if e[idx[t]] > reach:
                over = True
                break
        for island in (1, 0):
            for t in range(n if over else 0):
                q = idx[t]
                taken[q] = False
                wanted[q] = e[q] > 1e8 if island else reach < e[q] < 1e8
            for t in range(n if over else 0):
                q = idx[t]
                if not wanted[q] or taken[q]:
                    continue
                m = _flood(q, wanted, taken, stack, wide)
                since, known, fresh = _known(stack, m, k, born, last, group, wide)
                at, far = _farthest(stack, m, e)
                # An island was told above, or is a speck still; one that is neither hangs by less than a pixel.
                if island and k - since < quiet:
                    for u in range(m):
                        born[stack[u]] = since
                    continue
                changed = True
                if len(tips):
                    if island and m * cost[0] ** 2 < 3.0 * reach * reach:
                        at = _nearest_middle(stack, m, wide)
                        if k < bar[at] and told < len(tips):
                            _reached(at, 0.0, e, stamp, k, queue, cost, way)
                            tips[told, 0], tips[told, 1], tips[told, 2] = k, at % wide, at // wide
                            told += 1
                    told = _propped(stack, m, e, stamp, k, queue, reach, wide, cost[0], bar, cost, way, tips, told)
                    # What is left is told by its farthest place.
                    at, far = _farthest(stack, m, e)
                    if far <= reach:
                        continue
                if known < 0 and not island and found < len(out):
                    out[found] = np.array([0, k, at % wide, at // wide, m, far])
                    known = found
                    found += 1
                elif known >= 0 and not island:
                    out[known, 4] += fresh
                    out[known, 5] = max(out[known, 5], far)
                for u in range(m):
                    e[stack[u]] = 0.0
                    if not island:
                        last[stack[u]], group[stack[u]] = k, known
        for t in range(n):
            q = idx[t]
            wanted[q] = False
            if e[q] < 1e8:
                e[q] = max(np.float32(0.0), e[q] - pay)
    return found, told
