"""Plates over HTTP: routes parse, call one service, return."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema

from ground.errors import Refused
from runs.kinds import document_of
from runs.owning import folder
from runs.services import look

from . import services
from .models import Plate

router = Router(tags=["plates"])


class PlateBodyOut(Schema):
    """home_to_plate : None where there was no room for it, or it is not known yet."""

    id: str
    case: str
    address: str
    jaw: str
    mesh: str
    home_to_plate: list[list[float]] | None


class PlateOut(Schema):
    """A plate as it is now.

    states    : {step: state}
    sentences : what the steps say
    """

    id: int
    name: str
    revision: int
    bodies: list[PlateBodyOut]
    settings: dict[str, dict[str, Any]]
    states: dict[str, str]
    sentences: list[str]
    working: bool


class NewPlate(Schema):
    name: str = ""


class PutOn(Schema):
    base: int
    case: str
    address: str


class PlateChange(Schema):
    base: int
    step: str
    values: dict[str, Any]


class TakeOff(Schema):
    base: int


@router.get("", response=list[PlateOut])
def plates(request: HttpRequest) -> list[PlateOut]:
    """The newest hundred."""
    return [_out(plate) for plate in Plate.objects.visible_to(request.user)[:100]]


@router.post("", response=PlateOut)
def create(request: HttpRequest, body: NewPlate) -> PlateOut:
    return _out(services.create(request.user, body.name))


@router.get("/{ident}", response=PlateOut)
def read(request: HttpRequest, ident: int) -> PlateOut:
    return _out(services.visible(request.user, ident))


@router.post("/{ident}/bodies", response=PlateOut)
def put(request: HttpRequest, ident: int, body: PutOn) -> PlateOut:
    """Put a body of a case on the plate, as it is now."""
    return _out(services.put(request.user, ident, body.base, body.case, body.address))


@router.post("/{ident}/bodies/{body}/off", response=PlateOut)
def take_off(request: HttpRequest, ident: int, body: str, change: TakeOff) -> PlateOut:
    return _out(services.take_off(request.user, ident, change.base, body))


@router.post("/{ident}/settings", response=PlateOut)
def change_settings(request: HttpRequest, ident: int, body: PlateChange) -> PlateOut:
    return _out(services.change_settings(request.user, ident, body.base, body.step, body.values))


@router.post("/{ident}/undo", response=PlateOut)
def undo(request: HttpRequest, ident: int) -> PlateOut:
    return _out(services.undo(request.user, ident))


@router.post("/{ident}/file", response=PlateOut)
def ask_for_file(request: HttpRequest, ident: int) -> PlateOut:
    return _out(services.ask_for_file(request.user, ident))


@router.get("/{ident}/plate.3mf")
def file(request: HttpRequest, ident: int) -> HttpResponse:
    """All bodies as they lie."""
    plate = services.visible(request.user, ident)
    node = look(plate).node("together")
    if node is None or node.good is None:
        raise Refused("The file of this plate is not made yet.", code="no-files", status=409)
    data = folder().read(node.good.values["file"]["files"][0]["file"])
    response = HttpResponse(data, content_type="model/3mf")
    response["Content-Disposition"] = f'attachment; filename="plate-{plate.pk}.3mf"'
    return response


def _out(plate: Plate) -> PlateOut:
    plate.refresh_from_db()
    document, graph = document_of(plate), look(plate)
    pack = graph.node("pack")
    places = {b.id: pack.json("home_to_plate", b.id) if pack else None for b in document.bodies}
    bodies = [
        PlateBodyOut(id=b.id, case=b.case, address=b.address, jaw=b.jaw, mesh=b.mesh, home_to_plate=places[b.id])
        for b in document.bodies
    ]  # fmt: skip
    nodes = list(graph.nodes.values())
    return PlateOut(
        id=plate.pk,
        name=document.name,
        revision=plate.revision,
        bodies=bodies,
        settings={n.step.name: document.settings_for(n.step).model_dump(mode="json") for n in nodes},
        states={n.step.name: n.state for n in nodes},
        sentences=[flag["message"] for n in nodes if n.manifest for flag in n.manifest.flags],
        working=plate.needs_work,
    )
