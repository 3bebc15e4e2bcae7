"""What a label does before it gives up: two lines, smaller letters, flat gum. In that order; the card says which it took."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import replace

import numpy as np

from .label_says import Asked
from .labels import SMALLEST_MM, Said

_TOKEN = re.compile(r"(?:\{[^}]*\}|[^{} ])+")
_STEP_MM = 0.1


def halves(pattern: str, long: Callable[[str], int]) -> tuple[str, str] | None:
    """The pattern in two at a space, so that the longer half is as short as can be; None where there is none. long : of what it says."""
    tokens = _TOKEN.findall(pattern)
    cuts = [(" ".join(tokens[:k]), " ".join(tokens[k:])) for k in range(1, len(tokens))]
    return min(cuts, key=lambda both: max(map(long, both)), default=None)


def easier(
    asked: Asked, again: Callable[[tuple[str, ...]], Said | None], long: Callable[[str], int], least_mm: float
) -> Iterator[tuple[Asked, str]]:
    """(what is asked instead, in words), what changes least first. again : the same label with other lines"""
    if asked.said.kind != "text" or not asked.said.sizes[0]:
        return
    lines = [(asked.said, "")]
    if len(asked.patterns) == 1 and (both := halves(asked.patterns[0], long)) and (said := again(both)):
        lines.append((said, "on two lines"))
    typed = len(asked.said.sizes[0]) == 1
    for small in (False, True):
        for said, words in lines:
            if not small and not words:
                continue
            sizes = _sizes(asked.said, least_mm, typed) if small else said.sizes
            if sizes[0]:
                yield replace(asked, said=replace(said, sizes=sizes)), ", ".join(w for w in (words, "smaller" if small else "") if w)


def _sizes(said: Said, least_mm: float, typed: bool) -> tuple[tuple[float, ...], tuple[float, ...]]:
    """Under what was tried before, down to the least."""
    top = (said.sizes[0][0] if typed else SMALLEST_MM) - _STEP_MM
    count = int(np.floor((top - least_mm) / _STEP_MM + 1e-6)) + 1
    small = tuple(round(top - _STEP_MM * k, 2) for k in range(max(count, 0)))
    return small, small
