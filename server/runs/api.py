"""How the machine is doing."""

from __future__ import annotations

from datetime import timedelta

from django.http import HttpRequest
from django.utils import timezone
from ninja import Router, Schema
from procrastinate.contrib.django.models import ProcrastinateWorker

from ground.disk import room

from .kinds import KINDS

router = Router(tags=["runs"])


class Health(Schema):
    """How the machine is doing.

    disk_free_mb : left where everything is kept
    disk_low     : so little that it has to be said
    """

    ok: bool
    worker: bool
    waiting: int
    disk_free_mb: int
    disk_low: bool


@router.get("/health", response=Health, auth=None)
def health(request: HttpRequest) -> Health:
    """Answers once the web process and the database do; worker says whether one is there to work cases out."""
    lately = timezone.now() - timedelta(seconds=15)
    worker = ProcrastinateWorker.objects.filter(last_heartbeat__gt=lately).exists()
    disk = room()
    waiting = sum(kind.model.objects.filter(needs_work=True).count() for kind in KINDS.values())
    return Health(ok=True, worker=worker, waiting=waiting, disk_free_mb=disk.free_bytes // 1_000_000, disk_low=disk.low)
