"""Settings that hold many entries (strokes, marks): changed one by one, their lists of points packed."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from typing import Any

from ninja import Schema
from pydantic import Field

from bitecore.engine.entries import next_id
from bitecore.engine.gives import Packed, packed_points
from bitecore.engine.model import Step
from ground.errors import Refused

from .owning import take_bytes
from .paths import ABSENT

_MOST_POINTS = 2000


class EntryChange(Schema):
    """A change of one entry of a setting.

    at    : the setting, and where its entries are kept by scan the scan
    id    : empty for a new one
    value : None takes it away
    """

    at: list[str] = Field(min_length=1, max_length=3)
    id: str = ""
    value: dict[str, Any] | None = None


def one_entry(owner_id: int, step: Step, piece: str, own: Mapping[str, Any], entry: EntryChange) -> tuple[list[str], Any]:
    """(path, value) of the change. own : the step's settings, by address. A new entry gets the next number."""
    if entry.at[0] not in step.settings.model_fields:
        step.check({entry.at[0]: {}})
    there: Any = own.get(piece, {})
    for part in entry.at:
        there = there.get(part, {}) if isinstance(there, Mapping) else {}
    if entry.id and entry.id not in there:
        raise Refused("This was taken away meanwhile. Nothing was changed.", code="no-entry", status=404)
    key = entry.id or next_id(entry.at[0][0], there)
    value = ABSENT if entry.value is None else packed(owner_id, entry.value, there.get(key))
    return ["settings", step.name, piece, *entry.at, key], value


def packed(owner_id: int, value: Any, before: Any = None) -> Any:
    """The value with its lists of points as blobs of the owner. before : the entry in whose place it comes; its own lists stay."""
    found: dict[str, bytes] = {}
    out = _packed(value, found, before)
    if found:
        take_bytes(owner_id, found)
    return out


def _packed(value: Any, found: dict[str, bytes], before: Any = None) -> Any:
    if isinstance(value, Mapping):
        was = before if isinstance(before, Mapping) else {}
        return {k: _points(v, found, was.get(k)) if k == "points_mm" else _packed(v, found, was.get(k)) for k, v in value.items()}
    return [_packed(v, found) for v in value] if isinstance(value, list) else value


def _points(value: Any, found: dict[str, bytes], before: Any = None) -> Any:
    """Packed where it is a list of points; anything else is left to the step's own check."""
    if isinstance(value, Mapping) and value and value == before:
        return dict(value)
    if isinstance(value, Mapping):
        # Nobody names a blob of their own: only what was sent as points is kept as such.
        raise Refused("Points are sent as they are, not by name.", code="invalid", status=422)
    if isinstance(value, list) and len(value) > _MOST_POINTS:
        raise Refused(f"One stroke holds up to {_MOST_POINTS:,} places. Lift the brush in between.", code="invalid", status=422)
    if not isinstance(value, list) or not value or not all(_is_point(p) for p in value):
        return value
    data = packed_points(value)
    digest = hashlib.sha256(data).hexdigest()
    found[digest] = data
    return Packed(points=digest, count=len(value))


def _is_point(value: Any) -> bool:
    numbers = isinstance(value, list) and len(value) == 3 and all(isinstance(x, int | float) and not isinstance(x, bool) for x in value)
    return numbers and all(abs(x) < 1e5 for x in value)
