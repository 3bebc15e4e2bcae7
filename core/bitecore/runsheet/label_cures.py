"""What would give a text that has no room its room: smaller letters, or a second line. Each is tried before it is said."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from typing import Any

from ..engine.model import Fix, Inputs
from .label_says import Asked

_TOKEN = re.compile(r"(?:\{[^}]*\}|[^{} ])+")


def halves(pattern: str, long: Callable[[str], int]) -> tuple[str, str] | None:
    """The pattern in two at a space, so that the longer half is as short as can be; None where there is none. long : of what it says."""
    tokens = _TOKEN.findall(pattern)
    cuts = [(" ".join(tokens[:k]), " ".join(tokens[k:])) for k in range(1, len(tokens))]
    return min(cuts, key=lambda both: max(map(long, both)), default=None)


def cure(asked: Asked, again: Callable[[dict[str, Any]], Asked | None], fits: Callable[[Asked], bool], inputs: Inputs, settings: Any,
         long: Callable[[str], int]) -> Fix | None:  # fmt: skip
    """again : what is asked with these settings changed; fits : whether it has room somewhere on the body"""
    for values, label in _changes(asked, inputs, settings, long):
        changed = again(values)
        if changed and fits(changed):
            return Fix("label", "*", values, label=label)
    return None


def _changes(asked: Asked, inputs: Inputs, settings: Any, long: Callable[[str], int]) -> Iterator[tuple[dict[str, Any], str]]:
    if asked.said.name != "text":
        return
    smaller: dict[str, Any] = {"tall_mm": None} if settings.tall_mm else {}
    if smaller:
        yield smaller, "As tall as fits"
    own = bool(settings.lower) and inputs.jaw == "lower"
    both = None if settings.second or own else halves(settings.pattern, long)
    if both:
        lines = {"pattern": both[0], "second": both[1]}
        yield lines, "On two lines"
        if smaller:
            yield lines | smaller, "On two lines, smaller"
