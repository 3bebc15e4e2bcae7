"""Connections to the database after it was away."""

from __future__ import annotations

import contextlib

from django.db import connection


def begin_anew() -> None:
    """The next request begins with a new pool: the old one would wait, longer each time, before it tries again."""
    with contextlib.suppress(KeyError):  # another thread was first
        connection.close_pool()  # type: ignore[attr-defined]
