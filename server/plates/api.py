"""Plates over HTTP: routes parse, call one service, return."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from ninja import Router

from bitecore.parts.layer_zip import PlateLayers, written
from bitecore.platesheet import PLATE
from cases import veil
from cases.schemas import SettingOut
from cases.shown import settings_of
from ground.errors import Refused
from runs.owning import folder
from runs.services import look

from . import services, shelf
from .leafing import leafed, opened
from .models import Plate
from .schemas import (
    Base,
    Copies,
    LayerTable,
    Named,
    NewPlate,
    OntoNext,
    PlateChange,
    PlateGone,
    PlateLine,
    PlateOut,
    PutOn,
    ReadyOut,
    TakeOff,
)
from .shown import plate_line, plate_out

router = Router(tags=["plates"])


def _out(request: HttpRequest, plate: Plate) -> PlateOut:
    return plate_out(plate, request.user, veiled=veil.is_down(request))


@router.get("", response=list[PlateLine])
def plates(request: HttpRequest) -> list[PlateLine]:
    """The newest hundred."""
    return [plate_line(plate) for plate in Plate.objects.visible_to(request.user)[:100]]


@router.post("", response=PlateOut)
def create(request: HttpRequest, body: NewPlate) -> PlateOut:
    return _out(request, services.create(request.user, body.name, body.printer, filled=body.filled))


@router.get("/shelf", response=list[ReadyOut])
def on_the_shelf(request: HttpRequest) -> list[ReadyOut]:
    """Bodies of all open cases, what is due first in front."""
    return shelf.ready(request.user, veiled=veil.is_down(request))


@router.get("/settings", response=list[SettingOut])
def settings(request: HttpRequest) -> list[SettingOut]:
    """What can be set of a plate, by its steps."""
    return [row for step in PLATE.registry.shown for row in settings_of(step)]


@router.get("/{ident}", response=PlateOut)
def read(request: HttpRequest, ident: int) -> PlateOut:
    return _out(request, services.visible(request.user, ident))


@router.delete("/{ident}", response=PlateGone)
def delete(request: HttpRequest, ident: int) -> PlateGone:
    """One that was never printed."""
    services.delete(request.user, ident)
    return PlateGone(id=ident)


@router.post("/{ident}/bodies", response=PlateOut)
def put(request: HttpRequest, ident: int, body: PutOn) -> PlateOut:
    """Put bodies of a case on the plate, as they are now."""
    return _out(request, services.put(request.user, ident, body.base, body.case, body.addresses, body.count))


@router.post("/{ident}/onto-next", response=OntoNext)
def onto_next(request: HttpRequest, ident: int, body: TakeOff) -> OntoNext:
    """What has no room, onto as many more plates as it takes."""
    plate, others = services.onto_next(request.user, ident, body.base, body.bodies)
    return OntoNext(plate=_out(request, plate), others=[other.pk for other in others])


@router.post("/{ident}/off", response=PlateOut)
def take_off(request: HttpRequest, ident: int, body: TakeOff) -> PlateOut:
    return _out(request, services.take_off(request.user, ident, body.base, body.bodies))


@router.post("/{ident}/bodies/{body}/copies", response=PlateOut)
def copies(request: HttpRequest, ident: int, body: str, change: Copies) -> PlateOut:
    return _out(request, services.copies(request.user, ident, change.base, body, change.count))


@router.post("/{ident}/bodies/{body}/renew", response=PlateOut)
def renew(request: HttpRequest, ident: int, body: str, change: Base) -> PlateOut:
    """Take a body as its case has it now."""
    return _out(request, services.renew(request.user, ident, change.base, body))


@router.post("/{ident}/fill", response=PlateOut)
def fill(request: HttpRequest, ident: int, body: Base) -> PlateOut:
    """Put on what is ready and due first, as long as there is room."""
    return _out(request, services.fill(request.user, ident, body.base))


@router.post("/{ident}/name", response=PlateOut)
def rename(request: HttpRequest, ident: int, body: Named) -> PlateOut:
    return _out(request, services.rename(request.user, ident, body.base, body.name))


@router.post("/{ident}/settings", response=PlateOut)
def change_settings(request: HttpRequest, ident: int, body: PlateChange) -> PlateOut:
    return _out(request, services.change_settings(request.user, ident, body.base, body.step, body.values))


@router.post("/{ident}/records", response=PlateOut)
def take_records(request: HttpRequest, ident: int, body: Base) -> PlateOut:
    """Take up what the house has changed of the printer and the resin since they were chosen."""
    return _out(request, services.take_records(request.user, ident, body.base))


@router.post("/{ident}/undo", response=PlateOut)
def undo(request: HttpRequest, ident: int) -> PlateOut:
    return _out(request, services.undo(request.user, ident))


@router.post("/{ident}/redo", response=PlateOut)
def redo(request: HttpRequest, ident: int) -> PlateOut:
    return _out(request, services.redo(request.user, ident))


@router.post("/{ident}/file", response=PlateOut)
def ask_for_file(request: HttpRequest, ident: int) -> PlateOut:
    return _out(request, services.ask_for_file(request.user, ident))


@router.get("/{ident}/plate.3mf")
def file(request: HttpRequest, ident: int) -> HttpResponse:
    """All bodies as they lie, each by its name."""
    return _file(request, ident, "3mf", "model/3mf")


@router.get("/{ident}/plate.stl")
def stl_file(request: HttpRequest, ident: int) -> HttpResponse:
    """All bodies as they lie, in one."""
    return _file(request, ident, "stl", "model/stl")


def _file(request: HttpRequest, ident: int, ending: str, kind: str) -> HttpResponse:
    plate = services.visible(request.user, ident)
    node = look(plate).node("together")
    if node is None or node.good is None:
        raise Refused("The file of this plate is not made yet.", code="no-files", status=409)
    sha = next(f["file"] for f in node.good.values["file"]["files"] if f["name"].endswith(f".{ending}"))
    return _download(folder().read(sha), f"plate-{plate.pk}.{ending}", kind)


@router.get("/{ident}/layers.json", response=LayerTable)
def layer_table(request: HttpRequest, ident: int) -> LayerTable:
    found = _layers(request, ident)
    says, rows = found.says, found.says["layers"]
    return LayerTable(
        area_mm2=[r["area_mm2"] for r in rows], ends_mm=[r["z_mm"][1] for r in rows], seconds=says["seconds"], resin_ml=says["resin_ml"],
        fine_seconds=found.fine_seconds,
    )  # fmt: skip


@router.get("/{ident}/layers/{layer}.png")
def one_layer(request: HttpRequest, ident: int, layer: int, of: str = "", wide: int = 0) -> HttpResponse:
    """One layer of the plate: white is cured. of : the word for its layers, by which they are found at once; wide : for a screen, so many
    pixels at least; nought: as the printer gets it"""
    found = leafed(services.visible(request.user, ident), of) or _layers(request, ident)
    if not 0 <= layer < len(found.says["layers"]):
        raise Refused("The plate has no such layer.", code="no-layer", status=404)
    return HttpResponse(found.seen(layer, wide) if wide > 0 else found.picture(layer), content_type="image/png")


@router.get("/{ident}/layers.zip")
def layers_zip(request: HttpRequest, ident: int) -> HttpResponse:
    """The plate in layers, one PNG each, as the printer gets them (docs/layers.md)."""
    found = _layers(request, ident)
    return _download(written(found), f"plate-{ident}_layers.zip", "application/zip")


def _layers(request: HttpRequest, ident: int) -> PlateLayers:
    found = opened(services.visible(request.user, ident))
    if found is None:
        raise Refused("The layers of this plate are not worked out yet.", code="no-layers", status=409)
    return found


def _download(data: bytes, name: str, kind: str) -> HttpResponse:
    response = HttpResponse(data, content_type=kind)
    response["Content-Disposition"] = f'attachment; filename="{name}"'
    return response
