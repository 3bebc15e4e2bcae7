"""What a person says of teeth, as places in space: they hold whatever the shape says, and are told where they cannot."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..swabbed import Stroke, close_along
from .drawn import DrawnLine
from .evidence import Evidence
from .line import STEP_MM, ArchLine
from .numbering import Numbered, at_steps, can_be, numbered
from .prices import Partly, Said
from .sizes import slot_of

# Farther off the crowns than this (mm across the arch) a place says nothing of a tooth.
_BESIDE_MM = 9.0


@dataclass(frozen=True)
class Word:
    """One correction in the frame of the surface.

    id    : what it is called where it cannot be heeded
    kind  : number (that tooth stands there), none (no tooth does), together, apart (of two places)
    at    : (3,) mm; also : (3,) the second place
    fdi   : of number
    """

    id: str
    kind: str
    at: NDArray[np.float64]
    also: NDArray[np.float64] | None = None
    fdi: int = 0


@dataclass(frozen=True)
class Hand:
    """words in the order in which they were said; strokes by id: they mark tooth (adds) or gum, lines are where a margin runs; charted :
    teeth the case is for"""

    words: tuple[Word, ...] = ()
    strokes: tuple[tuple[str, Stroke | DrawnLine], ...] = ()
    charted: tuple[int, ...] = ()


@dataclass
class Heard:
    """read : the numbering that agrees with what was said; none : steps where there is no tooth; unheeded : ids; named : FDI numbers
    that were said"""

    read: Numbered
    none: list[int] = field(default_factory=list)
    unheeded: list[str] = field(default_factory=list)
    named: set[int] = field(default_factory=set)


def heard(found: Evidence, jaw: str, hand: Hand, axes: NDArray, middle: NDArray, *, part: Partly | None = None) -> Heard:
    """Of words that cannot all be true the newest stand. axes, middle : of the plan of the jaw; part : of an arch only a part is there."""
    said: list[tuple[Word, list[int]]] = []
    charted = frozenset(slot_of(fdi)[0] for fdi in hand.charted if fdi < 50)
    out = Heard(Numbered([], 1.0, 0.0))
    for word in hand.words:
        places = [p for p in (word.at, word.also) if p is not None]
        steps = _steps(found, (np.array(places) - middle) @ axes.T)
        if steps is None:
            out.unheeded.append(word.id)
        elif word.kind == "none":
            out.none += steps
        else:
            said.append((word, steps))
    # The newest first: of what cannot be true together the older goes.
    kept: list[tuple[Word, list[int]]] = []
    if said and not can_be(found, jaw, _said(said, charted), part=part):
        for one in reversed(said):
            if can_be(found, jaw, _said([one, *kept], charted), part=part):
                kept.insert(0, one)
            else:
                out.unheeded.append(one[0].id)
        said = kept
    read = numbered(found, jaw, _said(said, charted), part=part)
    assert read is not None
    out.read, out.named = read, {w.fdi for w, _ in said if w.kind == "number"}
    return out


def _steps(found: Evidence, local: NDArray) -> list[int] | None:
    """Where places in the plan lie along the arch; None where one lies off it."""
    along, beside = found.line.told(local[:, :2])
    off = np.abs(beside) > _BESIDE_MM
    return None if off.any() or _beyond(found.line, along).any() else at_steps(found, along.tolist())


def _beyond(line: ArchLine, along: NDArray) -> NDArray[np.bool_]:
    return (along <= STEP_MM) | (along >= line.length - STEP_MM)


def _said(words: list[tuple[Word, list[int]]], charted: frozenset[int]) -> Said:
    numbers: list[tuple[int, int, bool]] = []
    together: list[tuple[int, int]] = []
    apart: list[tuple[int, int]] = []
    for word, steps in words:
        if word.kind == "number":
            numbers.append((steps[0], *slot_of(word.fdi)))
        elif len(steps) == 2:
            (together if word.kind == "together" else apart).append((min(steps), max(steps)))
    return Said(tuple(numbers), tuple(together), tuple(apart), charted)


def covered(points: NDArray, stroke: Stroke) -> tuple[NDArray[np.int64], int]:
    """((k,) vertices under a stroke, the one nearest to where it began; -1 where it touches nothing)."""
    tree = cKDTree(points)
    near = tree.query_ball_point(close_along(stroke.points_mm, stroke.radius_mm / 2), stroke.radius_mm)
    hit = np.unique(np.concatenate([np.asarray(n, np.int64) for n in near])) if len(near) else np.zeros(0, np.int64)
    return hit, int(tree.query(stroke.points_mm[0])[1]) if len(hit) else -1
