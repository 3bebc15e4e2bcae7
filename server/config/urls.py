"""Addresses: the API, the events, the meshes; everything else is the front end's page."""

from __future__ import annotations

from django.conf import settings
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.urls import path, re_path
from django.views.decorators.csrf import ensure_csrf_cookie

from ground.errors import shape
from runs.events import events
from runs.meshes import mesh, picture

from .api import api


@ensure_csrf_cookie
def page(request: HttpRequest) -> HttpResponse:
    index = settings.WEB_DIST / "index.html"
    if not index.exists():
        return HttpResponse("The front end is not built yet: run ./bench up.", content_type="text/plain", status=503)
    response = HttpResponse(index.read_bytes(), content_type="text/html; charset=utf-8")
    response["Cache-Control"] = "no-cache"
    response["Content-Security-Policy"] = (
        "default-src 'self'; img-src 'self' data: blob:; style-src 'self' 'unsafe-inline'; "
        "script-src 'self' 'wasm-unsafe-eval'; worker-src 'self' blob:; connect-src 'self' blob: data:; "
        "object-src 'none'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
    )
    return response


def nothing(request: HttpRequest, *_: object) -> HttpResponse:
    return JsonResponse(shape("no-such-page", "There is nothing at this address."), status=404)


urlpatterns = [
    path("api/events", events),
    path("api/meshes/<str:digest>/<str:kind>.glb", mesh),
    path("api/pictures/<int:owner>/<str:name>.png", picture),
    path("api/", api.urls),
    re_path(r"^api(/.*)?$", nothing),
    re_path(r"^(?!api/|assets/)[^.]*$", page),
    re_path(r".*", nothing),
]
