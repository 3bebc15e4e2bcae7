"""The proof of a case, as it is now."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from accounts.services import label
from bays.models import Print
from bitecore.runsheet import CaseDocument, standard
from bitecore.runsheet.proofed import Printed, Proof, Yes, proof_of
from bitecore.runsheet.who import CaseGraph
from cases.accepting import changed_since
from cases.documents import document_of
from cases.handed import handed
from cases.models import AuditLine, Case
from cases.names import PERSONAL, Names
from cases.pictures import picture_path
from cases.services import visible
from cases.trays import picture_of
from runs.owning import folder
from runs.services import look
from runs.store import ServerStore

_SAID = ("patient", "practice", "purpose", "due", "technician", "teeth")
_MOST_HANDED = 10


def proof(user: Any, number: str, *, veiled: bool) -> Proof:
    """Under the veil without what could be a patient's name."""
    case = visible(user, number)
    store, document = ServerStore(), document_of(case)
    graph = look(case, store, document=document)
    names = Names(document, veiled=veiled)
    found = proof_of(graph, document, standard(), folder(), names.of)
    called = {file.sha256: file.name for file in handed(graph, document, veiled=veiled)}
    for out in found["outputs"]:
        out["file"] = called.get(out["sha256"], out["file"])
    for left in found["left"]:
        left["message"] = names.found(names.said(left["message"]))
        if waived := document.waived.get(left["doubt"]):
            left |= {"who": waived.who, "at": waived.at}
    if veiled:
        _hide(found, document)
    for key in _SAID:
        found[key] = "" if veiled and key in PERSONAL else getattr(document, key)  # type: ignore[literal-required]
    found["accepted"] = list(_accepted(case, document, graph, store))
    found["handed_off"] = [
        {"who": label(line.user) if line.user else "", "at": line.at.isoformat()}
        for line in AuditLine.objects.filter(case_number=case.number, action="hand-off").select_related("user")[:_MOST_HANDED]
    ]
    found["prints"] = [_printed(row) for row in _prints(case)]
    return found


def picture_name(user: Any, number: str) -> str:
    """Of the still picture of its models; empty while there is none."""
    return picture_of(visible(user, number))


def picture(user: Any, number: str) -> bytes | None:
    """The still picture of its models; None while there is none."""
    case = visible(user, number)
    path = picture_path(case.owner_id, case.picture) if case.picture else None
    return path.read_bytes() if path and path.exists() else None


def _hide(found: Proof, document: CaseDocument) -> None:
    """What somebody typed may be the patient's name: where it holds it, dots."""
    for own in found["settings"]:
        for key in ("value", "default", "value_said", "default_said"):
            if isinstance(own[key], str) and document.patient and document.patient.lower() in own[key].lower():  # type: ignore[literal-required]
                own[key] = "·····"  # type: ignore[literal-required]


def _accepted(case: Case, document: CaseDocument, graph: CaseGraph, store: ServerStore) -> Iterator[Yes]:
    """In the order of the run sheet: the last yes to each that still counts, and what has changed since."""
    given: dict[str, tuple[str, str]] = {}
    wanted = {name for name in document.accepted if name in standard()}
    for revision in case.revisions.select_related("author").defer("document").order_by("-number").iterator(chunk_size=50):
        for one in revision.changes:
            path = one["path"]
            if len(path) > 1 and path[0] == "accepted" and path[1] in wanted:
                given.setdefault(path[1], (label(revision.author) if revision.author else "", revision.created.isoformat()))
        if wanted <= set(given):
            break
    for step in standard().shown:
        if step.name in wanted:
            who, at = given.get(step.name, ("", ""))
            changed = changed_since(document, graph, step, store)
            yield {"step": step.name, "title": step.title, "who": who, "at": at, "changed": changed}


def _prints(case: Case) -> list[Print]:
    """Of its own plate, and of plates of several cases that its bodies lie on; the newest first."""
    of_several = [
        row.pk
        for row in Print.objects.filter(plate__isnull=False).select_related("plate")
        if any(body.get("case") == case.number for body in _bodies(row))
    ]
    rows = Print.objects.filter(pk__in=of_several) | Print.objects.filter(case=case)
    return list(rows.select_related("sent_by").prefetch_related("bottles__bottle").defer("ml_by_layer"))


def _bodies(row: Print) -> list[dict[str, Any]]:
    bodies: list[dict[str, Any]] = row.of.document.get("bodies", [])
    return bodies


def _printed(row: Print) -> Printed:
    took = [f"{use.bottle.number}{' lot ' + use.bottle.lot if use.bottle.lot else ''}: {use.ml:.1f} ml" for use in row.bottles.all()]
    out: Printed = {
        "name": row.name,
        "printer": row.printer,
        "resin": row.resin,
        "state": row.state,
        "who": label(row.sent_by) if row.sent_by else "",
        "sent": row.created.isoformat(),
        "ended": row.ended.isoformat() if row.ended else None,
        "resin_ml": round(row.resin_ml, 3),
        "sha256": row.sha256,
        "bottles": took,
    }
    sized = row.spec.get("printing", {}).get("sized_percent")
    if sized:
        out["sized_percent"] = sized
    return out
