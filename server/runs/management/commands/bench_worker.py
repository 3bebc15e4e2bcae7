"""The worker: takes cases from the queue, and takes up what a dead worker left."""

from __future__ import annotations

import asyncio
import contextlib
import logging
from typing import Any

import psycopg
from django.core.management.base import BaseCommand
from django.db import Error, close_old_connections
from procrastinate.contrib.django import app

log = logging.getLogger("bench.worker")
HEARTBEAT_S = 2.0
DEAD_AFTER_S = 8.0


class Command(BaseCommand):
    help = "Work cases out until stopped."

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("--jobs", type=int, default=2, help="cases at the same time")

    def handle(self, *args: Any, **options: Any) -> None:
        from runs.work import POOLS

        POOLS.warm(1)
        _renew()
        with contextlib.suppress(KeyboardInterrupt):
            asyncio.run(_serve(options["jobs"]))


async def _serve(jobs: int) -> None:
    worker_app = app.with_connector(app.connector.get_worker_connector())
    async with worker_app.open_async():
        watch = asyncio.create_task(_watch(worker_app))
        try:
            await worker_app.run_worker_async(
                queues=["cases"],
                concurrency=jobs,
                fetch_job_polling_interval=1.0,
                update_heartbeat_interval=HEARTBEAT_S,
                stalled_worker_timeout=DEAD_AFTER_S,
                shutdown_graceful_timeout=1.0,
                delete_jobs="successful",
                install_signal_handlers=True,
            )
        finally:
            watch.cancel()


async def _watch(worker_app: Any) -> None:
    """Jobs of dead workers run again; cases that need work and have no job get one."""
    while True:
        try:
            for job in await worker_app.job_manager.get_stalled_jobs(seconds_since_heartbeat=DEAD_AFTER_S):
                log.warning("taking up case job %s of a dead worker", job.id)
                await worker_app.job_manager.retry_job(job)
            await asyncio.to_thread(_sweep)
        except (psycopg.Error, Error, OSError) as error:
            log.warning("watch: %s", error)
        except Exception:
            log.exception("watch")
        await asyncio.sleep(2.5)


def _renew() -> None:
    """After a newer version came, or with the folder of views lost, cases are taken up again: open ones for the steps
    that are of a newer version, all for their pictures."""
    from cases.models import Case
    from runs.services import enqueue, steps_left
    from runs.work import views_missing

    try:
        for case in Case.objects.filter(held=False, needs_work=False).iterator():
            if (case.closed is None and steps_left(case)) or views_missing(case):
                Case.objects.filter(pk=case.pk).update(needs_work=True)
                enqueue(case.pk)
    except Error as error:
        log.warning("renewing: %s", error)
    finally:
        close_old_connections()


def _sweep() -> None:
    from procrastinate.contrib.django.models import ProcrastinateJob

    from cases.models import Case
    from runs.services import enqueue

    try:
        waiting = set(ProcrastinateJob.objects.filter(status__in=("todo", "doing")).values_list("lock", flat=True))
        for case in Case.objects.filter(needs_work=True, held=False):
            if f"case-{case.pk}" not in waiting:
                enqueue(case.pk)
    finally:
        close_old_connections()
