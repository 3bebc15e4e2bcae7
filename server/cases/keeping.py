"""Closing, finding again, keeping for years, deleting before that, and carrying a case to another installation."""

from __future__ import annotations

import io
import json
import shutil
import zipfile
from datetime import date, timedelta
from typing import Any

from django.db import transaction
from django.utils import timezone

from accounts.services import is_lead, label
from bitecore.engine.gives import digests_in
from bitecore.runsheet import CaseDocument, standard
from bitecore.runsheet.toothed import teeth_files
from bitecore.text import plain
from ground.errors import Refused
from house.services import retention_years
from runs.changes import WHOLE_EVERY, back_from_now
from runs.models import Owner, Revision
from runs.owning import folder, let_go, pictures, sweep, take_files
from runs.paths import applied
from runs.services import announce, ask_for_work, look

from .carried import FORMAT, MARK, Carried, CarriedRevision, is_number
from .documents import document_of
from .handed import made
from .leaving import let_all_go
from .models import AuditLine, Case
from .names import PERSONAL, Names
from .services import is_given, next_number, visible

_FIXED_TIME = (2020, 1, 1, 0, 0, 0)


def close(user: Any, number: str, *, sure: bool = False) -> Case:
    """Put a case away. It is kept for the years the house says, and opened again whenever somebody likes. sure : also where something is
    out of date, asked for or being worked out; else that is said first."""
    with transaction.atomic():
        case = _locked(user, number)
        if case.closed is None:
            if not sure and (open_ := _unfinished(case)):
                raise Refused(f"{open_} Close the case all the same?", code="asks-first", status=409)
            case.closed = timezone.now()
            case.keep_until = _years_on(date.today(), retention_years())
            case.save(update_fields=["closed", "keep_until", "touched"])
            _line(user, number, "close", {"keep_until": case.keep_until.isoformat()})
            announce({"case": number, "kind": "state"})
        return case


def _unfinished(case: Case) -> str:
    """What of it is not as it stands, in a sentence."""
    graph = look(case)
    known = standard()
    coming = [
        step.title
        for step in known.shown
        if any(node.state == "ready" for part in (step, *known.parts(step.name)) for node in graph.of_step(part.name))
    ]
    if coming:
        return f"{', '.join(coming)}: out of date, and {'being worked out' if case.needs_work else 'not worked out'}."
    made = graph.node("hand-off")
    if made is not None and made.good is None and "hand-off" in case.last_good:
        return "The files that were made are of an earlier state."
    return ""


def reopen(user: Any, number: str) -> Case:
    with transaction.atomic():
        case = _locked(user, number)
        if case.closed is not None:
            case.closed = case.keep_until = None
            case.save(update_fields=["closed", "keep_until", "touched"])
            _line(user, number, "reopen", {})
            ask_for_work(case)
        return case


def delete(user: Any, number: str) -> None:
    """Gone with its files, as far as no other case has them too. Before its time only a lead may; one line stays."""
    with transaction.atomic():
        case = _locked(user, number)
        early = case.keep_until is None or case.keep_until > date.today()
        if early and not is_lead(user):
            until = f" (until {case.keep_until.isoformat()})" if case.keep_until else ""
            raise Refused(f"This case is still to be kept{until}. Only a lead deletes it before that.", code="lead-only", status=403)
        owner = case.owner_id
        # The names go with the case; who deleted it and when stays, and with it the number: it is not given again.
        AuditLine.objects.filter(case_number=number).delete()
        case.delete()
        _line(user, number, "delete", {"before_its_time": early})
        gone = let_go(owner) | let_all_go(number)
        announce({"case": number, "kind": "gone"})
    sweep(gone)
    shutil.rmtree(pictures(owner), ignore_errors=True)


def _years_on(day: date, years: int) -> date:
    try:
        return day.replace(year=day.year + years)
    except ValueError:  # the 29th of February
        return (day + timedelta(days=1)).replace(year=day.year + years)


def _locked(user: Any, number: str) -> Case:
    visible(user, number)
    return Case.objects.select_for_update().get(number=number)


def _line(user: Any, number: str, action: str, detail: dict) -> None:
    AuditLine.objects.create(user=user, case_number=number, action=action, detail=detail)


