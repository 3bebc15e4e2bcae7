"""A graph cut in two where that costs least (Ford and Fulkerson 1956; the flow by SciPy's Dinic)."""

from __future__ import annotations

import numpy as np
import scipy.sparse as sp
from numpy.typing import NDArray
from scipy.sparse.csgraph import breadth_first_order, maximum_flow

# Flows are whole numbers.
_FINE = 1000


def cut_in_two(
    edges: NDArray[np.int32], capacity: NDArray[np.float64], fixed: NDArray[np.int8], leaning: NDArray[np.float64]
) -> NDArray[np.bool_]:  # fmt: skip
    """(n,) which side each vertex is on, so that the sum of what is cut is least.

    capacity : (e,) of each edge, about 0.001 to 1000
    fixed    : (n,) 1 is on this side, -1 on the other, 0 free
    leaning  : (n,) what it costs to put a free vertex on the other side; below nought, on this one
    """
    free = fixed == 0
    number = np.cumsum(free) - 1
    m = int(free.sum())
    i, j = edges[:, 0], edges[:, 1]
    whole = np.maximum((capacity * _FINE).astype(np.int64), 1)
    both = free[i] & free[j]
    into, out = np.zeros(m), np.zeros(m)
    for a, b in ((i, j), (j, i)):
        for side, flow in ((1, into), (-1, out)):
            meets = free[a] & (fixed[b] == side)
            np.add.at(flow, number[a[meets]], whole[meets])
    lean = leaning[free] * _FINE
    into += np.clip(lean, 0, None)
    out += np.clip(-lean, 0, None)
    least = np.minimum(into, out)
    into, out = (into - least).astype(np.int64), (out - least).astype(np.int64)
    first, last = np.flatnonzero(into), np.flatnonzero(out)
    rows = np.concatenate([number[i[both]], number[j[both]], np.full(len(first), m), last])
    columns = np.concatenate([number[j[both]], number[i[both]], first, np.full(len(last), m + 1)])
    values = np.concatenate([whole[both], whole[both], into[first], out[last]])
    graph = sp.csr_matrix((np.minimum(values, 2**30).astype(np.int32), (rows, columns)), (m + 2, m + 2))
    graph.sum_duplicates()
    left = (graph - maximum_flow(graph, m, m + 1, method="dinic").flow).tocsr()
    left.data = np.where(left.data > 0, 1, 0)
    left.eliminate_zeros()
    reached = np.zeros(m + 2, bool)
    reached[breadth_first_order(left, m, return_predecessors=False)] = True
    this = fixed > 0
    this[free] = reached[:m]
    return this
