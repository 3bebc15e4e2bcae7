"""Reading and changing the house settings."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from django.conf import settings
from django.db import transaction
from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator

from accounts.services import is_lead
from bitecore.limits import Limits
from bitecore.runsheet import standard
from bitecore.runsheet.export import check_pattern
from ground.errors import Refused

from . import shelves
from .models import HouseRevision


class General(BaseModel):
    """What the house decides besides the steps. Seven years are usual (common practice, no source); the law decides.

    case_name  : how a case is called that is exported as a whole, from {number}, {patient}, {practice} and {date}
    results_gb : above this much, results of earlier settings are dropped, the longest unused first. The rest are limits of
                 what is accepted, as in bitecore.limits; None: as this installation was started.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)
    retention_years: int = Field(7, ge=0, le=60, title="Years of keeping")
    case_name: str = Field("{date}_{number}_case", min_length=1, max_length=120, title="Name of an exported case")
    results_gb: int = Field(50, ge=1, le=100_000, title="GB of results to keep")
    triangles: int | None = Field(None, ge=1_000, le=50_000_000, title="Triangles a scan may have")
    drop_mb: int | None = Field(None, ge=1, le=20_000, title="MB a drop may have")
    read_s: int | None = Field(None, ge=1, le=3_600, title="Seconds to read a scan")
    read_mb: int | None = Field(None, ge=50, le=64_000, title="MB of memory to read a scan")

    @field_validator("case_name")
    @classmethod
    def _can_work(cls, pattern: str) -> str:
        return check_pattern(pattern)


@dataclass(frozen=True)
class House:
    """The house's settings as they are now.

    number   : of the revision
    steps    : its settings
    versions : of the steps they were saved under
    general  : the rest
    """

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
    return House(row.number, steps, {name: known[name].version for name in steps}, _general(row.general))


def _general(kept: dict[str, Any]) -> General:
    """As kept; what was accepted once and could not work goes back to the default."""
    try:
        return General.model_validate(kept)
    except ValidationError as error:
        wrong = {str(e["loc"][0]) for e in error.errors() if e["loc"]}
        return General.model_validate({k: v for k, v in kept.items() if k not in wrong})


@transaction.atomic
def change(user: Any, step: str, values: dict[str, Any]) -> int:
    """A new revision with `values` as the house's settings of that step. Only a lead may. Cases keep theirs."""
    if not is_lead(user):
        raise Refused("Only a lead changes the house settings.", code="lead-only", status=403)
    house = newest()
    checked = standard()[step].check(values)
    for key, shelf in standard()[step].shelves.items():
        if getattr(checked, key) not in shelves.on(shelf):
            raise Refused(f"There is no such {shelf} on the shelf.", code="no-record", status=422)
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
        raise Refused(_sentence(error), code="invalid", status=422) from error
    HouseRevision.objects.create(
        number=house.number + 1, steps=house.steps, versions=house.versions, general=general.model_dump(mode="json"), author=user
    )
    return house.number + 1


def _sentence(error: ValidationError) -> str:
    first = error.errors()[0]
    known = General.model_fields.get(str(first["loc"][0]) if first["loc"] else "")
    said = str(first["msg"]).removeprefix("Value error, ")
    return f"{known.title if known else 'The house has no such setting'}: {said[0].lower()}{said[1:]}."


def limits() -> Limits:
    """What is accepted: as the house says, else as this installation was started."""
    general, own = newest().general, Limits(**settings.BENCH_LIMITS)
    mb = 1_000_000
    return Limits(
        triangles=general.triangles or own.triangles,
        drop_bytes=general.drop_mb * mb if general.drop_mb else own.drop_bytes,
        files=own.files,
        read_seconds=general.read_s or own.read_seconds,
        read_bytes=general.read_mb * mb if general.read_mb else own.read_bytes,
    )


def retention_years() -> int:
    return newest().general.retention_years
