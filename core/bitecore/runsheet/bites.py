"""More than one bite of a pair: each with a name, measured by scans of its own or set by hand from the first; one is chosen for the
models, the others are looked at beside it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Annotated

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from ..anatomy.closing import bench_axes, by_hand, raised
from ..anatomy.jaw import Jaw
from ..anatomy.relation import Relation, relation
from ..engine.entries import Entry
from ..ops.rigid import rows

_Shift = Annotated[float, Field(ge=-30, le=30)]


class SetBite(Entry):
    """One more bite.

    name      : what it is called; empty: by its number
    left_mm … : how the lower is moved from where its scans put it or, without any, from where it stands in the first bite
    raised_mm : opened so far at the incisors, about the average hinge axis
    scans     : the bite scans that measured it
    """

    name: str = Field("", max_length=40)
    left_mm: _Shift = 0.0
    back_mm: _Shift = 0.0
    up_mm: _Shift = 0.0
    tilt_deg: _Shift = 0.0
    roll_deg: _Shift = 0.0
    turn_deg: _Shift = 0.0
    raised_mm: float = Field(0.0, ge=0, le=20)
    scans: tuple[Annotated[str, Field(max_length=20)], ...] = Field((), max_length=8)


@dataclass(frozen=True)
class Stands:
    """Where the lower stands in one bite.

    ident          : of its entry; empty: the first
    how            : bite scans or by hand; of the first also how it is found otherwise
    lower_to_upper : (4, 4), None with why
    """

    ident: str
    name: str
    how: str
    lower_to_upper: NDArray | None
    why: str = ""


def more_bites(
    upper: Jaw, lower: Jaw, first: NDArray | None, entries: Mapping[str, SetBite], fits: Mapping[str, dict]
) -> list[Stands]:  # fmt: skip
    """Of every bite but the first, the older before the newer. fits : {id: what its scans say}; first : (4, 4) of the first bite,
    None where it is missing"""
    out = []
    for number, (ident, entry) in enumerate(sorted(entries.items(), key=lambda item: (len(item[0]), item[0])), 2):
        fit = fits.get(ident)
        name, how = entry.name or f"Bite {number}", "bite scans" if fit else "by hand"
        start = np.array(fit["lower_to_upper"]) if fit and fit["lower_to_upper"] else None if fit else first
        if start is None:
            why = f"its bite scan was refused, because {fit['why']}" if fit else "the first bite, from which it starts, is missing"
            out.append(Stands(ident, name, how, None, why))
            continue
        out.append(Stands(ident, name, how, handed(upper, lower, start, entry)))
    return out


def handed(upper: Jaw, lower: Jaw, start: NDArray, entry: SetBite) -> NDArray[np.float64]:
    """(4, 4) lower to upper, moved from its start about the lower's incisal point as the entry says; then raised."""
    axes, matrix = bench_axes(upper, upper=True), start
    shift, turns = np.array([entry.left_mm, entry.back_mm, entry.up_mm]), (entry.tilt_deg, entry.roll_deg, entry.turn_deg)
    if shift.any() or any(turns):
        hand = by_hand(axes, _incisal(lower, matrix), shift_mm=shift, tilt_deg=turns[0], roll_deg=turns[1], turn_deg=turns[2])
        matrix = hand @ matrix
    return raised(axes, _incisal(lower, matrix), by_mm=entry.raised_mm)[0] @ matrix if entry.raised_mm else matrix


def _incisal(lower: Jaw, matrix: NDArray) -> NDArray:
    return matrix[:3, :3] @ lower.incisal + matrix[:3, 3]


def told(upper: Jaw, lower: Jaw, bites: list[Stands], known: Mapping[str, Relation]) -> list[dict]:
    """As NamedBite: how the jaws meet in each, and where the lower’s incisal point stands then. known : by id, what was measured
    already"""
    axes = bench_axes(upper, upper=True)
    first = bites[0].lower_to_upper
    out = []
    for one in bites:
        row: dict = {
            "id": one.ident, "name": one.name, "how": one.how, "why": one.why, "lower_to_upper": None, "overlap_mm": None, "gap_mm": None,
            "incisal_mm": None,
        }  # fmt: skip
        if one.lower_to_upper is not None:
            meet = known.get(one.ident) or relation(
                upper.mesh, lower.mesh, lower_to_upper=one.lower_to_upper, lower_up=lower.up, upper_up=upper.up
            )
            row["lower_to_upper"] = rows(one.lower_to_upper)
            row["overlap_mm"], row["gap_mm"] = round(meet.overlap_mm, 4), round(meet.gap_mm, 4)
            if first is not None:
                left, back, up = axes @ (_incisal(lower, one.lower_to_upper) - _incisal(lower, first))
                row["incisal_mm"] = (round(float(left), 4), round(float(back), 4), round(float(up), 4))
        out.append(row)
    return out
