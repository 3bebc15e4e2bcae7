"""The job that works a case out, and the watch over jobs whose worker died."""

from __future__ import annotations

import asyncio
import threading

from procrastinate import JobContext
from procrastinate.contrib.django import app

MOST_ATTEMPTS = 4


@app.task(name="work_case", queue="cases", pass_context=True)
async def work_case(context: JobContext, case_id: int) -> None:
    """Everything of the case that is ready, in a thread of its own; the pool of children belongs to that thread."""
    from .work import work

    stop = threading.Event()
    attempts = context.job.attempts if context.job else 0
    try:
        await asyncio.to_thread(work, case_id, attempts, stop)
    except asyncio.CancelledError:
        stop.set()
        raise
