"""House settings over HTTP."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest
from ninja import Router, Schema

from . import services

router = Router(tags=["house"])


class House(Schema):
    number: int
    steps: dict[str, Any]


class HouseChange(Schema):
    step: str
    values: dict[str, Any]


@router.get("", response=House)
def read(request: HttpRequest) -> House:
    house = services.newest()
    return House(number=house.number, steps=house.steps)


@router.post("", response=House)
def change(request: HttpRequest, body: HouseChange) -> House:
    services.change(request.user, body.step, body.values)
    house = services.newest()
    return House(number=house.number, steps=house.steps)
