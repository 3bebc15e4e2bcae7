"""The veil: while it is down, no patient's name leaves the server in anything but a file's own content."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any

from django.http import HttpRequest

HIDDEN = "▒▒▒"
_KEY = "veil"


def is_down(request: HttpRequest) -> bool:
    return bool(request.session.get(_KEY, False))


def draw(request: HttpRequest, down: bool) -> None:
    """Down or up, for this session alone."""
    request.session[_KEY] = down


def without(value: Any, names: Iterable[str]) -> Any:
    """The same value with every occurrence of the names, and of their single words, gone from its texts."""
    words = sorted({w for name in names for w in [name.strip(), *name.split()] if len(w) >= 3}, key=len, reverse=True)
    if not words:
        return value
    pattern = re.compile("|".join(re.escape(w) for w in words), re.IGNORECASE)

    def clean(part: Any) -> Any:
        if isinstance(part, str):
            return pattern.sub(HIDDEN, part)
        if isinstance(part, dict):
            return {k: clean(v) for k, v in part.items()}
        if isinstance(part, list):
            return [clean(v) for v in part]
        return part

    return clean(value)
