"""Bays over HTTP."""

from __future__ import annotations

from typing import Any, Literal, cast

from django.http import HttpRequest
from ninja import Router, Schema

from accounts.services import label
from bitecore.parts.shelf import Printer
from ground.errors import Refused
from house.shelves import OnShelf, on

from . import bottles, printers, services
from .following import look_at
from .models import Bay, Bottle, Print

State = Literal["waiting", "sending", "arrived", "printing", "paused", "stopped", "done", "cancelled", "failed"]
router = Router(tags=["bays"])


class TakenOut(Schema):
    """What a print took of a bottle. number : of the bottle"""

    number: str
    lot: str
    ml: float


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
    bottles: list[TakenOut]
    sent_by: str
    created: str
    began: str | None
    takes_s: float | None
    ended: str | None
    sent: list[str]


class BottleOut(Schema):
    """See models.Bottle. called : the resin's name"""

    id: int
    number: str
    resin: str
    called: str
    lot: str
    left_ml: float
    bay: str
    created: str


class NewBottle(Schema):
    """resin : of its record on the shelf"""

    resin: str
    lot: str = ""
    ml: float


class BottlePlace(Schema):
    """bay : the printer it is put into; empty: onto the shelf"""

    bay: str


class BottleLeft(Schema):
    ml: float


class BayOut(Schema):
    """A printer that is connected.

    state    : idle, printing, stopped, silent (it does not answer)
    resin_ml : in its bottle, as it measures it; None while it was never heard; bottle_ml : of a full one
    bottle   : the one somebody put into it; None where nobody said
    stand_in : it is made up, and has faults to practise with; fault : the one that it has
    """

    id: str
    name: str
    state: Literal["idle", "printing", "stopped", "silent"]
    says: str
    resin_ml: float | None
    bottle_ml: float = 1000.0
    bottle: BottleOut | None = None
    stand_in: bool = False
    fault: str = ""


class Practice(Schema):
    """fill : the bottle; none : all but that is mended"""

    kind: Literal["none", "fill", "door", "cold", "layer", "resin", "connection", "power"]


class NewPrint(Schema):
    """case : its own plate; plate : else a plate of several cases; sure : also where its cases have gone on (409, asks-first)"""

    case: str = ""
    plate: int = 0
    sure: bool = False


@router.get("", response=list[BayOut])
def bays(request: HttpRequest) -> list[BayOut]:
    known = {bay.ident: bay for bay in Bay.objects.all()}
    shelf = on("printer")
    return [_bay(ident, shelf.get(ident), known.get(ident)) for ident in printers.addresses()]


@router.post("/{ident}/fault", response=BayOut)
def practise(request: HttpRequest, ident: str, body: Practice) -> BayOut:
    """A fault of a stand-in, or its mending."""
    services.practise(ident, body.kind)
    look_at(ident)
    return next(bay for bay in bays(request) if bay.id == ident)


@router.get("/bottles", response=list[BottleOut])
def stock(request: HttpRequest) -> list[BottleOut]:
    """The bottles of the house that are not empty."""
    return [_bottle(row) for row in bottles.in_stock()]


@router.post("/bottles", response=BottleOut)
def add_bottle(request: HttpRequest, body: NewBottle) -> BottleOut:
    return _bottle(bottles.added(request.user, body.resin, body.lot, body.ml))


@router.post("/bottles/{ident}/into", response=BottleOut)
def put_bottle(request: HttpRequest, ident: int, body: BottlePlace) -> BottleOut:
    """Into a printer, or out of it."""
    row = bottles.put_into(ident, body.bay)
    if body.bay:
        look_at(body.bay)
    return _bottle(row)


@router.post("/bottles/{ident}/left", response=BottleOut)
def correct_bottle(request: HttpRequest, ident: int, body: BottleLeft) -> BottleOut:
    """There is so much left in it."""
    return _bottle(bottles.corrected(ident, body.ml))


@router.delete("/bottles/{ident}", response=dict[str, str])
def end_bottle(request: HttpRequest, ident: int) -> dict[str, str]:
    """It is empty, or was thrown away."""
    bottles.ended(ident)
    return {}


