"""The purpose and the practice of a case, with the settings they bring, pinned as they are then."""

from __future__ import annotations

from typing import Any

from accounts.services import is_lead
from ground.errors import Refused
from house import shelves
from runs.paths import ABSENT

LAYERED = ("purpose", "practice")
Changes = list[tuple[list[str], Any]]


def chosen(user: Any, key: str, text: str) -> Changes:
    """A purpose or a practice by id or name: the words, and the settings it brings. A practice that is not known yet is put on
    the shelf; purposes are the lead's."""
    if not text:
        return [([key], ""), (["layers", key], ABSENT)]
    record = shelves.practice(user, text) if key == "practice" else shelves.named(key, text)
    if record is None:
        names = ", ".join(r.name for r in shelves.on(key).values())
        if key == "purpose" and is_lead(user):
            asks = f"There is no purpose “{text[:60]}” in this house. There are: {names}. Make it one, without settings of its own as yet?"
            raise Refused(asks, code="no-purpose", status=422)
        raise Refused(
            f"There is no {key} “{text[:60]}” in this house. There are: {names}. A lead adds others.", code="no-record", status=422
        )
    return [([key], record.name), (["layers", key], record.layer().model_dump(mode="json"))]
