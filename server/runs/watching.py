"""What the worker looks after besides sheets: each is called again and again, in a thread of its own, and must come back soon."""

from __future__ import annotations

from collections.abc import Callable

WATCHERS: list[Callable[[], None]] = []
EVERY_S = 2.0
