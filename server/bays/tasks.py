"""The job that sends a plate."""

from __future__ import annotations

import asyncio

from django.db import close_old_connections
from procrastinate.contrib.django import app

from .sending import deliver
from .services import FRONT, SEND_TASK


@app.task(name=SEND_TASK, queue=FRONT)
async def send_print(pk: int) -> None:
    await asyncio.to_thread(_deliver, pk)


def _deliver(pk: int) -> None:
    try:
        deliver(pk)
    finally:
        close_old_connections()
