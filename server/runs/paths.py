"""Reading and writing one place of a document by its path; absent and None are told apart. Needs no Django: children that
read strangers' files use it."""

from __future__ import annotations

import copy
from typing import Any

ABSENT = {"absent": True}


def read(document: dict, path: list[str]) -> Any:
    at: Any = document
    for part in path:
        if not isinstance(at, dict) or part not in at:
            return ABSENT
        at = at[part]
    return at


def write(document: dict, path: list[str], value: Any) -> None:
    at = document
    for part in path[:-1]:
        at = at.setdefault(part, {})
    if value == ABSENT:
        at.pop(path[-1], None)
    else:
        at[path[-1]] = value


def overlap(a: list[str], b: list[str]) -> bool:
    """One path lies within the other."""
    n = min(len(a), len(b))
    return a[:n] == b[:n]


def applied(document: dict, changes: list[dict]) -> dict:
    """The document with these changes, the one given left as it is. One without the place of a change stays without it."""
    out = copy.deepcopy(document)
    for one in changes:
        write(out, one["path"], one["after"])
    return out
