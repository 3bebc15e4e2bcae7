"""Settings by hand and what they were set from."""

from __future__ import annotations

from typing import Any

from bitecore.engine.model import Step

from . import paths
from .kinds import document_of
from .models import Worked
from .services import look
from .store import ServerStore


def kept_beside(row: Worked, step: Step, piece: str, values: dict[str, Any]) -> list[tuple[list[str], Any]]:
    """From where settings by hand were set, to be kept beside them."""
    wanted = {name: b for name, b in step.beside.items() if name not in values and any(key in values for key in b.settings)}
    node = look(row, ServerStore()).node(step.name, piece) if wanted else None
    if node is None or node.manifest is None or node.manifest.stopped:
        return []
    given, own = node.manifest.values, document_of(row).settings.get(step.name, {}).get(piece, {})
    changes: list[tuple[list[str], Any]] = []
    for name, beside in wanted.items():
        now = given[name]["json"] if name in given else None
        if now is None:
            continue
        changes.append((["settings", step.name, piece, name], now))
        if beside.anew and own.get(name, now) != now:
            changes += [(["settings", step.name, piece, k], paths.ABSENT) for k in beside.settings if k in own and k not in values]
    return changes
