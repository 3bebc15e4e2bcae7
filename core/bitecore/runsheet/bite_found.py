"""What the relation of lower to upper is had from, and what is to be said of it: bite scans, or an earlier pair."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..anatomy.relation import Relation
from ..engine.model import Fix, Flag, Place, Reading
from ..words import to_um

# Two ways to the relation that differ by less than this agree (the worst error a good fit may have).
AGREE_MM = 0.15

# What stays open without a bite; nothing is lost when it comes.
MEANWHILE = "Until it comes each jaw is levelled by itself and contacts stay open; a nudge starts from there."


@dataclass(frozen=True)
class Found:
    """lower_to_upper None: there is none;

    how             : in a word
    flags, readings : what is to be said of it
    meet            : how they stand then, where it is known already
    """

    lower_to_upper: NDArray | None
    how: str
    flags: tuple[Flag, ...] = ()
    readings: tuple[Reading, ...] = ()
    meet: Relation | None = None


def by_scans(fit: dict, scans: list[dict], *, bite: str = "") -> Found:
    """By the scans of one bite. scans : of all bites"""
    own = [s for s in scans if s["bite"] == bite]
    placed = [s for s in own if s["to_upper"]]
    sides = " and ".join(sorted({s["side"] for s in placed if s["side"]}))
    flags = [Flag("fitted", "note", f"Fitted by {_count(len(placed), 'bite scan')} ({sides}): the teeth to {to_um(fit['error_mm'])}.")]
    if len({s["side"] for s in placed}) == 1 and placed[0]["side"] in ("left", "right"):
        text = f"Only the {placed[0]['side']} side was scanned closed: the other side is held less, mostly {fit['loose']}."
        flags.append(Flag("one-side", "look", text))
    flags += odd(fit, scans, bite=bite)
    flags += [_turned(s["piece"]) for s in placed if s["inside_out"]]
    readings = [
        Reading("teeth held to about", 1000 * fit["error_mm"], "µm"),
        Reading("scatter of the fit (RMS)", 1000 * fit["rms_mm"], "µm"),
        Reading("bite scans lying on the jaws", 100 * float(np.mean([sum(s["met"]) for s in placed])), "%"),
    ]
    if fit["disagree_mm"] is not None:
        readings.append(Reading("the two sides differ by", 1000 * fit["disagree_mm"], "µm"))
    return Found(np.array(fit["lower_to_upper"]), "bite scans", tuple(flags), tuple(readings))


def odd(fit: dict, scans: list[dict], *, bite: str = "") -> list[Flag]:
    """Scans of one bite that do not say the same, or were left out."""
    own = [s for s in scans if s["bite"] == bite]
    flags = []
    if fit["lower_to_upper"] and fit["disagree_mm"] is not None and fit["disagree_mm"] > AGREE_MM:
        text = (
            f"The two bite scans disagree by {fit['disagree_mm']:.2f} mm at the teeth. Is one of another bite, Fix makes it one of its own."
        )
        last = [s for s in own if s["to_upper"]][-1]
        flags.append(Flag("sides-disagree", "look", text, fix=of_another([last])))
    for why in dict.fromkeys(s["why"] for s in own if not s["to_upper"]):
        # The two sides of another bite go together.
        out = [s for s in own if not s["to_upper"] and s["why"] == why]
        some, they = ("A bite scan was", "it is") if len(out) == 1 else (f"{len(out)} bite scans were", "they are")
        text = f"{some} left out: {why}. Where {they} of another bite, Fix makes it one of its own."
        flags.append(Flag("bite-left-out", "look", text, _at(out[0]), of_another(out)))
    return flags


def of_another(scans: list[dict]) -> Fix:
    """These scans become those of one more bite."""
    return Fix("bite", "*", {"scans": sorted(s["piece"] for s in scans)}, at="bites")


def _turned(piece: str) -> Flag:
    text = "A bite scan is inside-out: it lies on the jaws turned about, and was taken so. Fix turns the scan itself."
    return Flag("bite-inside-out", "note", text, fix=Fix("intake", piece, {"inside": "turn"}))


def _count(number: int, what: str) -> str:
    return f"{number} {what}{'s' * (number != 1)}"


def by_earlier(lent: dict) -> Found:
    text = f"The relation is that of an earlier pair of scans: the teeth to {to_um(lent['error_mm'])}."
    readings = (
        Reading("teeth held to about", 1000 * lent["error_mm"], "µm"),
        Reading("scatter of the fit (RMS)", 1000 * lent["rms_mm"], "µm"),
    )
    return Found(np.array(lent["lower_to_upper"]), "earlier pair", (Flag("lent", "note", text),), readings)


def missing(want: str, fit: dict | None, scans: list[dict]) -> Flag:
    if fit and fit["why"] and want in ("auto", "bite scans"):
        worst = next((s for s in scans if s["why"]), max(scans, key=lambda s: max(s["rms_mm"]), default=None))
        text = f"The bite is missing: the bite scan was refused, because {fit['why']}. {MEANWHILE} Set marks on it, or scan it again."
        return Flag("fit-refused", "look", text, _at(worst) if worst else None)
    if want not in ("auto", "as they came"):
        return Flag("no-relation", "look", f"There is nothing to take the bite from: no {want.removesuffix('s')} that fits.")
    return Flag("no-relation", "look", f"The scans came in different coordinates, so the bite is missing. {MEANWHILE}")


def _at(scan: dict) -> Place:
    """Where a bite scan lies off most, on the scan itself."""
    x, y, z = scan["at_mm"]
    return Place(scan["piece"], (x, y, z), 4.0)
