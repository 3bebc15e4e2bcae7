"""One shape for every error: {code, message, place?}."""

from __future__ import annotations

import json
import logging

from django.core.exceptions import RequestDataTooBig, SuspiciousOperation, TooManyFilesSent
from django.db import DataError, InterfaceError, OperationalError
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse, UnreadablePostError
from django.http.multipartparser import MultiPartParserError
from ninja import NinjaAPI
from ninja.errors import AuthenticationError, HttpError, ValidationError
from psycopg_pool import PoolTimeout

from bitecore.errors import BenchError
from bitecore.text import odd
from bitecore.trouble import where_it_broke

from .disk import FULL, is_full
from .links import begin_anew
from .refusing import Refused as Refused

log = logging.getLogger("bench")
_DOWN = "The database does not answer at the moment. Nothing is lost; try again in a few seconds."
_ACCIDENT = "Something in Bite Bench broke down. It has been logged; what you had saved is kept."
_ODD = "The text holds characters that cannot be kept (a NUL, or half of a pair). Nothing was changed; write it without them."
_WORDS = {
    400: ("bad-request", "This request cannot be read. Load the page again."),
    403: ("csrf", "This page is too old. Load it again."),
    404: ("no-such-page", "There is nothing at this address."),
    405: ("method", "This address does not take this kind of request."),
    413: ("too-large", "This is more than is accepted at once. Send less."),
}


def shape(code: str, message: str, **more: object) -> dict:
    return {"code": code, "message": message, **more}


def install(api: NinjaAPI) -> None:
    """Every exception of a route goes out in the one shape."""

    @api.exception_handler(BenchError)
    def _bench(request: HttpRequest, error: BenchError) -> HttpResponse:
        status = getattr(error, "status", 422)
        place = {"point_mm": error.point_mm, "radius_mm": error.radius_mm} if error.point_mm else None
        body = shape(error.code, error.message, **getattr(error, "more", {}))
        return api.create_response(request, body | ({"place": place} if place else {}), status=status)

    @api.exception_handler(AuthenticationError)
    def _who(request: HttpRequest, error: AuthenticationError) -> HttpResponse:
        return api.create_response(request, shape("sign-in", "Sign in first."), status=401)

    @api.exception_handler(ValidationError)
    def _invalid(request: HttpRequest, error: ValidationError) -> HttpResponse:
        first = error.errors[0] if error.errors else {}
        where = ".".join(str(p) for p in first.get("loc", ())[1:])
        return api.create_response(request, shape("invalid", f"{where}: {first.get('msg', 'not valid')}."), status=422)

    @api.exception_handler(HttpError)
    def _http(request: HttpRequest, error: HttpError) -> HttpResponse:
        code, words = _WORDS.get(error.status_code, ("http", "This cannot be done."))
        return api.create_response(request, shape(code, words), status=error.status_code)

    @api.exception_handler(Exception)
    def _accident(request: HttpRequest, error: Exception) -> HttpResponse:
        return said(error)


def log_accident(error: BaseException) -> None:
    """Where it broke, without a word of what it was about."""
    log.error("accident\n%s", where_it_broke(error))


def said(error: BaseException) -> JsonResponse:
    """The answer for what no route has an answer to."""
    if is_full(error):
        log.error("the disk is full")
        return JsonResponse(shape("disk-full", FULL), status=507)
    if isinstance(error, (OperationalError, InterfaceError, PoolTimeout)):
        log.warning("database down: %s", type(error).__name__)
        begin_anew()
        return JsonResponse(shape("database-down", _DOWN), status=503)
    if isinstance(error, (DataError, UnicodeError)) or (isinstance(error, ValueError) and "NUL" in str(error)):
        return JsonResponse(shape("odd-text", _ODD), status=422)
    if isinstance(error, (RequestDataTooBig, TooManyFilesSent)):
        return JsonResponse(shape(*_WORDS[413]), status=413)
    if isinstance(error, (SuspiciousOperation, MultiPartParserError, UnreadablePostError)):
        return JsonResponse(shape(*_WORDS[400]), status=400)
    if isinstance(error, Http404):
        return JsonResponse(shape(*_WORDS[404]), status=404)
    if isinstance(error, FileNotFoundError):
        # Deleted by a colleague while it was asked for.
        return JsonResponse(shape("file-gone", "A file of this case is not there any more. Load the page again."), status=409)
    log_accident(error)
    return JsonResponse(shape("accident", _ACCIDENT), status=500)


class OneShape:
    """What is refused or goes wrong outside the API's own routes is said in the same shape."""

    sync_capable = True
    async_capable = False

    def __init__(self, get_response) -> None:  # noqa: ANN001
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        if _is_odd(request.path) or _is_odd(request.META.get("QUERY_STRING", "")):
            return JsonResponse(shape("bad-address", "This address holds characters that none can have."), status=400)
        try:
            if b"\\u" in _small_body(request) and odd(_json(request.body)):
                return JsonResponse(shape("odd-text", _ODD), status=422)
        except (SuspiciousOperation, UnreadablePostError) as error:
            return said(error)
        response = self.get_response(request)
        plain = not response.streaming and not response.get("Content-Type", "").startswith("application/json")
        if response.status_code >= 400 and request.path.startswith("/api/") and plain:
            code, words = _WORDS.get(response.status_code, ("refused", "This cannot be done."))
            kept = JsonResponse(shape(code, words), status=response.status_code)
            if "Allow" in response:
                kept["Allow"] = response["Allow"]
            return kept
        return response

    def process_exception(self, request: HttpRequest, error: Exception) -> HttpResponse:
        return said(error)


def _small_body(request: HttpRequest) -> bytes:
    return request.body if request.headers.get("Content-Type", "").startswith("application/json") else b""


def _json(body: bytes) -> object:
    try:
        return json.loads(body)
    except (ValueError, RecursionError):
        return None  # the route says that it cannot be read


def _is_odd(text: str) -> bool:
    return "\0" in text or "%00" in text or any("\ud800" <= letter <= "\udfff" or letter == "\ufffd" for letter in text)


def lost(error: BaseException) -> bytes:
    """The body of an answer where not even a request could be made of what came in."""
    return json.dumps(json.loads(said(error).content)).encode()
