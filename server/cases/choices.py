"""What becomes of each scan of a case: put aside, beside another, or instead of it."""

from __future__ import annotations

from typing import Any

from django.db import transaction

from bitecore.runsheet import PieceEntry
from ground.errors import Refused
from runs.paths import ABSENT

from .documents import document_of
from .models import Case
from .names import token
from .services import change, locked


def put_aside(user: Any, number: str, base: int, piece: str) -> Case:
    """Take a scan out of the case; its file is kept, and undo brings it back."""
    with transaction.atomic():
        case = locked(user, number)
        entry = live(case, piece)
        return _change_pieces(case, user, base, {piece: {"retired": True}}, f"Put aside: {token(entry.id)}")


def instead_of(user: Any, number: str, base: int, new: str, old: str) -> Case:
    """`new` takes the place of `old`: settings made for the old one are the new one's."""
    with transaction.atomic():
        case = locked(user, number)
        there, entry = live(case, old), live(case, new)
        document = document_of(case)
        moved = []
        for step, own in document.settings.items():
            # Also those of the parts that were made of it.
            for at in [at for at in own if at.split(".")[0] == old and (step != "intake" or at != old)]:
                moved.append((["settings", step, new + at.removeprefix(old)], own[at]))
        for at, part in document.parts.items():
            if at.split(".")[0] == old:
                moved += [(["parts", new + at.removeprefix(old)], part.model_dump()), (["parts", at], ABSENT)]
        jaw = document.settings.get("intake", {}).get(old, {})
        if jaw:
            moved.append((["settings", "intake", new], {**jaw, **document.settings["intake"].get(new, {})}))
        what = f"{token(entry.id)} instead of {token(there.id)}"
        return _change_pieces(case, user, base, {old: {"retired": True, "replaced": True}, new: {"beside": False}}, what, moved)


def beside(user: Any, number: str, base: int, piece: str) -> Case:
    """A second scan of a jaw stays beside the first; the run sheet goes on with the first."""
    with transaction.atomic():
        case = locked(user, number)
        entry = live(case, piece)
        return _change_pieces(case, user, base, {piece: {"beside": True}}, f"{token(entry.id)} kept beside")


def live(case: Case, piece: str) -> PieceEntry:
    """The scan of this name that counts. Raises Refused."""
    for entry in document_of(case).live:
        if entry.id == piece:
            return entry
    raise Refused("This scan is not in the case any more.", code="no-piece", status=404)


def _change_pieces(
    case: Case, user: Any, base: int, changed: dict[str, dict[str, Any]], what: str, more: list[tuple[list[str], Any]] | None = None
) -> Case:
    pieces = [p.model_copy(update=changed.get(p.id, {})).model_dump() for p in document_of(case).pieces]
    return change(case, user, base, [(["pieces"], pieces), *(more or [])], what)
