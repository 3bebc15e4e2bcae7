"""Server-sent events over LISTEN/NOTIFY: one listening connection for the whole web process."""

from __future__ import annotations

import asyncio
import contextlib
import json
from collections.abc import AsyncIterator

import psycopg
from asgiref.sync import sync_to_async
from django.contrib.auth import SESSION_KEY, get_user_model
from django.contrib.sessions.backends.db import SessionStore
from django.db import DatabaseError, connection, connections
from django.http import HttpRequest, HttpResponse, JsonResponse, StreamingHttpResponse

from ground.errors import shape

from .services import CHANNEL, name_of

_PING_S = 12.0


class Hub:
    """Hands every notification to every open stream. After a lost connection it says 'again' so that all look anew."""

    # Each with the name of the session that hears it.
    streams: dict[asyncio.Queue[str | None], str] = {}
    listener: asyncio.Task | None = None
    loop: asyncio.AbstractEventLoop | None = None

    @classmethod
    def join(cls, session: str) -> asyncio.Queue[str | None]:
        loop = asyncio.get_running_loop()
        if cls.loop is not loop or cls.listener is None or cls.listener.done():
            cls.loop, cls.streams = loop, {}
            cls.listener = asyncio.create_task(cls._listen())
        stream: asyncio.Queue[str | None] = asyncio.Queue(maxsize=500)
        cls.streams[stream] = session
        return stream

    @classmethod
    def leave(cls, stream: asyncio.Queue[str | None]) -> None:
        cls.streams.pop(stream, None)

    @classmethod
    def _give(cls, text: str) -> None:
        ended = json.loads(text) if '"end"' in text else {}
        if ended.get("kind") == "end":
            for stream in [s for s, session in cls.streams.items() if session == ended["session"]]:
                # Whatever was still to be heard by it is not.
                cls.streams.pop(stream)
                while not stream.empty():
                    stream.get_nowait()
                stream.put_nowait(None)
            return
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


def _signed_in(request: HttpRequest) -> bool:
    return request.user.is_authenticated


def _still_there(session: str) -> bool:
    try:
        who = SessionStore(session).get(SESSION_KEY)
        return who is not None and get_user_model().objects.filter(pk=who, is_active=True).exists()
    except DatabaseError:
        return True  # while the database is away nothing is to be heard anyway
    finally:
        connections.close_all()


async def events(request: HttpRequest) -> HttpResponse | StreamingHttpResponse:
    """One stream for a whole browser: every case's progress and changes, and a ping when nothing happens."""
    if not await sync_to_async(_signed_in)(request):
        return JsonResponse(shape("sign-in", "Sign in first."), status=401)
    await sync_to_async(connections.close_all)()

    session = request.session.session_key or ""

    async def stream() -> AsyncIterator[str]:
        mine = Hub.join(name_of(session))
        try:
            yield 'retry: 1500\n\ndata: {"kind": "again"}\n\n'
            while True:
                try:
                    said = await asyncio.wait_for(mine.get(), _PING_S)
                except TimeoutError:
                    # A session that ran out, or whose account was closed, hears no more either.
                    if not await sync_to_async(_still_there)(session):
                        return
                    yield ": still here\n\n"
                    continue
                if said is None:
                    return
                yield f"data: {said}\n\n"
        finally:
            Hub.leave(mine)

    headers = {"Cache-Control": "no-cache", "X-Accel-Buffering": "no"}
    return StreamingHttpResponse(stream(), content_type="text/event-stream", headers=headers)
