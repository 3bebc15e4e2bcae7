"""The jobs of the worker: one works a sheet out, one makes a copy of a mesh for the stage."""

from __future__ import annotations

import asyncio
import logging
import threading

from procrastinate import JobContext
from procrastinate.contrib.django import app

from bitecore.trouble import where_it_broke

from .services import FRONT, QUEUE, TASK, VIEW_TASK
from .work import make_full_view, work

# Jobs this process has begun, and those it is at. One that is at neither end in the database was ended while the database
# was away: what it is for would wait for ever.
STARTED: set[int] = set()
RUNNING: set[int] = set()

log = logging.getLogger("bench.work")


@app.task(name=TASK, queue=QUEUE, pass_context=True)
async def work_sheet(context: JobContext, kind: str, pk: int) -> None:
    """Everything on the sheet that is ready, in a thread of its own; the pool of children belongs to that thread."""
    stop = threading.Event()
    attempts = context.job.attempts if context.job else 0
    job = context.job.id if context.job and context.job.id is not None else 0
    STARTED.add(job)
    RUNNING.add(job)
    try:
        await asyncio.to_thread(work, kind, pk, attempts, stop)
    except asyncio.CancelledError:
        stop.set()
        raise
    except Exception as error:
        log.error("job of %s %s\n%s", kind, pk, where_it_broke(error))
        raise
    finally:
        RUNNING.discard(job)


@app.task(name=VIEW_TASK, queue=FRONT)
async def make_view(digest: str) -> None:
    await asyncio.to_thread(make_full_view, digest)
