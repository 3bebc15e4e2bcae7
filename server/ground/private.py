"""What the API answers may be about a patient: nobody on the way keeps it."""

from __future__ import annotations

from collections.abc import Callable

from django.http import HttpRequest, HttpResponse


class NotStored:
    def __init__(self, inside: Callable[[HttpRequest], HttpResponse]) -> None:
        self.inside = inside

    def __call__(self, request: HttpRequest) -> HttpResponse:
        response = self.inside(request)
        if request.path.startswith("/api/") and not response.has_header("Cache-Control"):
            response["Cache-Control"] = "no-store"
        return response
