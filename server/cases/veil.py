"""The veil: while it is down, no patient's name leaves the server. Names live in fields of their own (the details in
names.PERSONAL, and what files were called); whatever is made from them is made without them. No text is searched. A label that bears
the name on a model comes with a second one that has dots in its place: that is shown."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from typing import Any

from django.http import HttpRequest

from bitecore.engine.model import Need
from bitecore.runsheet import standard

from .names import PERSONAL

_KEY = "veil"


def is_down(request: HttpRequest) -> bool:
    return bool(request.session.get(_KEY, False))


def draw(request: HttpRequest, down: bool) -> None:
    """Down or up, for this session alone."""
    request.session[_KEY] = down


@cache
def may_show() -> dict[str, frozenset[str]]:
    """{step: outputs that may show what is written on a body}: of every step that works on what Label, or the patient's name itself,
    gave, all but those it declares nameless."""
    known, named = standard(), set[str]()
    while more := {s.name for s in known.steps if s.name not in named and any(_takes(need, named) for need in s.needs.values())}:
        named |= more
    return {name: frozenset(set(known[name].gives) - set(known[name].nameless)) for name in named}


def _takes(need: Need, named: set[str]) -> bool:
    if need.gathered is not None:
        return any(any(g.kind == need.gathered.kind for g in standard()[name].gives.values()) for name in named)
    return not need.setting and (need.step in named or (need.step == "case" and need.value in PERSONAL))


def under_veil(step: str, values: Mapping[str, Any]) -> dict[str, Any]:
    """What a step gives, as it is shown: labels with dots for the patient's name, and nothing that may show it."""
    out = dict(values)
    shown = {name: out.pop(name) for name in may_show().get(step, ()) if name in out}
    if step == "assemble" and "body" in shown:
        out["body"] = out.get("veiled", shown["body"])
    if step == "label" and "labels" in shown:
        out["labels"] = {"json": [label | {"text": label["veiled"]} for label in shown["labels"]["json"]]}
        dots = out.get("dots_cut") or out.get("dots_add")
        letters = dots or shown.get("letters")
        out |= {"letters": letters} if letters else {}
    return out
