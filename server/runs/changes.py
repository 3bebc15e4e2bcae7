"""Changes of a document as numbered revisions, with compare-and-swap, undo and redo. A revision holds what changed, and the
whole document now and then."""

from __future__ import annotations

import copy
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from django.utils import timezone

from accounts.services import label
from ground.errors import Refused

from . import paths
from .kinds import kind_of
from .models import Revision, Worked

# So many revisions apart stands a whole document: what the history costs, and what an old state costs to put together.
WHOLE_EVERY = 50


@dataclass(frozen=True)
class Hooks:
    """audit(action, revision, detail) writes the line of a change; work() asks for the work that follows from it."""

    audit: Callable[[str, int, dict], None]
    work: Callable[[], None]


def write(
    row: Worked, user: Any, document: dict, changes: list[dict], what: str, *, kind: str = "change",
    takes_back: int | None = None,
) -> Revision:  # fmt: skip
    """The next revision. Within a transaction, the row locked."""
    row.revision += 1
    row.document = document
    row.save(update_fields=["revision", "document", "wanted", "touched"])
    whole = not changes or row.revision % WHOLE_EVERY == 1
    return Revision.objects.create(
        owner_id=row.owner_id, number=row.revision, document=document if whole else None, changes=changes, what=what[:300], kind=kind,
        takes_back=takes_back, author=user,
    )  # fmt: skip


def back_from_now(row: Worked) -> Iterator[tuple[Revision, dict]]:
    """(revision, document as it was then), the newest first."""
    document = copy.deepcopy(row.document)
    for revision in row.revisions.select_related("author").order_by("-number").iterator(chunk_size=50):
        document = copy.deepcopy(revision.document) if revision.document is not None else document
        yield revision, document
        document = copy.deepcopy(document)
        for change in reversed(revision.changes):
            paths.write(document, change["path"], change["before"])


def change(
    row: Worked, user: Any, base: int, changes: list[tuple[list[str], Any]], what: str, hooks: Hooks, *, merge: bool = False
) -> None:
    """One revision from path and value pairs. Refused where someone else changed the same place since `base`."""
    document = copy.deepcopy(row.document)
    if not 1 <= base <= row.revision:
        raise Refused(
            "This change was made on a state that the case never had. Load it again and change it once more.", code="no-revision",
            status=409, more={"revision": row.revision},
        )  # fmt: skip
    if row.revision != base and not merge:
        _no_collision(row, user, base, [path for path, _ in changes])
    done = []
    for path, value in changes:
        before = paths.read(document, path)
        if before != value:
            paths.write(document, path, value)
            done.append({"path": path, "before": before, "after": value})
    if not done:
        return
    _checked(row, document, [d["path"] for d in done])
    row.wanted = timezone.now()
    write(row, user, document, done, what)
    hooks.audit("change", row.revision, {})
    hooks.work()


def _checked(row: Worked, document: dict, changed: list[list[str]]) -> None:
    """Do the settings that were changed fit? Others were judged when they were set. Raises BadSetting."""
    kind = kind_of(row)
    model = kind.document.model_validate(document)
    if any(path[0] == "layers" for path in changed):
        names = {name for layer in model.layers.values() for name in layer.steps if name in kind.sheet.registry}
    else:
        names = {path[1] for path in changed if path[0] == "settings" and len(path) > 1}
    for name in names:
        step = kind.sheet.registry[name]
        for address in {"*", *model.settings.get(name, {})}:
            model.settings_for(step, address)


def _no_collision(row: Worked, user: Any, base: int, wanted: list[list[str]]) -> None:
    for revision in row.revisions.filter(number__gt=base).exclude(author=user).select_related("author").defer("document"):
        for one in revision.changes:
            if any(paths.overlap(one["path"], path) for path in wanted):
                raise Refused(
                    f"{label(revision.author)} has just changed this ({revision.what}). Yours was not saved; look at "
                    "the new value and decide.",
                    code="changed-meanwhile",
                    status=409,
                )


def undo(row: Worked, user: Any, hooks: Hooks) -> None:
    """Take back my last change, as a new revision. Refused where someone has since changed the same place."""
    target = _undoable(row, user)
    if target is None:
        raise Refused("There is nothing of yours to take back.", code="nothing-to-undo", status=409)
    _reverse(row, user, target, "undo", f"Took back: {_plain(target)}", hooks)


def redo(row: Worked, user: Any, hooks: Hooks) -> None:
    """Do again what my last undo took back, unless I have changed something since."""
    target = _redoable(row, user)
    if target is None:
        raise Refused("There is nothing to do again.", code="nothing-to-redo", status=409)
    _reverse(row, user, target, "redo", f"Did again: {_plain(target)}", hooks)


def can_undo(row: Worked, user: Any) -> tuple[str | None, str | None]:
    """What an undo and a redo would do now, as words."""
    back, again = _undoable(row, user), _redoable(row, user)
    return (_plain(back) if back else None), (_plain(again) if again else None)


def _plain(revision: Revision) -> str:
    """What a revision is about, without the words of undo and redo."""
    return revision.what.removeprefix("Took back: ").removeprefix("Did again: ")


def _mine(row: Worked, user: Any) -> Iterator[Revision]:
    """My revisions, newest first, without their documents."""
    return row.revisions.filter(author=user).order_by("-number").defer("document").iterator(chunk_size=100)


def _undoable(row: Worked, user: Any) -> Revision | None:
    """My newest change or redo that no later undo of mine has taken back. The opening of the case stays."""
    gone: set[int] = set()
    for revision in _mine(row, user):
        if revision.kind == "undo":
            gone.add(revision.takes_back or 0)
        elif revision.number not in gone and revision.changes:
            return revision
    return None


def _redoable(row: Worked, user: Any) -> Revision | None:
    """My newest undo that no later redo of mine has done again, with no change of mine after it."""
    gone: set[int] = set()
    for revision in _mine(row, user):
        if revision.kind == "change":
            return None
        if revision.kind == "redo":
            gone.add(revision.takes_back or 0)
        elif revision.number not in gone:
            return revision
    return None


def _reverse(row: Worked, user: Any, target: Revision, kind: str, what: str, hooks: Hooks) -> None:
    document = copy.deepcopy(row.document)
    changes = []
    for one in reversed(target.changes):
        if paths.read(document, one["path"]) != one["after"]:
            raise Refused(
                "Someone has changed the same place since. It is not taken back; change it by hand.",
                code="changed-meanwhile",
                status=409,
            )
        paths.write(document, one["path"], one["before"])
        changes.append({"path": one["path"], "before": one["after"], "after": one["before"]})
    _checked(row, document, [one["path"] for one in changes])
    row.wanted = timezone.now()
    write(row, user, document, changes, what, kind=kind, takes_back=target.number)
    hooks.audit(kind, row.revision, {"of": target.number})
    hooks.work()
