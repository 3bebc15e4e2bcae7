"""Reading and changing the house settings."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from django.db import transaction
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from accounts.services import is_lead
from bitecore.runsheet import standard
from config.errors import Refused

from .models import HouseRevision


class General(BaseModel):
    """What the house decides besides the steps. Seven years are usual (common practice, no source); the law decides.
    case_name : how a case is called that is exported as a whole, from {number}, {patient}, {practice} and {date}."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    retention_years: int = Field(7, ge=0, le=60)
    case_name: str = Field("{date}_{number}_case", min_length=1, max_length=120)


@dataclass(frozen=True)
class House:
    """number : of the revision; steps : its settings; versions : of the steps they were saved under; general : the rest."""

    number: int = 0
    steps: dict[str, Any] = field(default_factory=dict)
    versions: dict[str, int] = field(default_factory=dict)
    general: General = field(default_factory=General)


def newest() -> House:
    """The house's settings now, those of older steps brought up to date."""
    row = HouseRevision.objects.first()
    if row is None:
        return House()
    known = standard()
    steps = {name: known[name].upgraded(values, row.versions.get(name)) for name, values in row.steps.items() if name in known}
    return House(row.number, steps, {name: known[name].version for name in steps}, General.model_validate(row.general))


@transaction.atomic
def change(user: Any, step: str, values: dict[str, Any]) -> int:
    """A new revision with `values` as the house's settings of that step. Only a lead may. Cases keep theirs."""
    if not is_lead(user):
        raise Refused("Only a lead changes the house settings.", code="lead-only", status=403)
    house = newest()
    standard()[step].check(values)
    versions = {**house.versions, step: standard()[step].version}
    HouseRevision.objects.create(
        number=house.number + 1, steps={**house.steps, step: values}, versions=versions,
        general=house.general.model_dump(mode="json"), author=user,
    )  # fmt: skip
    return house.number + 1


@transaction.atomic
def change_general(user: Any, values: dict[str, Any]) -> int:
    """A new revision with what is no step's changed. Only a lead may."""
    if not is_lead(user):
        raise Refused("Only a lead changes the house settings.", code="lead-only", status=403)
    house = newest()
    try:
        general = General.model_validate({**house.general.model_dump(), **values})
    except ValidationError as error:
        raise Refused("Years of keeping are a whole number from 0 to 60.", code="invalid", status=422) from error
    HouseRevision.objects.create(
        number=house.number + 1, steps=house.steps, versions=house.versions, general=general.model_dump(mode="json"), author=user
    )
    return house.number + 1


def retention_years() -> int:
    return newest().general.retention_years
