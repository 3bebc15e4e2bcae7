"""What can be done with a case. One function per use: permission, one transaction, work asked for on commit."""

from __future__ import annotations

import copy
from collections.abc import Iterator
from typing import Any

from django.db import IntegrityError, connection, transaction
from django.utils import timezone

from accounts.services import label
from bitecore.anatomy.notation import parsed
from bitecore.runsheet import CaseDocument, PieceEntry, standard
from config.errors import Refused
from house.services import newest
from runs.models import Owner
from runs.owning import take_files
from runs.services import OPEN_FOR, ask_for_work, bring_forward, rank_of

from . import paths
from .beside import kept_beside
from .blobs import Accepted
from .documents import document_of, newest_revision
from .models import AuditLine, Case, Presence, Revision
from .names import PERSONAL, Names, listed

DETAILS = ("patient", "practice", "technician", "purpose", "due", "teeth", "opposing", "notes")
_MOST_A_MONTH = 999


def visible(user: Any, number: str) -> Case:
    case = Case.objects.visible_to(user).filter(number=number).first()
    if case is None:
        raise Refused(f"There is no case {number[:20]}.", code="no-case", status=404)
    return case


def found(user: Any, find: str, *, closed: bool, veiled: bool) -> list[Case]:
    """The newest two hundred open (or closed) cases; with words to find, those of which some field holds each. Under the
    veil nothing is found by what it hides."""
    cases = Case.objects.visible_to(user).filter(closed__isnull=not closed)
    words = find.lower().split()
    if not words:
        return list(cases.defer("last_good", "demanded")[:200])
    keys = [key for key in DETAILS if not veiled or key not in PERSONAL]
    out = []
    for case in cases.iterator():
        document = document_of(case)
        names = Names(document, veiled=veiled)
        fields = [case.number, *(getattr(document, key) for key in keys), *(names.of(p.id) for p in document.live)]
        text = " ".join(fields).lower()
        if all(word in text for word in words):
            out.append(case)
    return out[:200]


def is_given(number: str) -> bool:
    """Was this number ever a case's here? Those of deleted ones are not given again."""
    return Case.objects.filter(number=number).exists() or AuditLine.objects.filter(case_number=number).exists()


def next_number() -> str:
    """Year, month and a running number: 2611-07."""
    stem = timezone.now().strftime("%y%m")
    form = rf"^{stem}-[0-9]{{2,4}}$"
    given = [
        *Case.objects.filter(number__regex=form).values_list("number", flat=True),
        *AuditLine.objects.filter(case_number__regex=form, action="delete").values_list("case_number", flat=True),
    ]
    last = max((int(n.rsplit("-", 1)[1]) for n in given), default=0)
    if last < _MOST_A_MONTH:
        return f"{stem}-{last + 1:02d}"
    # Somebody's number came in from the far end: the first gap.
    taken = set(given)
    free = next((n for n in range(1, 10 * _MOST_A_MONTH) if f"{stem}-{n:02d}" not in taken), None)
    if free is None:
        raise Refused("No case number is left in this month.", code="no-number", status=409)
    return f"{stem}-{free:02d}"


def open_case(user: Any, files: list[Accepted], *, token: str = "", **details: str) -> Case:
    """A new case with these scans; the same one where this drop came before (its answer was lost on the way)."""
    for _ in range(20):
        try:
            return _open_case(user, files, details, token)
        except IntegrityError:
            continue  # another case took the number
    raise Refused("No case number could be given. Try again.", code="busy", status=503)


def _came_before(user: Any, token: str) -> Case | None:
    """The case a drop of this name made or filled. Waits where the same drop is being taken right now."""
    if not token:
        return None
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_advisory_xact_lock(hashtextextended(%s, 0))", [token])
    line = AuditLine.objects.filter(user=user, action__in=("open", "add"), detail__drop=token).first()
    return Case.objects.filter(number=line.case_number).first() if line else None


