"""Sending a plate to its printer, again where that failed, and taking it back."""

from __future__ import annotations

import contextlib
from typing import Any

from django.db import IntegrityError, transaction
from django.db.models import Q, QuerySet
from django.utils import timezone
from procrastinate.contrib.django import app
from procrastinate.exceptions import AlreadyEnqueued

from bitecore.blobs import is_digest
from bitecore.engine.graph import Graph
from bitecore.parts.job_name import job_stem
from bitecore.platesheet.plated import digests as plate_digests
from bitecore.runsheet.plated import digests
from cases.accepting import unaccepted
from cases.documents import document_of
from cases.models import AuditLine, Case
from cases.services import locked, visible
from ground.errors import Refused
from house.shelves import on
from plates import services as plates
from plates.models import Plate
from plates.pinning import before_plate, moved_on, on_it
from runs.kinds import document_of as document_of_plate
from runs.owning import use_blobs
from runs.services import FRONT, announce, look

from . import bottles, printers
from .models import AT_PRINTER, ON_ITS_WAY, Bay, Print

SEND_TASK = "send-print"
_MOST_SHOWN = 200
_MOST_NAMED = 3
_NAMES_TRIED = 5


def of(user: Any, *, number: str = "", plate: int = 0) -> list[Print]:
    """The newest, of one case, of one plate, or of all that are not put away."""
    if number:
        found = visible(user, number).plates_sent.all()
    elif plate:
        found = plates.visible(user, plate).prints.all()
    else:
        cases = Case.objects.visible_to(user).filter(closed__isnull=True)
        found = Print.objects.filter(Q(case__in=cases) | Q(plate__in=Plate.objects.visible_to(user)))
    rows = found.select_related("case", "sent_by").prefetch_related("bottles__bottle").defer("ml_by_layer")
    return list(rows[:_MOST_SHOWN])


def send(user: Any, number: str) -> Print:
    """The plate of a case as it is now. Only once all up to the plate was accepted as it is, and lies on it."""
    with transaction.atomic():
        case = locked(user, number)
        document, graph = document_of(case), look(case)
        missing = unaccepted(document, graph, "plate")
        if missing:
            text = f"Printing waits for your yes to {', '.join(missing)}."
            raise Refused(text, code="not-accepted", status=409, more={"missing": missing})
        return _sent(user, graph, "plate", digests(graph), case.plates_sent, [number])


def send_plate(user: Any, ident: int, *, sure: bool = False) -> Print:
    """A plate of several cases as it is now. Only once all that was made before it was accepted in each case that is still there.
    sure : also where a case has another body by now, or is being worked out; else that is said first."""
    with transaction.atomic():
        plate = plates.locked(user, ident)
        graph = look(plate)
        document = document_of_plate(plate)
        found = {case.number: before_plate(case, now) for case, now in on_it(document, user)}
        waits = {number: titles for number, titles in found.items() if titles}
        if waits:
            named = [f"{number} ({', '.join(steps)})" for number, steps in list(waits.items())[:_MOST_NAMED]]
            more = len(waits) - len(named)
            named += [f"{more} more"] * (more > 0)
            text = f"Printing waits for a yes in {' and '.join([', '.join(named[:-1]), named[-1]] if named[1:] else named)}."
            raise Refused(text, code="not-accepted", status=409, more={"missing": waits})
        if not sure and (older := moved_on(document, user)):
            text = f"{', '.join(older)}: the case has gone on since this was put on the plate. Print it as it lies all the same?"
            raise Refused(text, code="asks-first", status=409)
        left = [b.called for b in document.bodies if (n := graph.node("pack")) is None or n.json("at_px", b.id) is None]
        if left:
            text = f"There is no room for {', '.join(left[:3])}: take off what does not fit, or choose a larger printer."
            raise Refused(text, code="no-room", status=409)
        return _sent(user, graph, "pack", plate_digests(graph), plate.prints, document.cases)


