"""House settings over HTTP."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from django.http import HttpRequest
from ninja import Router, Schema

from . import services

router = Router(tags=["house"])


class House(Schema):
    """limits : what is accepted now, where general says nothing as this installation was started."""

    number: int
    steps: dict[str, Any]
    general: dict[str, int | str | None]
    limits: dict[str, int]


class GeneralChange(Schema):
    values: dict[str, int | str | None]


class HouseChange(Schema):
    step: str
    values: dict[str, Any]


@router.get("", response=House)
def read(request: HttpRequest) -> House:
    return _out()


@router.post("", response=House)
def change(request: HttpRequest, body: HouseChange) -> House:
    services.change(request.user, body.step, body.values)
    return _out()


@router.post("/general", response=House)
def change_general(request: HttpRequest, body: GeneralChange) -> House:
    services.change_general(request.user, body.values)
    return _out()


def _out() -> House:
    house = services.newest()
    return House(number=house.number, steps=house.steps, general=house.general.model_dump(), limits=asdict(services.limits()))
