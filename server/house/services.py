"""Reading and changing the house settings."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from django.db import transaction

from accounts.services import is_lead
from bitecore.runsheet import standard
from config.errors import Refused

from .models import HouseRevision


@dataclass(frozen=True)
class House:
    """number : of the revision; steps : its settings; versions : of the steps they were saved under."""

    number: int = 0
    steps: dict[str, Any] = field(default_factory=dict)
    versions: dict[str, int] = field(default_factory=dict)


def newest() -> House:
    """The house's settings now, those of older steps brought up to date."""
    row = HouseRevision.objects.first()
    if row is None:
        return House()
    known = standard()
    steps = {name: known[name].upgraded(values, row.versions.get(name)) for name, values in row.steps.items() if name in known}
    return House(row.number, steps, {name: known[name].version for name in steps})


@transaction.atomic
def change(user: Any, step: str, values: dict[str, Any]) -> int:
    """A new revision with `values` as the house's settings of that step. Only a lead may. Cases keep theirs."""
    if not is_lead(user):
        raise Refused("Only a lead changes the house settings.", code="lead-only", status=403)
    house = newest()
    standard()[step].check(values)
    versions = {**house.versions, step: standard()[step].version}
    HouseRevision.objects.create(number=house.number + 1, steps={**house.steps, step: values}, versions=versions, author=user)
    return house.number + 1
