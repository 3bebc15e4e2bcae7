"""How the machine is doing."""

from __future__ import annotations

from datetime import timedelta

from django.http import HttpRequest
from django.utils import timezone
from ninja import Router, Schema
from procrastinate.contrib.django.models import ProcrastinateWorker

from cases.models import Case

router = Router(tags=["runs"])


class Health(Schema):
    ok: bool
    worker: bool
    waiting: int


@router.get("/health", response=Health, auth=None)
def health(request: HttpRequest) -> Health:
    """Answers once the web process and the database do; worker says whether one is there to work cases out."""
    lately = timezone.now() - timedelta(seconds=15)
    worker = ProcrastinateWorker.objects.filter(last_heartbeat__gt=lately).exists()
    return Health(ok=True, worker=worker, waiting=Case.objects.filter(needs_work=True).count())
