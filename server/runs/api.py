"""How the machine is doing."""

from __future__ import annotations

from django.http import HttpRequest
from ninja import Router, Schema

from cases.models import Case

router = Router(tags=["runs"])


class Health(Schema):
    ok: bool
    waiting: int


@router.get("/health", response=Health, auth=None)
def health(request: HttpRequest) -> Health:
    """Answers once the web process and the database do."""
    return Health(ok=True, waiting=Case.objects.filter(needs_work=True).count())
