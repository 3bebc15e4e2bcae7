"""House settings over HTTP."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema
from pydantic.fields import FieldInfo

from bitecore.files import threemf
from bitecore.parts.fit_strip import fit_strip
from bitecore.parts.shelf import SHELVES
from bitecore.parts.size_strip import correction_percent, size_strip

from . import services, shelves

router = Router(tags=["house"])


class House(Schema):
    """limits : what is accepted now, where general says nothing as this installation was started."""

    number: int
    steps: dict[str, dict[str, Any]]
    general: dict[str, int | str | None]
    limits: dict[str, int]


class RecordOut(Schema):
    """See house/shelves.py."""

    id: str
    name: str
    revision: int
    steps: dict[str, dict[str, Any]]
    data: dict[str, float | str | None]


class RecordChange(Schema):
    """id : empty for a new one."""

    id: str = ""
    name: str
    steps: dict[str, dict[str, Any]] = {}
    data: dict[str, float | str | None] = {}


class FieldOut(Schema):
    """default : what counts where nothing is typed"""

    key: str
    label: str
    unit: str
    optional: bool
    default: float | str | None
    drawing: bool


class GeneralChange(Schema):
    values: dict[str, int | str | None]


class HouseChange(Schema):
    step: str
    values: dict[str, Any]


class SizeCorrection(Schema):
    """In %, as a resin's record keeps them; None where nothing was measured."""

    size_x: float | None
    size_y: float | None
    size_z: float | None


@router.get("", response=House)
def read(request: HttpRequest) -> House:
    return _out()


@router.post("", response=House)
def change(request: HttpRequest, body: HouseChange) -> House:
    services.change(request.user, body.step, body.values)
    return _out()


@router.get("/shelves", response=dict[str, list[RecordOut]])
def all_shelves(request: HttpRequest) -> dict[str, list[RecordOut]]:
    """Every shelf with its records."""
    return {shelf: [_record(r) for r in shelves.on(shelf).values()] for shelf in SHELVES}


@router.get("/fit-strip.3mf")
def fit_strip_file(request: HttpRequest) -> HttpResponse:
    """A strip with five sockets and a peg: which air a printer and a resin need round dies."""
    response = HttpResponse(threemf.write(fit_strip(), title="Fit strip"), content_type="model/3mf")
    response["Content-Disposition"] = 'attachment; filename="fit-strip.3mf"'
    return response


@router.get("/size-strip.3mf")
def size_strip_file(request: HttpRequest) -> HttpResponse:
    """Three known lengths: how much larger bodies have to be printed."""
    response = HttpResponse(threemf.write([("size strip", size_strip())], title="Size strip"), content_type="model/3mf")
    response["Content-Disposition"] = 'attachment; filename="size-strip.3mf"'
    return response


@router.get("/size-correction", response=SizeCorrection)
def size_correction(
    request: HttpRequest, width: float | None = None, depth: float | None = None, height: float | None = None
) -> SizeCorrection:
    """What the lengths measured on the size strip (mm) ask of the resin's record."""
    measured = dict(zip(("size_x", "size_y", "size_z"), (width, depth, height), strict=True))
    return SizeCorrection(**{key: None if mm is None else correction_percent(axis, mm) for axis, (key, mm) in enumerate(measured.items())})


@router.get("/forms", response=dict[str, list[FieldOut]])
def forms(request: HttpRequest) -> dict[str, list[FieldOut]]:
    """What the records of each shelf hold besides name and settings."""
    return {shelf: [_field(key, field) for key, field in model.model_fields.items()] for shelf, model in SHELVES.items()}


@router.post("/shelves/{shelf}", response=RecordOut)
def put(request: HttpRequest, shelf: str, body: RecordChange) -> RecordOut:
    return _record(shelves.put(request.user, shelf, body.id, body.name, body.steps, body.data))


@router.delete("/shelves/{shelf}/{ident}", response=dict[str, str])
def take_off(request: HttpRequest, shelf: str, ident: str) -> dict[str, str]:
    shelves.take_off(request.user, shelf, ident)
    return {"id": ident}


def _record(record: shelves.OnShelf) -> RecordOut:
    return RecordOut(id=record.id, name=record.name, revision=record.revision, steps=record.steps, data=record.data)


def _field(key: str, field: FieldInfo) -> FieldOut:
    extra = field.json_schema_extra if isinstance(field.json_schema_extra, dict) else {}
    default = None if field.is_required() else field.default
    unit, drawing = str(extra.get("unit", "")), bool(extra.get("drawing"))
    return FieldOut(key=key, label=field.title or key, unit=unit, optional=not field.is_required(), default=default, drawing=drawing)


@router.post("/general", response=House)
def change_general(request: HttpRequest, body: GeneralChange) -> House:
    services.change_general(request.user, body.values)
    return _out()


def _out() -> House:
    house = services.newest()
    return House(number=house.number, steps=house.steps, general=house.general.model_dump(), limits=asdict(services.limits()))
