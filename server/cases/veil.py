"""The veil: while it is down, no patient's name leaves the server. Names live in fields of their own (the details in
names.PERSONAL, and what files were called); whatever is made from them is made without them. No text is searched. A label that bears
the name on a model comes with a second one that has dots in its place: that is shown."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from django.http import HttpRequest

_KEY = "veil"


def is_down(request: HttpRequest) -> bool:
    return bool(request.session.get(_KEY, False))


def draw(request: HttpRequest, down: bool) -> None:
    """Down or up, for this session alone."""
    request.session[_KEY] = down


def under_veil(step: str, values: Mapping[str, Any]) -> dict[str, Any]:
    """What a step gives, as it is shown: labels with dots for the patient's name."""
    out = dict(values)
    if step == "assemble" and "veiled" in out:
        out["body"] = out["veiled"]
    if step == "label" and "labels" in out:
        out["labels"] = {"json": [label | {"text": label["veiled"]} for label in out["labels"]["json"]]}
        dots = out.get("dots_cut") or out.get("dots_add")
        out |= {"letters": dots} if dots else {}
        out.pop("solids", None)
    # On the map of the wall the letters would be read.
    if step == "wall-map":
        out.pop("map", None)
    return out
