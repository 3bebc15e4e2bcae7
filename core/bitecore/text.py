"""Texts from outside: what may stand in them."""

from __future__ import annotations

import re
from typing import Any

# Control characters, lone halves of a pair, and what turns the writing direction round.
_ODD = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f\ud800-\udfff\u200e\u200f\u202a-\u202e\u2066-\u2069]")
_LINES = re.compile(r"[\t\r\n]+")


def plain(text: str) -> str:
    """One line without characters that are no writing."""
    return _LINES.sub(" ", _ODD.sub("", text))


def odd(value: Any) -> bool:
    """Does any text in a JSON value hold a character that cannot be kept (a NUL, or half of a pair)?"""
    waiting = [value]
    while waiting:
        part = waiting.pop()
        if isinstance(part, str):
            if "\x00" in part or re.search("[\ud800-\udfff]", part):
                return True
        elif isinstance(part, dict):
            waiting += [*part.keys(), *part.values()]
        elif isinstance(part, list):
            waiting += part
    return False
