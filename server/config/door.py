"""The outermost door, before Django reads a request: bodies beyond what is accepted are refused without being kept, and what
goes wrong while one is received is said in the one shape."""

from __future__ import annotations

import json
from collections.abc import Awaitable, Callable
from typing import Any, TypeAlias

from asgiref.sync import sync_to_async
from django.db import connections

from ground.errors import lost, said, shape

# Anything but a drop: settings and words.
_PLAIN_BYTES = 8_000_000
# Headers and names of the parts of a drop.
_BESIDE_BYTES = 2_000_000
Scope: TypeAlias = dict[str, Any]
Receive: TypeAlias = Callable[[], Awaitable[dict]]
Send: TypeAlias = Callable[[dict], Awaitable[None]]


class TooLarge(Exception):
    pass


class Door:
    def __init__(self, inside: Callable[[Scope, Receive, Send], Awaitable[None]]) -> None:
        self.inside = inside

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            return await self.inside(scope, receive, send)
        most = await _most(scope["path"])
        came, begun = 0, False

        async def counted() -> dict:
            nonlocal came
            message = await receive()
            came += len(message.get("body", b""))
            if came > most:
                raise TooLarge
            return message

        async def sending(message: dict) -> None:
            nonlocal begun
            begun = True
            await send(message)

        try:
            if _declared(scope) > most:
                raise TooLarge
            await self.inside(scope, counted, sending)
        except TooLarge:
            text = f"This is more than the {most // 1_000_000:,} MB that are accepted at once. Send less."
            await _answer(send, begun, 413, json.dumps(shape("too-large", text)).encode())
        except Exception as error:
            body = await sync_to_async(lost)(error)
            await _answer(send, begun, said(error).status_code, body)
        return None


async def _most(path: str) -> int:
    if not path.endswith("/drop"):
        return _PLAIN_BYTES
    return await sync_to_async(_drop_bytes)() + _BESIDE_BYTES


def _drop_bytes() -> int:
    from house.services import limits

    try:
        return limits().drop_bytes
    except Exception:  # the database is away: the route itself says so
        return _PLAIN_BYTES
    finally:
        connections.close_all()


def _declared(scope: Scope) -> int:
    for name, value in scope["headers"]:
        if name == b"content-length" and value.isdigit():
            return int(value[:15])
    return 0


async def _answer(send: Send, begun: bool, status: int, body: bytes) -> None:
    if begun:
        raise ConnectionError("the answer had begun")
    headers = [(b"content-type", b"application/json"), (b"content-length", str(len(body)).encode()), (b"connection", b"close")]
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": body})
