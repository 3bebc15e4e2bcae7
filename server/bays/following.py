"""What printers say, asked again and again; and what becomes of the plates they have."""

from __future__ import annotations

from typing import Any

from django.db import DatabaseError, close_old_connections
from django.utils import timezone

from ground.errors import log_accident
from runs.services import announce

from . import bottles, printers
from .heard import Job, Status
from .models import AT_PRINTER, ON_ITS_WAY, Bay, Print
from .services import ask_again, tell

_STATES = {"waiting": "arrived", "printing": "printing", "paused": "paused", "stopped": "stopped", "done": "done", "cancelled": "cancelled"}


def follow() -> None:
    """One look at every printer."""
    try:
        if printers.addresses():
            for bay in printers.addresses():
                try:
                    look_at(bay)
                except (DatabaseError, MemoryError):
                    raise
                except Exception as error:
                    # Whatever one printer does, those behind it are followed.
                    log_accident(error)
            _take_up()
    finally:
        close_old_connections()


def look_at(ident: str) -> None:
    bay, _ = Bay.objects.get_or_create(ident=ident)
    try:
        said = printers.status(ident)
    except printers.OddAnswer:
        # Of what it has nothing is believed, so nothing of it ends either.
        _odd(bay)
        return
    except (printers.Broken, printers.Declined):
        if bay.silent is None:
            bay.silent = timezone.now()
            bay.save(update_fields=["silent"])
            announce({"kind": "bay", "bay": ident})
        return
    now = said.model_dump(mode="json")
    changed = bay.said != now or bay.silent is not None
    bay.said, bay.heard, bay.silent = now, timezone.now(), None
    bay.save()
    jobs, free = {job.name: job for job in said.jobs}, said.state == "idle"
    for row in Print.objects.filter(bay=ident, state__in=AT_PRINTER).select_related("case").order_by("id"):
        free = _follow(row, jobs.get(row.name), said, free)
    if changed:
        announce({"kind": "bay", "bay": ident})


def _odd(bay: Bay) -> None:
    if bay.said.get("odd") and bay.silent is None:
        return
    bay.said, bay.silent = {**bay.said, "odd": True}, None
    bay.save(update_fields=["said", "silent"])
    announce({"kind": "bay", "bay": bay.ident})


def _follow(row: Print, job: Job | None, said: Status, free: bool) -> bool:
    """free : nothing is printed there yet; whether that is so afterwards."""
    if job is None:
        _end(row, "failed", f"The {row.printer} does not know this plate any more. Send it again.")
        return free
    if job.sha256 != row.sha256:
        _end(row, "failed", f"The {row.printer} has another file under this name. Send it again.")
        return free
    says = ""
    if job.state == "waiting" and free and not (says := bottles.waits_for(row)):
        try:
            job = printers.start(row.bay, row.name)
            # The next one in the queue waits for this one.
            free = False
        except (printers.Broken, printers.Declined):
            return free
    state = _STATES[job.state]
    if row.began is None and state in ("printing", "paused", "stopped", "done"):
        row.began = timezone.now()
        Print.objects.filter(pk=row.pk, began=None).update(began=row.began)
        bottles.begun(row)
    bottles.used(row, job.layer)
    if state in ("done", "cancelled"):
        _end(row, state, "" if state == "done" else f"It was cancelled at the {row.printer}.", layer=job.layer)
        return free
    says = said.says if state == "stopped" else says
    now = (state, says, job.layer, job.seconds_left)
    if now != (row.state, row.says, row.layer, row.seconds_left):
        Print.objects.filter(pk=row.pk, state__in=AT_PRINTER).update(state=state, says=says, layer=job.layer, seconds_left=job.seconds_left)
        tell(row)
    return free


def _end(row: Print, state: str, says: str, **more: Any) -> None:
    values = {"state": state, "says": says, "ended": timezone.now(), "seconds_left": 0.0 if state == "done" else None, **more}
    if Print.objects.filter(pk=row.pk, state__in=AT_PRINTER).update(**values):
        tell(row)


def _take_up() -> None:
    """What is on its way and has no job: its worker died before it was sent."""
    from procrastinate.contrib.django.models import ProcrastinateJob

    at_work = set(ProcrastinateJob.objects.filter(status__in=("todo", "doing")).values_list("queueing_lock", flat=True))
    for row in Print.objects.filter(state__in=ON_ITS_WAY).select_related("case"):
        if f"print-{row.pk}" not in at_work:
            ask_again(row)