@transaction.atomic
def _open_case(user: Any, files: list[Accepted], details: dict[str, str], token: str) -> Case:
    known = _came_before(user, token)
    if known:
        return known
    number = next_number()
    owner = Owner.objects.create()
    take_files(owner.pk, [(f.sha256, f.ready) for f in files])
    case = Case.objects.create(number=number, owner=owner, needs_work=True, wanted=timezone.now())
    house = newest()
    document = CaseDocument(
        number=number,
        opened=timezone.localdate().isoformat(),
        house=house.steps,
        house_versions=house.versions,
        house_revision=house.number,
        **details,
    )
    pieces = _with_pieces(document, files)
    _write(case, user, document.model_dump(mode="json"), [], f"Case opened with {listed(pieces)}")
    _audit(user, case, "open", {"files": [[f.name, f.sha256] for f in files], "drop": token})
    _work(case)
    return case


def add_files(user: Any, number: str, files: list[Accepted], *, token: str = "") -> Case:
    """More scans for a case; a file that is there already, byte for byte, is not added again."""
    with transaction.atomic():
        before = _came_before(user, token)
        if before:
            return before
        case = locked(user, number)
        document = document_of(case)
        known = {p.sha256 for p in document.live}
        fresh = [f for f in files if f.sha256 not in known]
        if not fresh:
            raise Refused("These files are in the case already.", code="same-file", status=409)
        take_files(case.owner_id, [(f.sha256, f.ready) for f in fresh])
        old = [p.model_dump() for p in document.pieces]
        added = _with_pieces(document, fresh)
        new = [p.model_dump() for p in document.pieces]
        changes = [{"path": ["pieces"], "before": old, "after": new}]
        _write(case, user, document.model_dump(mode="json"), changes, f"Added {listed(added)}")
        _audit(user, case, "add", {"files": [[f.name, f.sha256] for f in fresh], "drop": token})
        _work(case)
        return case


def _with_pieces(document: CaseDocument, files: list[Accepted]) -> list[str]:
    """Put the files into the document; the ids they got."""
    # A number that settings still name is not given again, even where its piece was taken back.
    names = {p.id for p in document.pieces} | {piece for step in document.settings.values() for piece in step}
    start = max((int(n[1:]) for n in names if n[1:].isdigit()), default=0) + 1
    drop = max((p.drop for p in document.pieces), default=-1) + 1
    fresh = [PieceEntry(id=f"p{start + i}", file=f.name, sha256=f.sha256, drop=drop) for i, f in enumerate(files)]
    document.pieces += fresh
    return [entry.id for entry in fresh]


def change_settings(user: Any, number: str, base: int, step: str, piece: str, values: dict[str, Any]) -> Case:
    """Set (or with None as the marker ABSENT, clear) settings of a step for one jaw or, with '*', for both."""
    known = standard()[step]
    with transaction.atomic():
        case = locked(user, number)
        if piece != "*" and piece not in {p.id for p in document_of(case).pieces}:
            raise Refused("This scan is not in the case. Nothing was changed.", code="no-piece", status=404)
        _bring_up_to_date(case, user, step)
        changes = []
        for key, value in values.items():
            if key not in known.settings.model_fields:
                known.check({key: value})
            changes.append((["settings", step, piece, key], value))
            if piece == "*":
                # A value for both jaws replaces what one of them had of its own.
                own = document_of(case).settings.get(step, {})
                changes += [(["settings", step, p, key], paths.ABSENT) for p in own if p != "*" and key in own[p]]
        changes += kept_beside(case, known, piece, values)
        titles = ", ".join(str(known.settings.model_fields[k].title) for k in values)
        return change(case, user, base, changes, f"{known.title}: {titles}")


def _bring_up_to_date(case: Case, user: Any, step: str) -> None:
    """Settings saved under an older version of the step are rewritten before new ones are put beside them."""
    document, known = document_of(case), standard()[step]
    saved = document.versions.get(step)
    if saved == known.version:
        return
    own = document.settings.get(step, {})
    document.versions[step] = known.version
    if saved is None and not own:
        # The first settings of this step in this case: only the version is noted, with them.
        row = newest_revision(case)
        row.document = document.model_dump(mode="json")
        row.save(update_fields=["document"])
        return
    document.settings[step] = {piece: known.upgraded(values, saved) for piece, values in own.items()}
    _write(case, user, document.model_dump(mode="json"), [], f"{known.title}: settings brought up to date")
    _audit(user, case, "upgrade", {"step": step, "from": saved, "to": known.version})


