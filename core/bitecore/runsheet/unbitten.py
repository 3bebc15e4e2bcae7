"""What the steps after Bite say while a pair has no bite: none of them calls itself done."""

from __future__ import annotations

from ..engine.model import Flag


def left_open(alone: bool) -> tuple[Flag, ...]:
    """alone : the other jaw is there, and no bite yet (see values.Stand)."""
    if not alone:
        return ()
    text = "The bite is open, so each jaw goes by a level of its own: as single models these are good, as a pair not yet."
    return (Flag("bite-left-open", "look", text),)