@router.get("/prints", response=list[PrintOut])
def prints(request: HttpRequest, case: str = "", plate: int = 0) -> list[PrintOut]:
    """The newest two hundred, of one case, of one plate, or of all that are open."""
    return [_out(row) for row in services.of(request.user, number=case, plate=plate)]


@router.post("/prints", response=PrintOut)
def send(request: HttpRequest, body: NewPrint) -> PrintOut:
    """Send a plate to the printer it was laid out for."""
    if bool(body.plate) == bool(body.case):
        raise Refused("A print is of a case's own plate or of a plate of several cases: say one of them.", code="invalid", status=422)
    return _out(services.send_plate(request.user, body.plate, sure=body.sure) if body.plate else services.send(request.user, body.case))


@router.post("/prints/{ident}/again", response=PrintOut)
def again(request: HttpRequest, ident: int) -> PrintOut:
    return _out(services.again(request.user, ident))


@router.post("/prints/{ident}/cancel", response=PrintOut)
def cancel(request: HttpRequest, ident: int) -> PrintOut:
    return _out(services.cancel(request.user, ident))


@router.post("/prints/{ident}/pause", response=PrintOut)
def pause(request: HttpRequest, ident: int) -> PrintOut:
    return _out(services.hold(request.user, ident, True))


@router.post("/prints/{ident}/resume", response=PrintOut)
def resume(request: HttpRequest, ident: int) -> PrintOut:
    """It goes on at the layer it had reached."""
    return _out(services.hold(request.user, ident, False))


def _bottle(row: Bottle) -> BottleOut:
    return BottleOut(
        id=row.pk, number=row.number, resin=row.resin, called=row.called, lot=row.lot, left_ml=round(row.left_ml, 3), bay=row.bay,
        created=row.created.isoformat(),
    )  # fmt: skip


def _bay(ident: str, record: OnShelf | None, bay: Bay | None) -> BayOut:
    said: dict[str, Any] = bay.said if bay else {}
    name, full_ml = (record.name, Printer.model_validate(record.data).bottle_ml) if record else (ident, 1000.0)
    bottle = bottles.in_bay(ident)
    known = _bottle(bottle) if bottle else None
    if said.get("odd"):
        says = f"The {name} answers what it should not. Nothing of it is believed until it answers in form: look at the printer."
        return BayOut(id=ident, name=name, state="silent", says=says, resin_ml=None, bottle_ml=full_ml, bottle=known)
    if bay is None or bay.silent or not said:
        since = f" since {bay.silent:%H:%M} UTC" if bay and bay.silent else ""
        says = f"The {name} does not answer{since}."
        return BayOut(
            id=ident, name=name, state="silent", says=says, resin_ml=said.get("resin_ml"), bottle_ml=full_ml, bottle=known,
            stand_in=bool(said.get("stand_in")),
        )  # fmt: skip
    return BayOut(
        id=ident, name=name, state=said["state"], says=said["says"], resin_ml=said["resin_ml"], bottle_ml=full_ml, bottle=known,
        stand_in=bool(said.get("stand_in")), fault=said.get("fault", ""),
    )  # fmt: skip


def _out(row: Print) -> PrintOut:
    return PrintOut(
        id=row.pk, case=row.number, plate=row.plate_id, bay=row.bay, printer=row.printer, resin=row.resin, name=row.name, sha256=row.sha256,
        bytes=row.bytes, state=cast(State, row.state), says=row.says, layer=row.layer, layers=row.layers, seconds_left=row.seconds_left,
        resin_ml=row.resin_ml,
        bottles=[TakenOut(number=u.bottle.number, lot=u.bottle.lot, ml=round(u.ml, 3)) for u in row.bottles.all()],
        sent_by=label(row.sent_by) if row.sent_by else "", created=row.created.isoformat(),
        began=row.began.isoformat() if row.began else None, takes_s=row.takes_s,
        ended=row.ended.isoformat() if row.ended else None, sent=row.sent,
    )  # fmt: skip
