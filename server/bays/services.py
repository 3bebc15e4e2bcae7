"""Sending a plate to its printer, again where that failed, and taking it back."""

from __future__ import annotations

import contextlib
from typing import Any

from django.db import transaction
from django.utils import timezone
from procrastinate.contrib.django import app
from procrastinate.exceptions import AlreadyEnqueued

from bitecore.runsheet import standard
from bitecore.runsheet.plated import digests
from cases.accepting import asks
from cases.documents import document_of
from cases.models import AuditLine, Case
from cases.services import locked, visible
from ground.errors import Refused
from house.shelves import on
from runs.services import FRONT, announce, look
from runs.store import ServerStore

from . import printers
from .models import AT_PRINTER, ON_ITS_WAY, Print

SEND_TASK = "send-print"
_MOST_SHOWN = 200


def of(user: Any, *, number: str = "") -> list[Print]:
    """The newest, of one case or of all that are not put away."""
    if number:
        return list(visible(user, number).plates_sent.select_related("case")[:_MOST_SHOWN])
    cases = Case.objects.visible_to(user).filter(closed__isnull=True)
    return list(Print.objects.filter(case__in=cases).select_related("case")[:_MOST_SHOWN])


def send(user: Any, number: str) -> Print:
    """The plate of a case as it is now. Only once all up to the plate was accepted as it is, and lies on it."""
    with transaction.atomic():
        case = locked(user, number)
        document, graph = document_of(case), look(case)
        missing = [s.title for s in standard().shown if s.name in standard().up_to("plate") and asks(document, graph, s, ServerStore())]
        if missing:
            text = f"Printing waits for your yes to {', '.join(missing)}."
            raise Refused(text, code="not-accepted", status=409, more={"missing": missing})
        node, layers = graph.node("plate"), digests(graph)
        if node is None or node.good is None or not layers:
            raise Refused("The layers of the plate are not worked out yet.", code="no-layers", status=409)
        stops = [f["message"] for f in node.good.flags if f["severity"] == "stop"]
        if stops:
            raise Refused(f"This plate cannot be printed: {stops[0]}", code="not-printable", status=409)
        bay = node.task.settings["printer"] if node.task else ""
        _reachable(bay, node.json("plate")["printer"])
        there = case.plates_sent.filter(state__in=(*ON_ITS_WAY, *AT_PRINTER)).first()
        if there is not None and there.sent == layers:
            raise Refused(f"This plate is on the {there.printer} already, as {there.name}.", code="sent-already", status=409)
        row = Print.objects.create(
            case=case, bay=bay, printer=node.json("plate")["printer"], resin=node.json("printing")["resin"], name=_name(case),
            sent=layers, sent_by=user,
        )  # fmt: skip
        AuditLine.objects.create(user=user, case_number=number, action="print", detail={"name": row.name, "printer": row.printer})
        _ask(row)
        return row


def again(user: Any, ident: int) -> Print:
    """Send once more what did not arrive, or was not printed to its end."""
    with transaction.atomic():
        row = _locked(user, ident)
        if row.state not in ("failed", "cancelled"):
            raise Refused(f"{row.name} is not at an end: it is {row.state}.", code="not-ended", status=409)
        _reachable(row.bay, row.printer)
        row.state, row.says, row.ended, row.layer, row.seconds_left = "waiting", "", None, 0, None
        # The printer keeps what was broken off under its old name.
        row.name = _name(row.case)
        row.save()
        _ask(row)
        return row


def cancel(user: Any, ident: int) -> Print:
    """Not sent any more, or stopped at the printer."""
    with transaction.atomic():
        row = _locked(user, ident)
        if row.state in AT_PRINTER:
            try:
                printers.cancel(row.bay, row.name)
            except printers.Broken as error:
                raise Refused(f"The {row.printer} does not answer, so nothing was cancelled.", code="bay-silent", status=409) from error
            except printers.Declined as error:
                if error.code != "no-job":
                    raise Refused(f"The {row.printer} says: {error.message}", code=error.code, status=409) from error
        if row.state in (*ON_ITS_WAY, *AT_PRINTER):
            row.state, row.says, row.ended = "cancelled", "", timezone.now()
            row.save()
            AuditLine.objects.create(user=user, case_number=row.case.number, action="print-cancelled", detail={"name": row.name})
            tell(row)
        return row


def tell(row: Print) -> None:
    """Every open browser looks anew."""
    announce({"kind": "bay", "bay": row.bay, "of": row.case.number})


def _locked(user: Any, ident: int) -> Print:
    cases = Case.objects.visible_to(user)
    row = Print.objects.select_for_update(of=("self",)).filter(pk=ident, case__in=cases).select_related("case").first()
    if row is None:
        raise Refused("There is no such print.", code="no-print", status=404)
    return row


def _reachable(bay: str, title: str) -> None:
    if bay in printers.addresses():
        return
    names = [on("printer")[b].name for b in printers.addresses() if b in on("printer")]
    others = f" Printers that can be reached: {', '.join(names)}." if names else ""
    raise Refused(f"The {title} is not connected.{others} Or take layers.zip to it.", code="no-bay", status=409)


def _name(case: Case) -> str:
    """From the case's number alone: no person's name leaves with it."""
    taken = set(Print.objects.filter(name__startswith=f"{case.number}_").values_list("name", flat=True))
    return next(name for n in range(1, len(taken) + 2) if (name := f"{case.number}_{n}") not in taken)


def _ask(row: Print) -> None:
    tell(row)
    with contextlib.suppress(AlreadyEnqueued), transaction.atomic():
        app.configure_task(SEND_TASK, queue=FRONT, priority=2, lock=f"bay-{row.bay}", queueing_lock=f"print-{row.pk}").defer(pk=row.pk)


def ask_again(row: Print) -> None:
    """Of one that waits and has no job: a worker died."""
    _ask(row)