def change_details(user: Any, number: str, base: int, values: dict[str, str]) -> Case:
    """Patient, practice, purpose, due, notes: at any time, never a must."""
    with transaction.atomic():
        case = locked(user, number)
        if "teeth" in values:
            values = {**values, "teeth": parsed(values["teeth"])}
        unknown = set(values) - set(DETAILS)
        if unknown:
            raise Refused(f"A case has no detail “{', '.join(sorted(unknown))}”.", code="invalid", status=422)
        return change(case, user, base, [([k], v.strip()[:2000]) for k, v in values.items()], f"Details: {', '.join(values)}")


def accept(user: Any, number: str, base: int, steps: list[str], accepted: bool) -> Case:
    """Accept steps (or take acceptance back)."""
    with transaction.atomic():
        case = locked(user, number)
        titles = [standard()[s].title for s in steps]
        now = set(document_of(case).accepted)
        after = sorted(now | set(steps) if accepted else now - set(steps), key=lambda s: standard()[s].number)
        if after == sorted(now, key=lambda s: standard()[s].number):
            return case
        verb = "Accepted" if accepted else "Acceptance taken back"
        return change(case, user, base, [(["accepted"], after)], f"{verb}: {', '.join(titles)}", merge=True)


def hand_off(user: Any, number: str) -> Case:
    """Ask for the files. Only once everything above was accepted."""
    with transaction.atomic():
        case = locked(user, number)
        missing = [s.title for s in standard().shown if s.name != "hand-off" and s.name not in document_of(case).accepted]
        if missing:
            raise Refused(
                f"Hand-off waits for your yes to {', '.join(missing)}.", code="not-accepted", status=409,
                more={"missing": missing},
            )  # fmt: skip
        case.demanded, case.wanted = ["hand-off"], timezone.now()
        case.save(update_fields=["demanded", "wanted", "touched"])
        _audit(user, case, "hand-off", {})
        _work(case)
        return case


def change(case: Case, user: Any, base: int, changes: list[tuple[list[str], Any]], what: str, *, merge: bool = False) -> Case:
    """One revision from path and value pairs. Refused where someone else changed the same place since `base`."""
    document = copy.deepcopy(newest_revision(case).document)
    if not 1 <= base <= case.revision:
        raise Refused(
            "This change was made on a state that the case never had. Load it again and change it once more.", code="no-revision",
            status=409, more={"revision": case.revision},
        )  # fmt: skip
    if case.revision != base and not merge:
        _no_collision(case, user, base, [path for path, _ in changes])
    done = []
    for path, value in changes:
        before = paths.read(document, path)
        if before != value:
            paths.write(document, path, value)
            done.append({"path": path, "before": before, "after": value})
    if not done:
        return case
    _checked(document, [d["path"] for d in done])
    case.wanted = timezone.now()
    _write(case, user, document, done, what[:300])
    _audit(user, case, "change", {"changes": done})
    _work(case)
    return case


def _checked(document: dict, changed: list[list[str]]) -> None:
    """Do the settings that were changed fit? Others were judged when they were set. Raises BadSetting."""
    model = CaseDocument.model_validate(document)
    for name in {path[1] for path in changed if path[0] == "settings" and len(path) > 1}:
        step = standard()[name]
        for piece in {"*", *model.settings.get(name, {})}:
            model.settings_for(step, piece)


def _no_collision(case: Case, user: Any, base: int, wanted: list[list[str]]) -> None:
    for revision in case.revisions.filter(number__gt=base).exclude(author=user).select_related("author"):
        for change in revision.changes:
            if any(paths.overlap(change["path"], path) for path in wanted):
                raise Refused(
                    f"{label(revision.author)} has just changed this ({revision.what}). Yours was not saved; look at "
                    "the new value and decide.",
                    code="changed-meanwhile",
                    status=409,
                )


def undo(user: Any, number: str) -> Case:
    """Take back my last change, as a new revision. Refused where someone has since changed the same place."""
    with transaction.atomic():
        case = locked(user, number)
        target = _undoable(case, user)
        if target is None:
            raise Refused("There is nothing of yours to take back.", code="nothing-to-undo", status=409)
        return _reverse(case, user, target, "undo", f"Took back: {_plain(target)}")


