"""The veil: while it is down, no patient's name leaves the server. Names live in fields of their own (the details in
names.PERSONAL, and what files were called); whatever is made from them is made without them. No text is searched."""

from __future__ import annotations

from django.http import HttpRequest

_KEY = "veil"


def is_down(request: HttpRequest) -> bool:
    return bool(request.session.get(_KEY, False))


def draw(request: HttpRequest, down: bool) -> None:
    """Down or up, for this session alone."""
    request.session[_KEY] = down
