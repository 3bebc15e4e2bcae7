"""The cookie of a session goes with signing out and with nothing else."""

from __future__ import annotations

from django.conf import settings
from django.contrib.sessions.middleware import SessionMiddleware
from django.http import HttpRequest, HttpResponse


class KeptCookie(SessionMiddleware):
    """Django takes the cookie away with every answer to a session that has ended. Such an answer can come after somebody has signed in
    again, and would take the cookie of the new session: they would be asked once more in the middle of what goes on. A cookie that
    names nothing does no harm."""

    def process_response(self, request: HttpRequest, response: HttpResponse) -> HttpResponse:
        response = super().process_response(request, response)
        cookie = response.cookies.get(settings.SESSION_COOKIE_NAME)
        if cookie is not None and not cookie.value and not getattr(request, "signed_out", False):
            del response.cookies[settings.SESSION_COOKIE_NAME]
        return response
