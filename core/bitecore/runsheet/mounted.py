"""Mounting plates as the run sheet has them: which block fits, what is made, and what is said of it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..engine.gives import ByPiece, Reserve, Solid, Solids
from ..engine.model import Fix, Flag, Inputs, Reading, StepResult
from ..mesh import Mesh
from ..ops.fonts import unknown
from ..ops.written import text
from ..parts.mounting import Underside, fitting, foot_of, groove, keys, plate, tallest, written
from ..progress import Run
from .pinned import Bench, none_held

# Over a plate there is so much base at least under the border; so near a distance is the block's.
_OVER_PLATE_MM, _SAME_MM = 0.5, 0.02
# The cavity keeps off a groove by so much.
_ROUND_MM = 2.0


@dataclass(frozen=True)
class Blocks:
    """What a person asked of mounting plates. heights_mm : the house's blocks; block_mm : the one of them, None: the lowest that fits"""

    heights_mm: tuple[float, ...]
    block_mm: float | None
    plate_mm: float
    key_mm: float


def blocks_in(words: str) -> tuple[float, ...]:
    """Heights written one after the other. Raises ValueError with a sentence."""
    try:
        found = tuple(sorted({float(w.replace(",", ".")) for w in words.replace(";", " ").split()}))
    except ValueError as error:
        raise ValueError("heights in mm, one after the other, like 30 35 40") from error
    if not found or not all(10 <= h <= 120 for h in found) or len(found) > 30:
        raise ValueError("from one to 30 heights between 10 and 120 mm")
    return found


def mounted(inputs: Inputs, asked: Blocks, run: Run) -> StepResult:
    bench = Bench.of(inputs, "lower")
    bodies = {jaw: bench.there(jaw, inputs["body"][bench.piece[jaw]]) for jaw in ("lower", "upper")}
    feet = {jaw: foot_of(body, 1.0 if jaw == "lower" else -1.0) for jaw, body in bodies.items()}
    apart = feet["upper"].face - feet["lower"].face
    own = asked.plate_mm + _OVER_PLATE_MM
    # Of a model that came with a base nothing is known but its height.
    under = {jaw: float((inputs["walls"].get(bench.piece[jaw]) or {"under_mm": own})["under_mm"]) for jaw in bodies}
    needed = apart - sum(under.values()) + 2 * own
    block = asked.block_mm if asked.block_mm is not None else fitting(needed, list(asked.heights_mm))
    readings = (Reading("outer faces apart, closed", apart, "mm"), Reading("a block needs, at least", needed, "mm"))
    wrong = _wrong(asked, block, needed, apart)
    if wrong is not None:
        return StepResult({**none_held(), "solids": ByPiece()}, readings, (wrong,), "no plates")
    run.tick(0.4, "plates")
    number = "".join(c for c in str(inputs["number"] or "") if c not in unknown(str(inputs["number"] or "")))
    words = (number or "–", f"{block:g} mm")
    solids, reserves, bearing = ByPiece(), ByPiece(), list[dict[str, Any]]()
    flags = []
    for jaw, foot in feet.items():
        solids[bench.piece[jaw]], fits = _solids(foot, bench, jaw, asked, words)
        # Open underneath, a groove leads out of the cavity and is welcome.
        closed = inputs.of("inside", bench.piece[jaw]) == "closed"
        reserves[bench.piece[jaw]] = _reserves(foot, bench, jaw, asked) if closed else []
        outline = [bench.home_point(jaw, [*at, foot.face]) for at in foot.outline]
        bearing.append({"piece": bench.piece[jaw], "outline": outline})
        if not fits:
            text_ = f"The back edge of the {jaw}'s plate has no room for “{words[0]}” and “{words[1]}”."
            flags.append(Flag("no-number", "note", text_))
    flags.append(Flag("mounted", "note", f"Both stand on plates for a block of {block:g} mm and go on in one way only."))
    return StepResult({**none_held(), "solids": solids, "reserves": reserves, "bearing": bearing}, readings, tuple(flags), f"{block:g} mm")


def _wrong(asked: Blocks, block: float | None, needed: float, apart: float) -> Flag | None:
    if block is None:
        text_ = f"No block of the house is high enough: the models need {needed:.1f} mm, the highest is {max(asked.heights_mm):g} mm."
        return Flag("no-block", "look", text_, unmet=True)
    if block < needed - 1e-6:
        best = fitting(needed, list(asked.heights_mm))
        text_ = f"A block of {block:g} mm is too low: the models need {needed:.1f} mm."
        fix = None if best is None else Fix("articulate", "*", {"block_mm": best}, label=f"One of {best:g} mm")
        return Flag("low-block", "look", text_, fix=fix, unmet=True)
    if abs(apart - block) > _SAME_MM:
        text_ = f"The outer faces are {apart:.1f} mm apart; a block of {block:g} mm fits. Fix carries both bases to it."
        return Flag(
            "other-block",
            "look",
            text_,
            fix=Fix("base", "*", {"height": "gap", "gap_mm": block}, label=f"Carry to {block:g} mm"),
            unmet=True,
        )
    return None


def _solids(foot: Underside, bench: Bench, jaw: str, asked: Blocks, words: tuple[str, str]) -> tuple[Solids, bool]:
    def home(mesh: Mesh) -> Mesh:
        return bench.home(jaw, mesh)

    solids = Solids([Solid("add", home(plate(foot, asked.plate_mm)), "the mounting plate")])
    solids += [Solid("cut", home(groove(key, foot)), f"groove {n}") for n, key in enumerate(keys(foot, asked.key_mm), 1)]
    tall = tallest(foot, asked.plate_mm)
    letters = written(foot, (text([words[0]], tall_mm=tall), text([words[1]], tall_mm=tall)), asked.plate_mm, asked.key_mm)
    solids += [Solid("cut", home(each), "the number on the plate") for each in letters]
    return solids, bool(letters)


def _reserves(foot: Underside, bench: Bench, jaw: str, asked: Blocks) -> list[Reserve]:
    out = []
    for n, key in enumerate(keys(foot, asked.key_mm), 1):
        start, end = ([float(x) for x in bench.home_point(jaw, [*at, foot.face])] for at in (key.start, key.end))
        out.append(Reserve(name=f"groove {n}", from_mm=start, to_mm=end, radius_mm=float(np.hypot(1, 1) * asked.key_mm / 2 + _ROUND_MM)))
    return out
