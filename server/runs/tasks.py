"""The job that works a case out, and the watch over jobs whose worker died."""

from __future__ import annotations

import asyncio
import logging
import threading

from procrastinate import JobContext
from procrastinate.contrib.django import app

from bitecore.trouble import where_it_broke

from .services import QUEUE, TASK
from .work import work

# Jobs this process has begun, and those it is at. One that is at neither end in the database was ended while the database
# was away: its case would wait for ever.
STARTED: set[int] = set()
RUNNING: set[int] = set()

log = logging.getLogger("bench.work")


@app.task(name=TASK, queue=QUEUE, pass_context=True)
async def work_case(context: JobContext, case_id: int) -> None:
    """Everything of the case that is ready, in a thread of its own; the pool of children belongs to that thread."""
    stop = threading.Event()
    attempts = context.job.attempts if context.job else 0
    job = context.job.id if context.job and context.job.id is not None else 0
    STARTED.add(job)
    RUNNING.add(job)
    try:
        await asyncio.to_thread(work, case_id, attempts, stop)
    except asyncio.CancelledError:
        stop.set()
        raise
    except Exception as error:
        log.error("job of case %s\n%s", case_id, where_it_broke(error))
        raise
    finally:
        RUNNING.discard(job)
