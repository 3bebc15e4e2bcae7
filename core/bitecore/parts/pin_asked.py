"""Can a pin stand there? Told for many places at once, by look-ups in grids over the plan."""

from __future__ import annotations

import numba as nb
import numpy as np
from numpy.typing import NDArray

# What a place is, and of the first or the second jaw: 4 and 5 too long a strut, and so on.
GOOD, FAR, TOUCHES, TOO_LOW, LONG, LOW, FREE, MEETS = 0, 1, 2, 3, 4, 6, 8, 10


@nb.njit(cache=True, nogil=True)
def asked(cells, off, foot_off, nearest, lowest, highest, floor, seat, sizes) -> tuple[NDArray, NDArray, NDArray, NDArray]:
    """(codes (k,), amounts (k,), ends (k, 2), lengths (k, 2)) of cells (k, 2).

    off : (nx, ny) mm to both models; of each jaw, its heights turned so that its mounting face is below: foot_off (2, nx, ny) cells to
    its foot, nearest (2, 2, nx, ny) where that is, lowest of its scan, highest of the whole, floor and seat.
    sizes : cell, post and air, room over the seat and what is asked there, longest strut, half its width, its root, what it stays under
    the scan, highest, lowest, longest free post, deep, clear of the other; all mm
    """
    cell, clear, over, over_least, long_mm, half, root_mm, under, high, low, free_mm, deep, meets = sizes
    code = np.zeros(len(cells), np.int8)
    amount = np.zeros(len(cells))
    ends, lengths = np.zeros((len(cells), 2)), np.zeros((len(cells), 2))
    nx, ny = off.shape
    for p in range(len(cells)):
        i, j = cells[p, 0], cells[p, 1]
        if i < 0 or j < 0 or i >= nx or j >= ny:
            code[p] = FAR
            continue
        if off[i, j] < clear:
            code[p] = TOUCHES
            continue
        if over < over_least:
            code[p] = TOO_LOW
            continue
        for jaw in range(2):
            length = foot_off[jaw, i, j] * cell
            lengths[p, jaw] = length
            if length > long_mm:
                code[p], amount[p] = LONG + jaw, length
                break
            x, y = nearest[jaw, 0, i, j] - i, nearest[jaw, 1, i, j] - j
            far = max(np.sqrt(x * x + y * y), 1e-9)
            x, y = x / far, y / far
            scan, other = np.inf, -np.inf
            along = 0.0
            while along < length + root_mm + 0.3:
                across = -half - 0.1
                while across < half + 0.2:
                    a = int(np.rint(i + (along * x - across * y) / cell))
                    b = int(np.rint(j + (along * y + across * x) / cell))
                    if 0 <= a < nx and 0 <= b < ny:
                        scan = min(scan, lowest[jaw, a, b])
                        other = max(other, highest[1 - jaw, a, b])
                    across += cell * 0.7
                along += cell * 0.7
            end = min(scan - under, seat[jaw] - 1.0, floor[jaw] + high)
            ends[p, jaw] = end
            # Before the strut's height: a higher base does not change it.
            free = seat[jaw] - end + (deep if jaw == 1 else 0.0)
            if free > free_mm:
                code[p], amount[p] = FREE + jaw, free
                break
            if end - floor[jaw] < low:
                code[p], amount[p] = LOW + jaw, end - floor[jaw]
                break
            # In the other's heights, turned round: the nearest of it over the strut.
            if -other < end + meets:
                code[p] = MEETS + jaw
                break
    return code, amount, ends, lengths