def _sent(user: Any, graph: Graph, lie: str, layers: list[str], prints: Any, numbers: list[str]) -> Print:
    """lie : the step by which bodies lie on their plate; prints : of the case or the plate this is of; numbers : of the cases on it"""
    node, takes = graph.node(lie), graph.node("takes")
    if node is None or node.good is None or not layers:
        raise Refused("The layers of the plate are not worked out yet.", code="no-layers", status=409)
    stops = [f["message"] for f in node.good.flags if f["severity"] == "stop"]
    if stops:
        raise Refused(f"This plate cannot be printed: {stops[0]}", code="not-printable", status=409)
    bay = node.task.settings["printer"] if node.task else ""
    _reachable(bay, node.json("plate")["printer"])
    there = prints.filter(state__in=(*ON_ITS_WAY, *AT_PRINTER)).first()
    spec = {"plate": node.json("plate"), "printing": node.json("printing")}
    if takes and takes.task:
        spec["job"] = takes.task.settings["job"]
    # Of the same layers a plate in two heights may go from one to the other elsewhere.
    if there is not None and there.sent == layers and there.spec.get("printing", {}).get("thick") == spec["printing"].get("thick"):
        raise Refused(f"This plate is on the {there.printer} already, as {there.name}.", code="sent-already", status=409)
    row = prints.model(
        **{prints.field.name: prints.instance}, bay=bay, printer=spec["plate"]["printer"], resin=spec["printing"]["resin"], sent=layers,
        spec=spec, resin_ident=node.task.settings["resin"] if node.task else "",
    )  # fmt: skip
    # Kept as long as the case or the plate is, however it goes on.
    use_blobs(row.of.owner_id, sorted({word for each in layers for word in each.split() if is_digest(word)}))
    return _begun(row, user, numbers)


def _begun(row: Print, user: Any, numbers: list[str]) -> Print:
    row.sent_by = user
    _named(row)
    for number in numbers:
        AuditLine.objects.create(user=user, case_number=number, action="print", detail={"name": row.name, "printer": row.printer})
    _ask(row)
    return row


def _numbers(row: Print) -> list[str]:
    """Of the cases on it."""
    return [row.number] if row.case else document_of_plate(row.of).cases


def practise(ident: str, kind: str) -> None:
    """A fault of a stand-in is switched on, or mended. Raises Refused for a printer that is none."""
    bay = Bay.objects.filter(ident=ident).first()
    if bay is None or ident not in printers.addresses() or not bay.said.get("stand_in"):
        raise Refused("Only a stand-in has faults to practise with.", code="no-stand-in", status=409)
    try:
        printers.practise(ident, kind)
    except (printers.Broken, printers.Declined) as error:
        raise Refused("The stand-in does not answer.", code="printer-silent", status=409) from error


def again(user: Any, ident: int) -> Print:
    """Send once more what did not arrive, or was not printed to its end; what was printed is printed again as it was, whatever became of
    its plate."""
    with transaction.atomic():
        row = _locked(user, ident)
        if row.state not in ("failed", "cancelled", "done"):
            raise Refused(f"{row.name} is not at an end: it is {row.state}.", code="not-ended", status=409)
        if not row.sent:
            raise Refused(f"What was sent as {row.name} is not kept: a case on it was deleted.", code="not-kept", status=409)
        _reachable(row.bay, row.printer)
        if row.state == "done":
            more = {key: getattr(row, key) for key in ("case", "plate", "bay", "printer", "resin", "resin_ident", "sent", "spec")}
            return _begun(Print(**more), user, _numbers(row))
        row.state, row.says, row.began, row.ended, row.layer, row.seconds_left = "waiting", "", None, None, 0, None
        bottles.begins_anew(row)
        # The printer keeps what was broken off under its old name.
        _named(row)
        _ask(row)
        return row


def hold(user: Any, ident: int, paused: bool) -> Print:
    """Pause it at its printer, or let it go on at the layer it had reached."""
    row = _seen(user, ident)
    what = "paused" if paused else "printed on"
    if row.state not in ("printing", "paused", "stopped"):
        raise Refused(f"{row.name} is not being printed, so it cannot be {what}.", code="not-printing", status=409)
    try:
        said = printers.hold(row.bay, row.name, paused)
    except printers.Broken as error:
        raise Refused(f"The {row.printer} does not answer, so it was not {what}.", code="bay-silent", status=409) from error
    except printers.Declined as error:
        raise Refused(f"The {row.printer} says: {error.message}", code=error.code or "declined", status=409) from error
    with transaction.atomic():
        row = _locked(user, ident)
        if row.state in ("printing", "paused", "stopped"):
            row.state, row.says = ("paused" if paused else "stopped" if said.state == "stopped" else "printing"), ""
            row.save(update_fields=["state", "says"])
        _lines(row, user, "print-paused" if paused else "print-goes-on")
        tell(row)
        return row