def packed(user: Any, number: str, *, veiled: bool) -> bytes:
    """One ZIP: scans, settings, history, and beside them the files of the hand-off. The same case gives the same bytes.
    veiled : without patients' names and what may hold them."""
    case = visible(user, number)
    document = document_of(case)
    names = Names(document, veiled=veiled)
    digests, revisions = set[str](), list[dict]()
    for revision, then in reversed(list(back_from_now(case))):
        revisions.append(_revision_out(revision, names, veiled))
        digests |= {p["sha256"] for p in then["pieces"]} | set(digests_in(then["settings"]))
    files: dict[str, str] = {}
    for piece in document.pieces:
        # Under the day and the case's own number, whatever the scanner called it.
        stem = names.of(piece.id).replace("/", "_").replace("\\", "_")[-120:]
        files[f"scans/{document.opened or 'undated'}_{number}_{piece.id}_{stem}"] = piece.sha256
    others = digests - set(files.values())
    index = {"format": FORMAT, "number": case.number, "revisions": revisions}
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:

        def add(name: str, data: bytes) -> None:
            archive.writestr(zipfile.ZipInfo(name, _FIXED_TIME), data)

        add(MARK, json.dumps(index, indent=1, sort_keys=True, ensure_ascii=False).encode())
        for name, digest in sorted(files.items()):
            add(name, folder().read(digest))
        for digest in sorted(others):
            add(f"files/{digest}", folder().read(digest))
        for file in made(case, veiled=veiled):
            add(f"hand-off/{file.name}", folder().read(file.sha256))
        for name, data in sorted(teeth_files(look(case), folder()).items()):
            add(f"teeth/{name}", data)
    return out.getvalue()


def _revision_out(revision: Revision, names: Names, veiled: bool) -> dict:
    """As it goes out: with the whole document where it is kept with it."""
    whole = None if revision.document is None else _document(revision.document, names, veiled)
    changes = [c for c in revision.changes if not veiled or c["path"][0] not in PERSONAL]
    if veiled:
        changes = [_piece_change(c, names) if c["path"] == ["pieces"] else c for c in changes]
    return {
        "number": revision.number, "document": whole, "changes": changes, "what": revision.what, "kind": revision.kind,
        "takes_back": revision.takes_back, "who": label(revision.author) if revision.author else "",
        "at": revision.created.isoformat(),
    }  # fmt: skip


def _piece_change(change: dict, names: Names) -> dict:
    """Scans without the names of their files."""
    return {**change, **{side: [{**p, "file": names.of(p["id"])} for p in change[side]] for side in ("before", "after")}}


def _document(document: dict, names: Names, veiled: bool) -> dict:
    """A kept document; under the veil without what a person wrote."""
    if not veiled:
        return document
    pieces = [{**p, "file": names.of(p["id"])} for p in document.get("pieces", [])]
    return {**document, **dict.fromkeys(PERSONAL, ""), "pieces": pieces}


def brought_in(user: Any, carried: Carried) -> Case:
    """A carried case, under its own number where that is free and one of the house's form; else under a new one, and the
    old one stands in the notes."""
    number, own = carried.index.number, True
    if not is_number(number) or is_given(number):
        number, own = next_number(), False
    with transaction.atomic():
        owner = Owner.objects.create()
        take_files(owner.pk, carried.scans)
        case = Case.objects.create(number=number, owner=owner, needs_work=True)
        before: dict = {}
        for row, document in zip(carried.index.revisions, carried.documents, strict=True):
            changes = [c.model_dump() for c in row.changes]
            case.revision = row.number
            case.document = applied(before, changes) if document is None else document.model_dump(mode="json")
            _revision(case, row, changes, before)
            before = case.document
        _received(case, user, carried, carried.last, own)
        case.save()
        _line(user, number, "brought-in", {"from": carried.index.number})
        ask_for_work(case)
    return case


def _revision(case: Case, row: CarriedRevision, changes: list[dict], before: dict) -> None:
    """Its whole document is kept where the changes do not lead to it, and now and then."""
    whole = not changes or row.number % WHOLE_EVERY == 1 or applied(before, changes) != case.document
    what = f"{row.what} ({row.who}, {row.at[:10]})" if row.who else row.what
    Revision.objects.create(
        owner_id=case.owner_id, number=row.number, document=case.document if whole else None, changes=changes, what=what[:300],
        kind=row.kind, takes_back=row.takes_back, author=None,
    )  # fmt: skip


def _received(case: Case, user: Any, carried: Carried, last: CaseDocument, own: bool) -> None:
    """The newest revision: what was accepted elsewhere is looked at here once more."""
    notes = last.notes if own else f"{last.notes}\nCame as case {plain(carried.index.number)}.".strip()[:2000]
    document = last.model_copy(update={"number": case.number, "accepted": {}, "notes": notes})
    case.revision, case.document = case.revision + 1, document.model_dump(mode="json")
    what = "Brought in from another installation"
    Revision.objects.create(owner_id=case.owner_id, number=case.revision, document=case.document, what=what, author=user)
