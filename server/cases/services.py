"""What can be done with a case. One function per use: permission, one transaction, work asked for on commit."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Sequence
from typing import Any

from django.db import IntegrityError, connection, transaction
from django.db.models import Count, Max, Sum
from django.db.models.expressions import RawSQL
from django.utils import timezone

from accounts.services import label
from bitecore.anatomy.notation import parsed
from bitecore.engine.document import Layer
from bitecore.runsheet import CaseDocument, PieceEntry, standard
from ground.errors import Refused
from house.services import newest
from runs import changes, paths
from runs.entries import EntryChange
from runs.models import Owner
from runs.owning import take_files
from runs.records import as_they_are_now, with_records
from runs.services import ask_for_work, bring_forward, look
from runs.settings import records_for, settings_changed
from runs.store import ServerStore

from . import doubts
from .accepting import as_seen, not_there, still_asks
from .blobs import Accepted
from .documents import document_of
from .foreseeing import ask_first
from .kind import CASES, OPEN_FOR
from .models import AuditLine, Case, Presence
from .names import PERSONAL, Names, listed
from .shelving import LAYERED, chosen

DETAILS = ("patient", "practice", "technician", "purpose", "due", "teeth", "opposing", "notes")
_MOST_A_MONTH = 999
# A scan, or a part of what is made of it.
_ADDRESS = re.compile(r"^p[1-9]\d{0,5}(\.[a-z]+-[a-z0-9]+)*\Z")


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
        return list(cases.defer("document", "last_good", "demanded")[:200])
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


def stamp(user: Any, *, closed: bool) -> tuple[int, int, int]:
    """Another one whenever anything in the rows of these cases has changed: how many there are, and by which transaction and where on the
    disk each was last written (PostgreSQL's own xmin and ctid)."""
    wrote = RawSQL("xmin::text::bigint * 1000003 + hashtext(ctid::text)", [])
    found = Case.objects.visible_to(user).filter(closed__isnull=not closed).order_by()
    row = found.aggregate(count=Count("pk"), sum=Sum(wrote), last=Max(wrote))
    return row["count"], int(row["sum"] or 0), row["last"] or 0


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
    layers = {"house": Layer(revision=house.number, steps=house.steps, versions=house.versions)}
    document = CaseDocument(number=number, opened=timezone.localdate().isoformat(), layers=layers, **details)
    document = with_records(standard(), _layered(user, document))
    pieces = _with_pieces(document, files)
    changes.write(case, user, document.model_dump(mode="json"), [], f"Case opened with {listed(pieces)}")
    _audit(user, case, "open", {"files": [[f.name, f.sha256] for f in files], "drop": token}, revision=1)
    ask_for_work(case)
    return case


def _layered(user: Any, document: CaseDocument) -> CaseDocument:
    """With the settings of the purpose and the practice it was opened with."""
    raw = document.model_dump(mode="json")
    for key in LAYERED:
        for path, value in chosen(user, key, getattr(document, key)) if getattr(document, key) else []:
            paths.write(raw, path, value)
    return CaseDocument.model_validate(raw)


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
        done = [{"path": ["pieces"], "before": old, "after": new}]
        changes.write(case, user, document.model_dump(mode="json"), done, f"Added {listed(added)}")
        _audit(user, case, "add", {"files": [[f.name, f.sha256] for f in fresh], "drop": token}, revision=case.revision)
        ask_for_work(case)
        return case


def _with_pieces(document: CaseDocument, files: list[Accepted]) -> list[str]:
    """Put the files into the document; the ids they got."""
    fresh = next_pieces(document, [(f.name, f.sha256) for f in files])
    document.pieces += fresh
    return [entry.id for entry in fresh]


def next_pieces(document: CaseDocument, files: Sequence[tuple[str, str]]) -> list[PieceEntry]:
    """Further pieces for a case, of one drop: (name, digest) of each."""
    # A number that settings still name is not given again, even where its piece was taken back.
    names = {p.id for p in document.pieces} | {piece for step in document.settings.values() for piece in step}
    start = max((int(n[1:]) for n in names if n[1:].isdigit()), default=0) + 1
    drop = max((p.drop for p in document.pieces), default=-1) + 1
    return [PieceEntry(id=f"p{start + i}", file=name, sha256=digest, drop=drop) for i, (name, digest) in enumerate(files)]


def change_settings(
    user: Any, number: str, base: int, step: str, piece: str, values: dict[str, Any], entries: Iterable[EntryChange] = (), *,
    sure: bool = True, more: Sequence[tuple[str, str, dict[str, Any]]] = (),
) -> Case:  # fmt: skip
    """Set settings of a step (ABSENT clears one) for one address or, with '*', for all; and single entries of those that
    hold many. sure : also where that changes what other scans are; more : further (step, address, values) of the same press."""
    with transaction.atomic():
        case = locked(user, number)
        document = document_of(case)
        if any(at != "*" and not _is_address(at, document) for at in (piece, *(at for _, at, _ in more))):
            raise Refused("This scan is not in the case. Nothing was changed.", code="no-piece", status=404)
        if step == "intake" and not sure:
            ask_first(document, look(case, ServerStore()), piece, values)
        changed, what = settings_changed(case, step, piece, values, list(entries))
        for also, at, these in more:
            further, words = settings_changed(case, also, at, these, [])
            changed, what = changed + further, f"{what}; {words}"
        return change(case, user, base, changed, what)


def _is_address(piece: str, document: CaseDocument) -> bool:
    """A scan of the case, or a part of one."""
    return len(piece) <= 60 and piece.split(".")[0] in {p.id for p in document.pieces} and _ADDRESS.match(piece) is not None


def change_details(user: Any, number: str, base: int, values: dict[str, str]) -> Case:
    """Patient, practice, purpose, due, notes: at any time, never a must."""
    with transaction.atomic():
        case = locked(user, number)
        if "teeth" in values:
            values = {**values, "teeth": parsed(values["teeth"])}
        unknown = set(values) - set(DETAILS)
        if unknown:
            raise Refused(f"A case has no detail “{', '.join(sorted(unknown))}”.", code="invalid", status=422)
        changed: list[tuple[list[str], Any]] = []
        for key, text in values.items():
            changed += chosen(user, key, text.strip()[:200]) if key in LAYERED else [([key], text.strip()[:2000])]
        return change(case, user, base, changed + records_for(case, changed), f"Details: {', '.join(values)}")


def accept(user: Any, number: str, base: int, steps: list[str], accepted: bool, seen: Collection[str] = ()) -> Case:
    """Accept steps as they stand now (or take acceptance back). Refused of what nobody can have seen yet, and past a doubt.

    seen : ids of the doubts on the card of the one step that is accepted; others, and those that need a yes of their own, are refused
    """
    with transaction.atomic():
        case = locked(user, number)
        wanted = [standard()[s] for s in steps]
        graph = look(case) if accepted else None
        if graph and (early := not_there(graph, wanted)):
            raise Refused(
                f"{', '.join(early)}: still being worked out. Say yes once it is there. Nothing was changed.",
                code="not-there", status=409,
            )  # fmt: skip
        # Whoever says yes to several at once stands before none of their cards.
        before = seen if len(wanted) == 1 else ()
        if graph and (open_ := doubts.unanswered(document_of(case), graph, wanted, before)):
            text = f"{doubts.in_words(open_)} Say yes to that by itself, or mend it. Nothing was changed."
            raise Refused(text, code="doubts", status=409, more={"doubts": [d.id for d in open_]})
        changed = [(["accepted", s.name], as_seen(graph, s) if graph else paths.ABSENT) for s in wanted]
        verb = "Accepted" if accepted else "Acceptance taken back"
        return change(case, user, base, changed, f"{verb}: {', '.join(s.title for s in wanted)}", merge=True)


def answer_doubts(user: Any, number: str, base: int, idents: Collection[str], yes: bool) -> Case:
    """Say yes to single doubts as they are now, or take that back."""
    with transaction.atomic():
        case = locked(user, number)
        document = document_of(case)
        known = {d.id: d for d in doubts.all_doubts(document, look(case))}
        if yes and set(idents) - set(known):
            text = "This finding is another by now. Look at it again; nothing was accepted."
            raise Refused(text, code="doubt-changed", status=409)
        changed: list[tuple[list[str], Any]] = [
            (["waived", ident], doubts.waived_by(known[ident], user) if yes else paths.ABSENT) for ident in idents
        ]
        titles = ", ".join(dict.fromkeys(known[i].step.title for i in idents if i in known))
        return change(case, user, base, changed, f"{'Doubt accepted' if yes else 'Doubt open again'}: {titles}"[:300], merge=True)


def hand_off(user: Any, number: str) -> Case:
    """Ask for the files. Only once everything above was accepted as it is now."""
    with transaction.atomic():
        case = locked(user, number)
        missing = still_asks(document_of(case), look(case), ServerStore())
        if missing:
            raise Refused(
                f"Hand-off waits for your yes to {', '.join(missing)}.", code="not-accepted", status=409,
                more={"missing": missing},
            )  # fmt: skip
        case.demanded, case.wanted = ["hand-off"], timezone.now()
        case.save(update_fields=["demanded", "wanted", "touched"])
        _audit(user, case, "hand-off", {})
        ask_for_work(case)
        return case


def change(case: Case, user: Any, base: int, changed: list[tuple[list[str], Any]], what: str, *, merge: bool = False) -> Case:
    """One revision from path and value pairs. Refused where someone else changed the same place since `base`."""
    changes.change(case, user, base, changed, what, _hooks(case, user), merge=merge)
    return case


def take_records(user: Any, number: str, base: int) -> Case:
    """What its settings have chosen from the house's shelves, as it is there now."""
    with transaction.atomic():
        case = locked(user, number)
        changed, what = as_they_are_now(standard(), document_of(case))
        return change(case, user, base, changed, what)


def undo(user: Any, number: str) -> Case:
    """Take back my last change, as a new revision. Refused where someone has since changed the same place."""
    with transaction.atomic():
        case = locked(user, number)
        changes.undo(case, user, _hooks(case, user))
        return case


def redo(user: Any, number: str) -> Case:
    """Do again what my last undo took back, unless I have changed something since."""
    with transaction.atomic():
        case = locked(user, number)
        changes.redo(case, user, _hooks(case, user))
        return case


def _hooks(case: Case, user: Any) -> changes.Hooks:
    # The job is written in the same transaction: what is accepted is also going to be worked out.
    return changes.Hooks(lambda action, revision, detail: _audit(user, case, action, detail, revision=revision), lambda: ask_for_work(case))


def hold(user: Any, number: str, held: bool) -> Case:
    """Stop working on a case, or go on."""
    with transaction.atomic():
        case = locked(user, number)
        case.held, case.wanted = held, timezone.now()
        case.trouble, case.retry, case.retries = "", None, 0
        case.save(update_fields=["held", "wanted", "trouble", "retry", "retries", "touched"])
        _audit(user, case, "hold" if held else "go-on", {})
        ask_for_work(case)
        return case


def here(user: Any, case: Case) -> list[str]:
    """I have this case open; who else has?"""
    now = timezone.now()
    Presence.objects.update_or_create(case=case, user=user, defaults={"seen": now})
    if case.needs_work:
        bring_forward(CASES, case.pk, CASES.rank(case))
    others = Presence.objects.filter(case=case, seen__gt=now - OPEN_FOR).exclude(user=user)
    return [label(p.user) for p in others.select_related("user")]


def locked(user: Any, number: str) -> Case:
    visible(user, number)
    case = Case.objects.select_for_update().get(number=number)
    if case.closed is not None:
        raise Refused(f"Case {number} is closed. Open it again to change it.", code="closed", status=409)
    return case


def _audit(user: Any, case: Case, action: str, detail: dict, *, revision: int | None = None) -> None:
    AuditLine.objects.create(user=user, case_number=case.number, action=action, detail=detail, revision=revision)