def cancel(user: Any, ident: int) -> Print:
    """Not sent any more, or stopped at the printer."""
    row = _seen(user, ident)
    layer, there = None, row.state in AT_PRINTER
    if there:
        try:
            layer = printers.cancel(row.bay, row.name).layer
        except printers.Broken as error:
            raise Refused(f"The {row.printer} does not answer, so nothing was cancelled.", code="bay-silent", status=409) from error
        except printers.Declined as error:
            if error.code != "no-job":
                raise Refused(f"The {row.printer} says: {error.message}", code=error.code or "declined", status=409) from error
    with transaction.atomic():
        row = _locked(user, ident)
        if not there and row.state in AT_PRINTER:
            raise Refused(f"{row.name} has just arrived at the {row.printer}. Cancel it once more.", code="arrived", status=409)
        if layer is not None:
            bottles.used(row, layer)
        if row.state in (*ON_ITS_WAY, *AT_PRINTER):
            row.state, row.says, row.ended = "cancelled", "", timezone.now()
            row.save()
            _lines(row, user, "print-cancelled")
            tell(row)
        return row


def _lines(row: Print, user: Any, action: str) -> None:
    for number in _numbers(row):
        AuditLine.objects.create(user=user, case_number=number, action=action, detail={"name": row.name})


def tell(row: Print) -> None:
    """Every open browser looks anew."""
    announce({"kind": "bay", "bay": row.bay, "of": row.number})


def _seen(user: Any, ident: int) -> Print:
    """As it is now. Nobody waits for a printer with a row locked."""
    return _one(Print.objects.all(), user, ident)


def _locked(user: Any, ident: int) -> Print:
    return _one(Print.objects.select_for_update(of=("self",)), user, ident)


def _one(rows: QuerySet[Print], user: Any, ident: int) -> Print:
    mine = Q(case__in=Case.objects.visible_to(user)) | Q(plate__in=Plate.objects.visible_to(user))
    row = rows.filter(mine, pk=ident).select_related("case", "plate").first()
    if row is None:
        raise Refused("There is no such print.", code="no-print", status=404)
    return row


def _reachable(bay: str, title: str) -> None:
    if bay in printers.addresses():
        return
    names = [on("printer")[b].name for b in printers.addresses() if b in on("printer")]
    others = f" Printers that can be reached: {', '.join(names)}." if names else ""
    raise Refused(f"The {title} is not connected.{others} Or take layers.zip to it.", code="no-bay", status=409)


def _named(row: Print) -> None:
    """Kept under a name that none had before; another may take the same at the same moment."""
    for left in reversed(range(_NAMES_TRIED)):
        row.name = _name(row)
        try:
            with transaction.atomic():
                row.save()
            return
        except IntegrityError:
            if not left:
                raise


def _name(row: Print) -> str:
    """By the pattern of the house: no person's name leaves with it. Never one that was used before: the printer keeps what was broken
    off under its name."""
    number = row.number or f"plate-{row.plate_id}"
    words = {"number": number, "date": timezone.localdate().isoformat(), "printer": row.printer, "resin": row.resin}
    stem = f"{job_stem(row.spec.get('job', '{number}'), words)}_"
    used = [name.removeprefix(stem) for name in Print.objects.filter(name__startswith=stem).values_list("name", flat=True)]
    return f"{stem}{max((int(n) for n in used if n.isdigit()), default=0) + 1}"


def _ask(row: Print) -> None:
    tell(row)
    with contextlib.suppress(AlreadyEnqueued), transaction.atomic():
        app.configure_task(SEND_TASK, queue=FRONT, priority=2, lock=f"bay-{row.bay}", queueing_lock=f"print-{row.pk}").defer(pk=row.pk)


def ask_again(row: Print) -> None:
    """Of one that waits and has no job: a worker died."""
    _ask(row)
