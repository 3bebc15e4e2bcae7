"""Records of the house that settings choose: pinned with the document as they are then."""

from __future__ import annotations

from typing import Any, TypeVar

from bitecore.engine.document import SheetDocument
from bitecore.engine.registry import Registry
from bitecore.errors import BadSetting
from ground.errors import Refused
from house import shelves

Changes = list[tuple[list[str], Any]]
D = TypeVar("D", bound=SheetDocument)


def with_records(registry: Registry, document: D) -> D:
    """The document with every record that its settings choose and that it has not pinned yet."""
    return document.model_copy(update={"records": {**document.records, **_missing(registry, document)}})


def pinned(registry: Registry, document: SheetDocument) -> Changes:
    """The same as changes."""
    return [
        (["records", shelf, ident], record.model_dump(mode="json"))
        for shelf, records in _missing(registry, document).items()
        for ident, record in records.items()
        if ident not in document.records.get(shelf, {})
    ]


def _missing(registry: Registry, document: SheetDocument) -> dict[str, dict[str, Any]]:
    """{shelf: {id: record}}, those that are pinned among them. Raises Refused for one that is not on its shelf."""
    out: dict[str, dict[str, Any]] = {}
    for step in registry.steps:
        for address in {"*", *document.settings.get(step.name, {})} if step.shelves else ():
            try:
                rows = document.chosen(step, address)
            except BadSetting:
                continue  # said where the step stands
            for _, shelf, ident in rows:
                kept = document.records.get(shelf, {})
                record = None if ident in kept else shelves.on(shelf).get(ident)
                if ident not in kept and record is None:
                    raise Refused(
                        f"{step.title}: “{ident[:40]}” is not on the shelf. Choose another {shelf}.", code="no-record", status=422
                    )
                out.setdefault(shelf, dict(kept))
                if record is not None:
                    out[shelf][ident] = record.record()
    return out
