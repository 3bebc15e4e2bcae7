"""Reading and changing the house settings."""

from __future__ import annotations

from typing import Any

from django.db import transaction

from accounts.services import is_lead
from bitecore.runsheet import standard
from config.errors import Refused

from .models import HouseRevision


def newest() -> tuple[int, dict[str, Any]]:
    row = HouseRevision.objects.first()
    return (row.number, row.steps) if row else (0, {})


@transaction.atomic
def change(user: Any, step: str, values: dict[str, Any]) -> int:
    """A new revision with `values` as the house's settings of that step. Only a lead may. Cases keep theirs."""
    if not is_lead(user):
        raise Refused("Only a lead changes the house settings.", code="lead-only", status=403)
    number, steps = newest()
    standard()[step].check(values)
    HouseRevision.objects.create(number=number + 1, steps={**steps, step: values}, author=user)
    return number + 1
