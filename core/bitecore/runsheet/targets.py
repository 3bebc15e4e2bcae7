"""Which scan lies on which. The links form a tree: every one ends at a jaw, or nowhere."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from .kinds import FOLLOWERS


@dataclass(frozen=True)
class LiesOn:
    """piece : the scan it lies on, '' where there is none, with why."""

    piece: str
    why: str = ""


def found_target(
    piece: str, jaws: Mapping[str, str], kinds: Mapping[str, str], looks: Mapping[str, str | None], asked: Mapping[str, str]
) -> LiesOn:  # fmt: skip
    """As a person asked, else: a desk scan on the mouth scan with the same scan bodies, all others on their jaw.

    jaws : {piece: upper or lower} of the run sheet; kinds : of the others; looks : the jaw each one shows; asked : {piece:
    the piece it shall lie on, or ''}.
    """
    found = _next(piece, jaws, kinds, looks, asked)
    seen, at = [piece], found.piece
    while at and at not in jaws:
        if at in seen:
            return LiesOn("", "it would lie on itself in the end")
        seen.append(at)
        at = _next(at, jaws, kinds, looks, asked).piece
    return found


def _next(piece: str, jaws: Mapping[str, str], kinds: Mapping[str, str], looks: Mapping, asked: Mapping[str, str]) -> LiesOn:
    want = asked.get(piece, "")
    if want:
        there = want in jaws or kinds.get(want) in FOLLOWERS
        return LiesOn(want) if there else LiesOn("", "the scan it shall lie on is no longer there")
    jaw = looks.get(piece)
    if kinds.get(piece) == "desk":
        mouth = next((p for p, kind in kinds.items() if kind == "bodies" and looks.get(p) == jaw), "")
        if mouth:
            return LiesOn(mouth)
    target = next((p for p, own in jaws.items() if own == jaw), "")
    return (
        LiesOn(target) if target else LiesOn("", f"there is no scan of the {jaw} jaw" if jaw else "it is not known which jaw it belongs to")
    )
