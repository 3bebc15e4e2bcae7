"""Union-find, for kernels: what is joined has one root."""

from __future__ import annotations

import numba as nb


@nb.njit(cache=True, inline="always")
def root_of(parent, a) -> int:
    """parent : (n,), itself at a root; ways to it are halved on the way."""
    while parent[a] != a:
        parent[a] = parent[parent[a]]
        a = parent[a]
    return a
