"""Bays over HTTP."""

from __future__ import annotations

from typing import Any, Literal, cast

from django.http import HttpRequest
from ninja import Router, Schema

from accounts.services import label
from house.shelves import on

from . import printers, services
from .following import look_at
from .models import Bay, Print

State = Literal["waiting", "sending", "arrived", "printing", "stopped", "done", "cancelled", "failed"]
router = Router(tags=["bays"])


class PrintOut(Schema):
    """See models.Print. seconds_left, takes_s : of the printer's own time; None while it is not known."""

    id: int
    case: str
    plate: int | None
    bay: str
    printer: str
    resin: str
    name: str
    sha256: str
    bytes: int
    state: State
    says: str
    layer: int
    layers: int
    seconds_left: float | None
    resin_ml: float
    sent_by: str
    created: str
    began: str | None
    takes_s: float | None
    ended: str | None
    sent: list[str]


class BayOut(Schema):
    """A printer that is connected.

    state    : idle, printing, stopped, silent (it does not answer)
    resin_ml : in its bottle; None while it was never heard
    stand_in : it is made up, and has faults to practise with; fault : the one that it has
    """

    id: str
    name: str
    state: Literal["idle", "printing", "stopped", "silent"]
    says: str
    resin_ml: float | None
    stand_in: bool = False
    fault: str = ""


class Practice(Schema):
    """fill : the bottle; none : all but that is mended"""

    kind: Literal["none", "fill", "door", "cold", "layer", "resin", "connection", "power"]


class NewPrint(Schema):
    """case : its own plate; plate : else a plate of several cases"""

    case: str = ""
    plate: int = 0


@router.get("", response=list[BayOut])
def bays(request: HttpRequest) -> list[BayOut]:
    known = {bay.ident: bay for bay in Bay.objects.all()}
    shelf = on("printer")
    return [_bay(ident, shelf[ident].name if ident in shelf else ident, known.get(ident)) for ident in printers.addresses()]


@router.post("/{ident}/fault", response=BayOut)
def practise(request: HttpRequest, ident: str, body: Practice) -> BayOut:
    """A fault of a stand-in, or its mending."""
    services.practise(ident, body.kind)
    look_at(ident)
    return next(bay for bay in bays(request) if bay.id == ident)


@router.get("/prints", response=list[PrintOut])
def prints(request: HttpRequest, case: str = "", plate: int = 0) -> list[PrintOut]:
    """The newest two hundred, of one case, of one plate, or of all that are open."""
    return [_out(row) for row in services.of(request.user, number=case, plate=plate)]


@router.post("/prints", response=PrintOut)
def send(request: HttpRequest, body: NewPrint) -> PrintOut:
    """Send a plate to the printer it was laid out for."""
    return _out(services.send_plate(request.user, body.plate) if body.plate else services.send(request.user, body.case))


@router.post("/prints/{ident}/again", response=PrintOut)
def again(request: HttpRequest, ident: int) -> PrintOut:
    return _out(services.again(request.user, ident))


@router.post("/prints/{ident}/cancel", response=PrintOut)
def cancel(request: HttpRequest, ident: int) -> PrintOut:
    return _out(services.cancel(request.user, ident))


def _bay(ident: str, name: str, bay: Bay | None) -> BayOut:
    said: dict[str, Any] = bay.said if bay else {}
    if bay is None or bay.silent or not said:
        since = f" since {bay.silent:%H:%M} UTC" if bay and bay.silent else ""
        says = f"The {name} does not answer{since}."
        return BayOut(id=ident, name=name, state="silent", says=says, resin_ml=said.get("resin_ml"), stand_in=bool(said.get("stand_in")))
    return BayOut(
        id=ident, name=name, state=said["state"], says=said["says"], resin_ml=said["resin_ml"], stand_in=bool(said.get("stand_in")),
        fault=said.get("fault", ""),
    )  # fmt: skip


def _out(row: Print) -> PrintOut:
    return PrintOut(
        id=row.pk, case=row.number, plate=row.plate_id, bay=row.bay, printer=row.printer, resin=row.resin, name=row.name, sha256=row.sha256,
        bytes=row.bytes, state=cast(State, row.state), says=row.says, layer=row.layer, layers=row.layers, seconds_left=row.seconds_left,
        resin_ml=row.resin_ml, sent_by=label(row.sent_by) if row.sent_by else "", created=row.created.isoformat(),
        began=row.began.isoformat() if row.began else None, takes_s=row.takes_s,
        ended=row.ended.isoformat() if row.ended else None, sent=row.sent,
    )  # fmt: skip
