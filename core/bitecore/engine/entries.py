"""Settings that a person makes many of (strokes, marks): a map from an id to an entry, so that two people, undo and history
work on one of them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, TypeVar

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, StringConstraints

from ..blobs import is_digest
from .gives import Packed
from .model import Inputs

# A letter for what it is, and a number that grows.
EntryId = Annotated[str, StringConstraints(pattern=r"^[a-z][1-9]\d{0,6}$")]
# Within a hundred metres of the scan's own nought: anything else is no place on it.
_Coordinate = Annotated[float, Field(ge=-1e5, le=1e5)]
_Inline = Annotated[tuple[tuple[_Coordinate, _Coordinate, _Coordinate], ...], Field(min_length=1, max_length=2000)]
E = TypeVar("E")


class Entry(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


# A list of points: packed, as the server keeps it, or as it is (mm).
Points = Packed | _Inline


def in_order(entries: Mapping[str, E]) -> list[E]:
    """The older first: by the number in the id."""
    return [entries[key] for key in sorted(entries, key=lambda k: (len(k), k))]


def next_id(letter: str, taken: Mapping[str, Any]) -> str:
    return f"{letter}{max((int(key[1:]) for key in taken), default=0) + 1}"


def points_of(points: Any, inputs: Inputs) -> NDArray[np.float64]:
    """(k, 3) mm. Raises ValueError for a packed list that is not among the inputs."""
    if isinstance(points, Mapping):
        if not is_digest(points["points"]) or points["points"] not in inputs.points:
            raise ValueError("a list of points is missing")
        return inputs.points[points["points"]]
    return np.array(points, np.float64)


def numbered(letter: str, entries: Any) -> Any:
    """A plain list of entries, as it was kept before, by ids; a map stays what it is."""
    return {f"{letter}{n}": entry for n, entry in enumerate(entries, 1)} if isinstance(entries, list) else entries
