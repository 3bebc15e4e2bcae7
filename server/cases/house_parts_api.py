"""The shelf of house parts over HTTP."""

from __future__ import annotations

from collections.abc import Iterable

from django.http import HttpRequest
from ninja import File, Router, Schema, UploadedFile
from pydantic import Field

from . import house_parts
from .blobs import dropped
from .models import HousePart
from .schemas import Dropped, Refusal

router = Router(tags=["house-parts"])


class HousePartOut(Schema):
    """See cases/models.py."""

    id: int
    name: str
    file: str
    sha256: str
    face: int
    turn_deg: float


class HousePartsOut(Schema):
    """refused : of what was dropped on the shelf"""

    parts: list[HousePartOut]
    refused: list[Refusal] = []


class HousePartChange(Schema):
    name: str
    face: int = Field(1, ge=1, le=12)
    turn_deg: float = Field(0.0, ge=-180, le=180)


@router.get("", response=HousePartsOut)
def shelf(request: HttpRequest) -> HousePartsOut:
    return _out()


@router.post("", response=HousePartsOut)
def put(request: HttpRequest, files: File[list[UploadedFile]]) -> HousePartsOut:
    """Bodies for the shelf; what cannot be read is refused with a sentence each."""
    house_parts.lead_only(request.user)
    with dropped(files) as found:
        house_parts.put(request.user, found.scans)
        return _out(found.refused)


@router.post("/{ident}", response=HousePartsOut)
def change(request: HttpRequest, ident: int, body: HousePartChange) -> HousePartsOut:
    house_parts.change(request.user, ident, body.name, body.face, body.turn_deg)
    return _out()


@router.delete("/{ident}", response=HousePartsOut)
def take_off(request: HttpRequest, ident: int) -> HousePartsOut:
    house_parts.take_off(request.user, ident)
    return _out()


@router.post("/{ident}/to/{number}", response=Dropped)
def take_up(request: HttpRequest, ident: int, number: str) -> Dropped:
    """A part of the shelf as a file of the case."""
    case = house_parts.take_up(request.user, number, ident)
    return Dropped(number=case.number, revision=case.revision, accepted=[], refused=[])


def _out(refused: Iterable[dict] = ()) -> HousePartsOut:
    parts = [HousePartOut.from_orm(row) for row in HousePart.objects.all()]
    return HousePartsOut(parts=parts, refused=[Refusal(**r) for r in refused])
