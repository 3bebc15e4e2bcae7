"""Talking to a printer (docs/printers.md)."""

from __future__ import annotations

import base64
import http.client
import json
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from django.conf import settings

_SHORT_S, _LONG_S = 2.0, 60.0


class Broken(OSError):
    """It does not answer, or the connection ended in the middle."""


class Declined(ValueError):
    """It answered, and said no."""

    def __init__(self, code: str, message: str) -> None:
        super().__init__(message)
        self.code, self.message = code, message


def addresses() -> dict[str, str]:
    """{id of the printer's record: where it answers}."""
    return settings.BENCH_PRINTERS


def status(bay: str) -> dict[str, Any]:
    return _asked(bay, "GET", "/")


def put(bay: str, name: str, path: Path, sha256: str) -> dict[str, Any]:
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
            return _asked(bay, "PUT", f"/jobs/{name}", body, headers, timeout=_LONG_S)
        except Declined as error:
            # What is there has become longer or shorter meanwhile.
            if error.code == "other-part":
                raise Broken(error.code) from error
            raise


def arrived(bay: str, sha256: str) -> int:
    """How many bytes of a file the printer has from an earlier try."""
    try:
        return int(_asked(bay, "GET", f"/parts/{sha256}").get("bytes", 0))
    except (Declined, ValueError, TypeError):
        return 0


def hold(bay: str, name: str, paused: bool) -> dict[str, Any]:
    return _asked(bay, "POST", f"/jobs/{name}/{'pause' if paused else 'resume'}")


def start(bay: str, name: str) -> dict[str, Any]:
    return _asked(bay, "POST", f"/jobs/{name}/start")


def cancel(bay: str, name: str) -> dict[str, Any]:
    return _asked(bay, "POST", f"/jobs/{name}/cancel")


def bottle(bay: str, ml: float | None = None) -> None:
    """There is a bottle with so much in it; a full one where nothing is said."""
    _asked(bay, "POST", "/bottle", json.dumps({} if ml is None else {"ml": round(ml, 3)}).encode())


def practise(bay: str, kind: str) -> None:
    """A fault of a stand-in, or its mending."""
    if kind == "fill":
        bottle(bay)
    else:
        _asked(bay, "POST", "/fault", json.dumps({"kind": kind, "after_bytes": 5000}).encode())


def _asked(bay: str, method: str, path: str, body: Any = None, headers: dict | None = None, timeout: float = _SHORT_S) -> dict[str, Any]:
    """Raises Broken or Declined."""
    where = urlsplit(addresses()[bay])
    link = http.client.HTTPConnection(where.hostname or "", where.port, timeout=timeout)
    try:
        link.request(method, path, body, headers or {})
        answer = link.getresponse()
        said = json.loads(answer.read())
    except (OSError, http.client.HTTPException, ValueError) as error:
        raise Broken(str(type(error).__name__)) from error
    finally:
        link.close()
    if not isinstance(said, dict):
        raise Broken("no object")
    if answer.status >= 400:
        raise Declined(str(said.get("code", "")), str(said.get("message", "It says no.")))
    return said