def redo(user: Any, number: str) -> Case:
    """Do again what my last undo took back, unless I have changed something since."""
    with transaction.atomic():
        case = locked(user, number)
        target = _redoable(case, user)
        if target is None:
            raise Refused("There is nothing to do again.", code="nothing-to-redo", status=409)
        return _reverse(case, user, target, "redo", f"Did again: {_plain(target)}")


def _plain(revision: Revision) -> str:
    """What a revision is about, without the words of undo and redo."""
    return revision.what.removeprefix("Took back: ").removeprefix("Did again: ")


def _mine(case: Case, user: Any) -> Iterator[Revision]:
    """My revisions, newest first, without their documents."""
    return case.revisions.filter(author=user).order_by("-number").defer("document").iterator(chunk_size=100)


def _undoable(case: Case, user: Any) -> Revision | None:
    """My newest change or redo that no later undo of mine has taken back. The opening of the case stays."""
    gone: set[int] = set()
    for revision in _mine(case, user):
        if revision.kind == "undo":
            gone.add(revision.takes_back or 0)
        elif revision.number not in gone and revision.changes:
            return revision
    return None


def _redoable(case: Case, user: Any) -> Revision | None:
    """My newest undo that no later redo of mine has done again, with no change of mine after it."""
    gone: set[int] = set()
    for revision in _mine(case, user):
        if revision.kind == "change":
            return None
        if revision.kind == "redo":
            gone.add(revision.takes_back or 0)
        elif revision.number not in gone:
            return revision
    return None


def _reverse(case: Case, user: Any, target: Revision, kind: str, what: str) -> Case:
    document = copy.deepcopy(newest_revision(case).document)
    changes = []
    for change in reversed(target.changes):
        if paths.read(document, change["path"]) != change["after"]:
            raise Refused(
                "Someone has changed the same place since. It is not taken back; change it by hand.",
                code="changed-meanwhile",
                status=409,
            )
        paths.write(document, change["path"], change["before"])
        changes.append({"path": change["path"], "before": change["after"], "after": change["before"]})
    _checked(document, [change["path"] for change in changes])
    case.wanted = timezone.now()
    _write(case, user, document, changes, what[:300], kind=kind, takes_back=target.number)
    _audit(user, case, kind, {"of": target.number})
    _work(case)
    return case


def can_undo(case: Case, user: Any) -> tuple[str | None, str | None]:
    """What an undo and a redo would do now, as words."""
    back, again = _undoable(case, user), _redoable(case, user)
    return (_plain(back) if back else None), (_plain(again) if again else None)


def hold(user: Any, number: str, held: bool) -> Case:
    """Stop working on a case, or go on."""
    with transaction.atomic():
        case = locked(user, number)
        case.held, case.wanted = held, timezone.now()
        case.trouble, case.retry, case.retries = "", None, 0
        case.save(update_fields=["held", "wanted", "trouble", "retry", "retries", "touched"])
        _audit(user, case, "hold" if held else "go-on", {})
        _work(case)
        return case


def here(user: Any, case: Case) -> list[str]:
    """I have this case open; who else has?"""
    now = timezone.now()
    Presence.objects.update_or_create(case=case, user=user, defaults={"seen": now})
    if case.needs_work:
        bring_forward(case, rank_of(case))
    others = Presence.objects.filter(case=case, seen__gt=now - OPEN_FOR).exclude(user=user)
    return [label(p.user) for p in others.select_related("user")]


def locked(user: Any, number: str) -> Case:
    visible(user, number)
    case = Case.objects.select_for_update().get(number=number)
    if case.closed is not None:
        raise Refused(f"Case {number} is closed. Open it again to change it.", code="closed", status=409)
    return case


def _write(
    case: Case, user: Any, document: dict, changes: list[dict], what: str, *, kind: str = "change",
    takes_back: int | None = None,
) -> None:  # fmt: skip
    case.revision += 1
    case.save(update_fields=["revision", "wanted", "touched"])
    Revision.objects.create(
        case=case, number=case.revision, document=document, changes=changes, what=what, kind=kind,
        takes_back=takes_back, author=user,
    )  # fmt: skip


def _audit(user: Any, case: Case, action: str, detail: dict) -> None:
    AuditLine.objects.create(user=user, case_number=case.number, action=action, detail=detail)


def _work(case: Case) -> None:
    # The job is written in the same transaction: what is accepted is also going to be worked out.
    ask_for_work(case)
