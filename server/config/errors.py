"""One shape for every error: {code, message, place?}."""

from __future__ import annotations

import logging

from django.db import OperationalError
from django.http import HttpRequest, HttpResponse, JsonResponse
from ninja import NinjaAPI
from ninja.errors import AuthenticationError, HttpError, ValidationError

from bitecore.errors import BenchError

log = logging.getLogger("bench")
_DOWN = "The database does not answer at the moment. Nothing is lost; try again in a few seconds."
_ACCIDENT = "Something in Bite Bench broke down. It has been logged; what you had saved is kept."


class Refused(BenchError):
    """A request that cannot be done, with the HTTP status that says so."""

    code = "refused"

    def __init__(self, message: str, *, code: str = "refused", status: int = 400, more: dict | None = None) -> None:
        super().__init__(message, code=code)
        self.status = status
        self.more = more or {}


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
        return api.create_response(request, shape("http", error.message or "Not allowed."), status=error.status_code)

    @api.exception_handler(Exception)
    def _accident(request: HttpRequest, error: Exception) -> HttpResponse:
        return _said(error)


def _said(error: Exception) -> JsonResponse:
    if isinstance(error, OperationalError) or "pool" in type(error).__name__.lower():
        log.warning("database down: %s", error)
        return JsonResponse(shape("database-down", _DOWN), status=503)
    log.exception("accident", exc_info=error)
    return JsonResponse(shape("accident", _ACCIDENT), status=500)


class AccidentMiddleware:
    """What goes wrong outside the API's own routes is said in the same shape."""

    sync_capable = True
    async_capable = False

    def __init__(self, get_response) -> None:  # noqa: ANN001
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        return self.get_response(request)

    def process_exception(self, request: HttpRequest, error: Exception) -> HttpResponse:
        return _said(error)
