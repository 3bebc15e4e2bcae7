"""What a person did by hand on a scan, carried over to another scan of the same jaw that lies elsewhere."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from ..engine.entries import Entry
from ..engine.model import JAWS, Step

# Fields of entries that are places, and those that are ways.
_PLACES, _WAYS = ("at", "also", "eye"), ("towards",)
_LISTS = "points_mm"


def by_hand(step: Step) -> list[str]:
    """The settings of a step that hold what a person did in space on a jaw."""
    if step.over != JAWS:
        return []
    return [key for key, known in step.settings.model_fields.items() if Entry in _bases(known.annotation)]


def _bases(annotation: Any) -> set[type]:
    inner = getattr(annotation, "__args__", ())
    return {base for one in inner if isinstance(one, type) for base in one.__mro__}


def carried(value: Any, matrix: ArrayLike, listed: Callable[[Any, Callable[[NDArray], NDArray]], Any]) -> Any:
    """The same entries with their places moved.

    matrix : (4, 4) from the home of the old scan to that of the new one
    listed : (a list of points as it is kept, how they move) -> as it is kept then
    """
    m = np.asarray(matrix, float)

    def moved(points: NDArray) -> NDArray:
        return points @ m[:3, :3].T + m[:3, 3]

    def one(key: str, inner: Any) -> Any:
        if inner is None:
            return None
        if key in _PLACES:
            return np.round(moved(np.array([inner], float))[0], 3).tolist()
        if key in _WAYS:
            return np.round(m[:3, :3] @ np.array(inner, float), 6).tolist()
        return listed(inner, moved) if key == _LISTS else walk(inner)

    def walk(part: Any) -> Any:
        return {key: one(key, inner) for key, inner in part.items()} if isinstance(part, Mapping) else part

    return walk(value)
