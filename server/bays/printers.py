"""Talking to a printer (docs/printers.md). It is a stranger: its answers are read up to a size and for a time, and checked
(heard.py). Nobody waits for one inside a transaction."""

from __future__ import annotations

import base64
import http.client
import json
import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from django.conf import settings
from django.db import connection

from .heard import MOST_BYTES, Job, No, Odd, PartThere, Status, of_form

# For the whole of an answer, however it drips in; for a file, and of what it brings so many bytes a second at least.
_SHORT_S, _LONG_S, _LEAST_BYTES_S = 2.0, 60.0, 100_000


_JSON = {"Content-Type": "application/json"}


class Broken(OSError):
    """It does not answer, or the connection ended in the middle."""


class OddAnswer(Broken):
    """It answers what it should not."""


class Declined(ValueError):
    """It answered, and said no."""

    def __init__(self, code: str, message: str) -> None:
        super().__init__(message)
        self.code, self.message = code, message


def addresses() -> dict[str, str]:
    """{id of the printer's record: where it answers}."""
    return settings.BENCH_PRINTERS


def status(bay: str) -> Status:
    found: Status = _formed(Status, _asked(bay, "GET", "/"))
    return found


def put(bay: str, name: str, path: Path, sha256: str) -> Job:
    """A file with its hash (Repr-Digest, RFC 9530), from where it broke off before (Content-Range, RFC 9110); what the printer says of
    the job."""
    size, begin = path.stat().st_size, arrived(bay, sha256)
    headers = {"Content-Type": "application/zip", "Repr-Digest": f"sha-256=:{base64.b64encode(bytes.fromhex(sha256)).decode()}:"}
    if not 0 < begin < size:
        begin = 0
        # A printer that knows of no parts asks for the hash of what is sent.
        headers["Content-Digest"] = headers["Repr-Digest"]
    else:
        headers["Content-Range"] = f"bytes {begin}-{size - 1}/{size}"
    headers["Content-Length"] = str(size - begin)
    with path.open("rb") as body:
        body.seek(begin)
        try:
            seconds = _LONG_S + (size - begin) / _LEAST_BYTES_S
            return _job(_asked(bay, "PUT", f"/jobs/{name}", body, headers, timeout=seconds))
        except Declined as error:
            # What is there has become longer or shorter meanwhile.
            if error.code == "other-part":
                raise Broken(error.code) from error
            raise


def arrived(bay: str, sha256: str) -> int:
    """How many bytes of a file the printer has from an earlier try."""
    try:
        there: PartThere = _formed(PartThere, _asked(bay, "GET", f"/parts/{sha256}"))
    except (Declined, OddAnswer):
        return 0
    return there.bytes


def _job(said: dict[str, Any]) -> Job:
    job: Job = _formed(Job, said)
    return job


def hold(bay: str, name: str, paused: bool) -> Job:
    return _job(_asked(bay, "POST", f"/jobs/{name}/{'pause' if paused else 'resume'}"))


def start(bay: str, name: str) -> Job:
    return _job(_asked(bay, "POST", f"/jobs/{name}/start"))


def cancel(bay: str, name: str) -> Job:
    return _job(_asked(bay, "POST", f"/jobs/{name}/cancel"))


def bottle(bay: str, ml: float | None = None) -> None:
    """There is a bottle with so much in it; a full one where nothing is said."""
    _asked(bay, "POST", "/bottle", json.dumps({} if ml is None else {"ml": round(ml, 3)}).encode(), _JSON)


def practise(bay: str, kind: str) -> None:
    """A fault of a stand-in, or its mending."""
    if kind == "fill":
        bottle(bay)
    else:
        _asked(bay, "POST", "/fault", json.dumps({"kind": kind, "after_bytes": 5000}).encode(), _JSON)


def _asked(bay: str, method: str, path: str, body: Any = None, headers: dict | None = None, timeout: float = _SHORT_S) -> dict[str, Any]:
    """Raises Broken (OddAnswer among them) or Declined."""
    if not connection.in_atomic_block:
        # Others may have the database meanwhile.
        connection.close()
    where = urlsplit(addresses()[bay])
    link = http.client.HTTPConnection(where.hostname or "", where.port, timeout=min(timeout, _LONG_S))
    try:
        link.connect()
        with _in_time(link.sock, timeout):
            link.request(method, path, body, headers or {})
            answer = link.getresponse()
            data = answer.read(MOST_BYTES + 1)
    except (OSError, http.client.HTTPException, ValueError, AttributeError) as error:
        raise Broken(str(type(error).__name__)) from error
    finally:
        link.close()
    said = _json(data)
    if answer.status >= 400:
        no = _formed(No, said)
        raise Declined(no.code, no.message)
    return said


@contextmanager
def _in_time(sock: socket.socket, seconds: float) -> Iterator[None]:
    """The connection is cut where the whole takes longer: a time-out of the socket begins anew with every byte."""

    def cut() -> None:
        with suppress(OSError):
            sock.shutdown(socket.SHUT_RDWR)

    timer = threading.Timer(seconds, cut)
    timer.daemon = True
    timer.start()
    try:
        yield
    finally:
        timer.cancel()


def _json(data: bytes) -> dict[str, Any]:
    """Raises OddAnswer."""
    if len(data) > MOST_BYTES:
        raise OddAnswer("too long")
    try:
        said = json.loads(data, parse_constant=_no_number)
    except (ValueError, RecursionError) as error:
        raise OddAnswer("no JSON") from error
    if not isinstance(said, dict):
        raise OddAnswer("no object")
    return said


def _no_number(text: str) -> None:
    raise ValueError(text)


def _formed(model: Any, said: Any) -> Any:
    try:
        return of_form(model, said)
    except Odd as error:
        raise OddAnswer(str(error)) from error
