"""What a choice on one scan would make of the others: said before it is done."""

from __future__ import annotations

from typing import Any

from bitecore.runsheet import CaseDocument
from bitecore.runsheet.steps.intake import KIND_WORDS, WORKED
from bitecore.runsheet.who import CaseGraph, about_of, foreseen
from ground.errors import Refused

_JAWS = ("upper", "lower")


def ask_first(document: CaseDocument, graph: CaseGraph, piece: str, values: dict[str, Any]) -> None:
    """Raises Refused with what would become of other scans where these settings of Intake say that a scan is something else.
    document : as it is now; graph : its look."""
    about = about_of(graph, piece)
    kind, jaw = (values.get(key, "auto") for key in ("kind", "jaw"))
    if not about or not isinstance(kind, str) or not isinstance(jaw, str) or (kind == "auto" and jaw == "auto"):
        return
    said = {**about, "kind": about["kind"] if kind == "auto" else kind, "jaw_by_hand": jaw in _JAWS, "confidence": 1.0}
    looks = jaw if jaw in _JAWS else about["looks"]
    said |= {"looks": looks, "jaw": looks or "upper" if said["kind"] in WORKED else None}
    changes = foreseen(document, graph, piece, said)
    if changes:
        text = " ".join(_words(now, then) for now, then in changes.values())
        raise Refused(f"This changes what other scans are. {text}", code="changes-others", status=409)


def _words(now: str, then: str) -> str:
    what = f"The scan that is the {now} jaw" if now in _JAWS else f"A scan that is {_kind(now)}"
    if then in _JAWS:
        return f"{what} becomes the {then} jaw: its model is made anew, as that."
    return f"{what} becomes {_kind(then)}{': no model is made of it any more' if now in _JAWS else ''}."


def _kind(kind: str) -> str:
    if kind == "further":
        return "one more scan of its jaw"
    words = KIND_WORDS.get(kind, kind)
    return f"{'an' if words[0] in 'aeiou' else 'a'} {words}"
