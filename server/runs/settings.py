"""A change of settings, as places of the document and what is to stand there."""

from __future__ import annotations

import copy
from typing import Any

from bitecore.engine.document import SheetDocument
from bitecore.engine.model import Step

from . import paths
from .beside import kept_beside
from .entries import EntryChange, one_entry, packed
from .kinds import document_of, kind_of
from .models import Worked
from .records import Changes, pinned


def settings_changed(row: Worked, step: str, piece: str, values: dict[str, Any], entries: list[EntryChange]) -> tuple[Changes, str]:
    """(changes, in words) that set these settings of a step for one address or, with '*', for all. Raises BadSetting for one
    the step has not."""
    known, document = kind_of(row).sheet.registry[step], document_of(row)
    changed = _brought_up(document, known)
    own = {at: known.upgraded(kept, document.versions.get(step)) for at, kept in document.settings.get(step, {}).items()}
    for key, value in values.items():
        if key not in known.settings.model_fields:
            known.check({key: value})
        changed.append((["settings", step, piece, key], packed(row.owner_id, value)))
        if piece == "*":
            # A value for all replaces what one of them had of its own.
            changed += [(["settings", step, p, key], paths.ABSENT) for p in own if p != "*" and key in own[p]]
    changed += [one_entry(row.owner_id, known, piece, own, entry) for entry in entries]
    changed += kept_beside(row, known, piece, values)
    keys = dict.fromkeys([*values, *(entry.at[0] for entry in entries)])
    titles = ", ".join(str(known.settings.model_fields[k].title) for k in keys)
    return changed + records_for(row, changed), f"{known.title}: {titles}"


def records_for(row: Worked, changed: Changes) -> Changes:
    """Records of the house that are chosen by these changes, to be pinned with them."""
    registry = kind_of(row).sheet.registry
    if all(path[0] == "settings" and path[1] in registry and not registry[path[1]].shelves for path, _ in changed):
        return []
    raw = copy.deepcopy(row.document)
    for path, value in changed:
        paths.write(raw, path, value)
    kind = kind_of(row)
    fresh = {value for path, value in changed if path[0] == "settings" and isinstance(value, str)}
    return pinned(kind.sheet.registry, kind.document.model_validate(raw), fresh)


def _brought_up(document: SheetDocument, known: Step) -> Changes:
    """Settings saved under an older version of the step are rewritten as new ones are put beside them."""
    saved = document.versions.get(known.name)
    if saved == known.version:
        return []
    own = document.settings.get(known.name, {})
    rewritten = {piece: known.upgraded(values, saved) for piece, values in own.items()}
    out: Changes = [(["versions", known.name], known.version)]
    return [*out, (["settings", known.name], rewritten)] if rewritten != own else out
