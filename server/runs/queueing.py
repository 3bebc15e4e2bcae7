"""Where something that waits to be worked out stands: how many are before it, and about how long that takes."""

from __future__ import annotations

import threading
import time
from typing import Any

from django.db.models import Avg, F, Max, Min, Q
from procrastinate.contrib.django.models import ProcrastinateEvent, ProcrastinateJob

from .kinds import Kind, lock_of
from .services import TASK

_LAST, _FRESH_S = 30, 1.0
_kept: tuple[float, dict[str, int], float | None] | None = None
_lock = threading.Lock()


def place(kind: Kind[Any], pk: int, *, about: bool = False) -> str:
    """'2 before it, about 40 s'; empty for what does not wait. Times are those of the last that were worked out here. about : as it was
    within the last second will do, for lists of many."""
    before, each_s = _queue() if about else (_before(), _each_s())
    count = before.get(lock_of(kind, pk))
    if count is None:
        return ""
    if count == 0:
        return "next in turn"
    return f"{count} before it" + (f", about {_words(count * each_s)}" if each_s else "")


def _words(seconds: float) -> str:
    return f"{max(round(seconds), 1)} s" if seconds < 100 else f"{seconds / 60:.0f} min"


def _queue() -> tuple[dict[str, int], float | None]:
    """({lock of what waits: how many are before it}, how long each takes, s). One look a second for all who ask."""
    global _kept
    with _lock:
        if _kept is None or time.monotonic() - _kept[0] > _FRESH_S:
            _kept = time.monotonic(), _before(), _each_s()
        return _kept[1], _kept[2]


def _before() -> dict[str, int]:
    jobs = ProcrastinateJob.objects.filter(task_name=TASK, status__in=("todo", "doing"))
    rows = list(jobs.order_by(F("priority").desc(), "id").values_list("lock", "status"))
    running = {lock for lock, status in rows if status == "doing"}
    waiting = [lock for lock, status in rows if status == "todo" and lock not in running]
    return {lock: len(running) + at for at, lock in enumerate(waiting)}


def _each_s() -> float | None:
    last = ProcrastinateJob.objects.filter(task_name=TASK, status="succeeded").order_by("-id").values_list("id", flat=True)[:_LAST]
    spans = (
        ProcrastinateEvent.objects.filter(job_id__in=list(last))
        .values("job_id")
        .annotate(began=Min("at", filter=Q(type="started")), ended=Max("at", filter=Q(type="succeeded")))
        .aggregate(mean=Avg(F("ended") - F("began")))
    )
    return spans["mean"].total_seconds() if spans["mean"] else None
