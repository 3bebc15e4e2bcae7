"""Scans that lie on one another: a desk scan on the mouth's, that on its jaw."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def lies_on(followers: dict, piece: str) -> tuple[str, NDArray[np.float64]]:
    """(what a scan lies on in the end, its home to that one's). followers : {piece: FollowPlace or None}"""
    at, matrix = piece, np.eye(4)
    for _ in range(len(followers)):
        place = followers.get(at)
        if not place:
            break
        at, matrix = place["on"], np.array(place["home_to_jaw"]) @ matrix
    return at, matrix
