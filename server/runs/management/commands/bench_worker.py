"""The worker: takes cases and plates from the queue, and takes up what a dead worker left."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import signal
import time
from collections.abc import Callable
from typing import Any

import psycopg
from django.core.management.base import BaseCommand
from django.db import Error, close_old_connections
from django.utils import timezone
from procrastinate.contrib.django import app
from procrastinate.exceptions import UniqueViolation
from procrastinate.jobs import Job, Status
from procrastinate.manager import JobManager

from bitecore.trouble import where_it_broke
from runs.watching import EVERY_S, WATCHERS

log = logging.getLogger("bench.worker")
HEARTBEAT_S = 2.0
DEAD_AFTER_S = 8.0
QUEUE, FRONT, FRONT_JOBS = "cases", "front", 3
_SWEEP_EVERY_S = 300.0


class Command(BaseCommand):
    help = "Work cases and plates out until stopped."

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("--jobs", type=int, default=2, help="sheets at the same time")

    def handle(self, *args: Any, **options: Any) -> None:
        from runs.turns import POOLS

        POOLS.warm(1, front=True)
        POOLS.warm(1, front=False)
        _renew()
        with contextlib.suppress(KeyboardInterrupt):
            asyncio.run(_serve(options["jobs"]))


async def _serve(jobs: int) -> None:
    told_to_stop = asyncio.Event()
    for each in (signal.SIGINT, signal.SIGTERM):
        asyncio.get_running_loop().add_signal_handler(each, told_to_stop.set)
    worker_app = app.with_connector(app.connector.get_worker_connector())
    async with worker_app.open_async():
        # What somebody has open never waits behind cases nobody looks at: it has takers of its own.
        work = [_watch(worker_app), *map(_keep_calling, WATCHERS)]
        work += [take(worker_app, QUEUE, jobs), take(worker_app, FRONT, FRONT_JOBS)]
        tasks = [asyncio.create_task(each) for each in work]
        await told_to_stop.wait()
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)


async def take(worker_app: Any, queue: str, jobs: int, *, pause: float = 1.0) -> None:
    """Take jobs of a queue until cancelled. A taker that the database has cut off in the middle of a question ends: it begins anew."""
    while True:
        try:
            await worker_app.run_worker_async(
                queues=[queue],
                concurrency=jobs,
                fetch_job_polling_interval=1.0,
                update_heartbeat_interval=HEARTBEAT_S,
                stalled_worker_timeout=DEAD_AFTER_S,
                shutdown_graceful_timeout=1.0,
                delete_jobs="successful",
                install_signal_handlers=False,
            )
        except Exception as error:
            log.warning("takers of %s: %s", queue, type(error).__name__)
        await asyncio.sleep(pause)


async def _take_up(manager: JobManager, job: Job) -> None:
    """A dead worker's job runs again. Where its sheet has another one waiting, that does the work and this one ends."""
    log.warning("taking up job %s of a dead worker", job.id)
    try:
        await manager.retry_job(job)
    except UniqueViolation:
        await manager.finish_job(job, Status.FAILED, delete_job=True)


async def _take_up_lost(manager: JobManager, seen: set[int]) -> set[int]:
    """Jobs of ours that have ended here and not in the database, for it was away; those seen at the last look too are taken up."""
    from runs.tasks import RUNNING, STARTED

    if not STARTED:
        return set()
    lost = {}
    for job in await manager.list_jobs_async(status=Status.DOING.value):
        if job.id in STARTED and job.id not in RUNNING:
            lost[job.id] = job
    for number in seen & set(lost):
        await _take_up(manager, lost.pop(number))
    return set(lost)


async def _watch(worker_app: Any) -> None:
    """Jobs of dead workers run again; what needs work and has no job gets one; what nothing refers to goes."""
    next_sweep, lost = time.monotonic() + 30.0, set[int]()
    while True:
        try:
            for job in await worker_app.job_manager.get_stalled_jobs(seconds_since_heartbeat=DEAD_AFTER_S):
                await _take_up(worker_app.job_manager, job)
            lost = await _take_up_lost(worker_app.job_manager, lost)
            await asyncio.to_thread(_sweep)
            if time.monotonic() > next_sweep:
                next_sweep = time.monotonic() + _SWEEP_EVERY_S
                await asyncio.to_thread(_drop_orphans)
        except (psycopg.Error, Error, OSError) as error:
            log.warning("watch: %s", type(error).__name__)
        except Exception as error:
            log.error("watch: %s", where_it_broke(error))
        await asyncio.sleep(2.5)


async def _keep_calling(watcher: Callable[[], None]) -> None:
    while True:
        try:
            await asyncio.to_thread(watcher)
        except (psycopg.Error, Error, OSError) as error:
            log.warning("watcher: %s", type(error).__name__)
        except Exception as error:
            log.error("watcher: %s", where_it_broke(error))
        await asyncio.sleep(EVERY_S)


def _renew() -> None:
    """After a newer version came, or with the folder of views lost, all is taken up again: those at work for the steps
    that are of a newer version, all for their pictures."""
    from runs.kinds import KINDS

    try:
        for kind in KINDS.values():
            _renew_all(kind)
    except Error as error:
        log.warning("renewing: %s", type(error).__name__)
    finally:
        close_old_connections()


def _renew_all(kind: Any) -> None:
    from runs.services import count_uses, enqueue, steps_left
    from runs.work import views_missing

    rows = kind.model.objects
    for row in rows.filter(owner__counted=False).iterator():
        count_uses(row)
    for row in rows.iterator():
        kind.freshen(row)
    for row in rows.filter(held=False, needs_work=False).iterator():
        if (not kind.at_rest(row) and steps_left(row)) or views_missing(row):
            rows.filter(pk=row.pk).update(needs_work=True)
            enqueue(row)


def _sweep() -> None:
    from procrastinate.contrib.django.models import ProcrastinateJob

    from runs.kinds import KINDS, lock_of
    from runs.services import enqueue

    try:
        waiting = set(ProcrastinateJob.objects.filter(status__in=("todo", "doing")).values_list("lock", flat=True))
        # What the surroundings were in the way of is tried again when its time has come.
        for kind in KINDS.values():
            kind.model.objects.filter(retry__lte=timezone.now(), held=False).update(needs_work=True, retry=None)
            for row in kind.model.objects.filter(needs_work=True, held=False):
                if lock_of(kind, row.pk) not in waiting:
                    enqueue(row)
    finally:
        close_old_connections()


def _drop_orphans() -> None:
    from house.services import newest
    from runs.owning import drop_unpinned, sweep_orphans

    try:
        sweep_orphans()
        drop_unpinned(newest().general.results_gb * 1_000_000_000)
    finally:
        close_old_connections()
