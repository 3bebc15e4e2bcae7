"""Records of the house that settings choose: pinned with the document as they are then."""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Iterator
from typing import Any, TypeVar

from bitecore.engine.document import SheetDocument
from bitecore.engine.model import Step
from bitecore.engine.registry import Registry
from bitecore.errors import BadSetting
from ground.errors import Refused
from house import shelves

Changes = list[tuple[list[str], Any]]
D = TypeVar("D", bound=SheetDocument)


def with_records(registry: Registry, document: D) -> D:
    """The document with every record that its settings choose and that it has not pinned yet. What is not on its shelf any more
    is left: the step that asks for it says so."""
    records = {shelf: dict(kept) for shelf, kept in document.records.items()}
    for _, _, shelf, ident in _chosen(registry, document):
        record = shelves.on(shelf).get(ident)
        if record is not None:
            records.setdefault(shelf, {}).setdefault(ident, record.record())
    return document.model_copy(update={"records": records})


def pinned(registry: Registry, document: SheetDocument, fresh: Collection[str]) -> Changes:
    """The same as changes. Raises Refused where one of the ids that have just been chosen is not on its shelf."""
    out: Changes = []
    for step, _, shelf, ident in _chosen(registry, document):
        if ident in document.records.get(shelf, {}):
            continue
        record = shelves.on(shelf).get(ident)
        if record is not None:
            out.append((["records", shelf, ident], record.record().model_dump(mode="json")))
        elif ident in fresh:
            sentence = f"{step.title}: “{ident[:40]}” is not on the shelf. Choose another {shelf}."
            raise Refused(sentence, code="no-record", status=422)
    return out


def newer_records(registry: Registry, document: SheetDocument) -> dict[str, str]:
    """{step.setting: name} of records that settings choose and the shelf holds otherwise by now. Nothing takes them up by itself."""
    return {f"{step.name}.{key}": record.name for step, key, _, record in _otherwise(registry, document)}


def as_they_are_now(registry: Registry, document: SheetDocument) -> tuple[Changes, str]:
    """(changes, in words) that pin these records as the shelf holds them now. Raises Refused where all are."""
    found = {(shelf, record.id): record for _, _, shelf, record in _otherwise(registry, document)}
    if not found:
        raise Refused("All of it is as the shelf has it.", code="nothing-newer", status=409)
    places: Changes = [(["records", shelf, ident], record.record().model_dump(mode="json")) for (shelf, ident), record in found.items()]
    return places, f"As the shelf has it now: {', '.join(record.name for record in found.values())}"


def _otherwise(registry: Registry, document: SheetDocument) -> Iterator[tuple[Step, str, str, shelves.OnShelf]]:
    """(step, setting, shelf, the record as it is now), where another is pinned."""
    seen: dict[str, dict[str, shelves.OnShelf]] = {}
    for step, key, shelf, ident in _chosen(registry, document):
        kept = document.records.get(shelf, {}).get(ident)
        if kept is None:
            continue
        if shelf not in seen:
            seen[shelf] = shelves.on(shelf)
        now = seen[shelf].get(ident)
        if now and (kept.name, kept.data) != (now.name, now.data):
            yield step, key, shelf, now


def _chosen(registry: Registry, document: SheetDocument) -> Iterator[tuple[Step, str, str, str]]:
    """(step, setting, shelf, id) of every setting that chooses from a shelf."""
    for step in registry.steps:
        for address in {"*", *document.settings.get(step.name, {})} if step.shelves else ():
            # What does not fit is said where the step stands.
            with contextlib.suppress(BadSetting):
                yield from ((step, *row) for row in document.chosen(step, address))
