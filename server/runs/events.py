"""Server-sent events over LISTEN/NOTIFY: one listening connection for the whole web process."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator

import psycopg
from asgiref.sync import sync_to_async
from django.db import connection, connections
from django.http import HttpRequest, HttpResponse, JsonResponse, StreamingHttpResponse

from config.errors import shape

from .services import CHANNEL

_PING_S = 12.0


class Hub:
    """Hands every notification to every open stream. After a lost connection it says 'again' so that all look anew."""

    streams: set[asyncio.Queue[str]] = set()
    listener: asyncio.Task | None = None
    loop: asyncio.AbstractEventLoop | None = None

    @classmethod
    def join(cls) -> asyncio.Queue[str]:
        loop = asyncio.get_running_loop()
        if cls.loop is not loop or cls.listener is None or cls.listener.done():
            cls.loop, cls.streams = loop, set()
            cls.listener = asyncio.create_task(cls._listen())
        stream: asyncio.Queue[str] = asyncio.Queue(maxsize=500)
        cls.streams.add(stream)
        return stream

    @classmethod
    def leave(cls, stream: asyncio.Queue[str]) -> None:
        cls.streams.discard(stream)

    @classmethod
    def _give(cls, text: str) -> None:
        for stream in cls.streams:
            with contextlib.suppress(asyncio.QueueFull):
                stream.put_nowait(text)

    @classmethod
    async def _listen(cls) -> None:
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(**_parameters(), autocommit=True) as link:
                    await link.execute(f"LISTEN {CHANNEL}")
                    cls._give('{"kind": "again"}')
                    async for note in link.notifies():
                        cls._give(note.payload)
            except (psycopg.Error, OSError):
                await asyncio.sleep(0.7)


def _parameters() -> dict:
    known = connection.settings_dict
    return {
        "dbname": known["NAME"], "user": known["USER"], "password": known["PASSWORD"],
        "host": known["HOST"], "port": known["PORT"],
    }  # fmt: skip


async def events(request: HttpRequest) -> HttpResponse | StreamingHttpResponse:
    """One stream for a whole browser: every case's progress and changes, and a ping when nothing happens."""
    if not await sync_to_async(lambda: request.user.is_authenticated)():
        return JsonResponse(shape("sign-in", "Sign in first."), status=401)
    await sync_to_async(connections.close_all)()

    async def stream() -> AsyncIterator[str]:
        mine = Hub.join()
        try:
            yield 'retry: 1500\n\ndata: {"kind": "again"}\n\n'
            while True:
                try:
                    yield f"data: {await asyncio.wait_for(mine.get(), _PING_S)}\n\n"
                except TimeoutError:
                    yield ": still here\n\n"
        finally:
            Hub.leave(mine)

    headers = {"Cache-Control": "no-cache", "X-Accel-Buffering": "no"}
    return StreamingHttpResponse(stream(), content_type="text/event-stream", headers=headers)
