"""How two jaws of one frame stand to each other as they came, and whether they meet there as the jaws of a mouth do."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ..ops.closest import ClosestPoints
from ..ops.flaws import without_flaws
from ..ops.rigid import unit
from .jaw import Jaw
from .occlusal import frame_basis
from .relation import Relation, relation

# Jaws in occlusion touch, on both sides, and their scans go into each other by no more than a scanner errs; the rest is
# what scans of people and mounted models have besides (common practice, no source). On 60 generated pairs in occlusion,
# scanned with 20 µm of noise: overlap at most 0.15 mm, gap 0, sides within 0.7 mm, midlines within 0.3 mm.
_OVERLAP_MM, _GAP_MM, _SIDE_MM, _MIDLINES_MM = 0.5, 0.5, 1.0, 3.5
# Jaws that are farther apart or deeper in each other stand in no relation at all.
_FAR_MM, _THROUGH_MM = 12.0, 2.5
# A side is asked where both jaws have teeth over so many stretches of the arch, each so long; nearer to the middle are
# front teeth, which need not touch.
_STRETCH_MM, _STRETCHES, _BEHIND_MM, _BESIDE_MM = 3.0, 3, 12.0, 8.0
_LEAST_POINTS = 4
_CROWN_MM, _POINTS = 5.0, 6000


@dataclass(frozen=True)
class Facing:
    """How two jaws came.

    meet   : how they stand to each other, spikes and folds left out
    doubt  : why no mouth closes like that, as the end of a sentence; empty where one may
    flawed : there are such
    """

    meet: Relation
    doubt: str = ""
    flawed: bool = False


def as_they_came(upper: Jaw, lower: Jaw) -> Facing | None:
    """None where the two do not face each other as jaws do. Spikes and folds are nobody's teeth and count for nothing."""
    facing, ahead = float(unit(upper.up) @ unit(lower.up)), float(unit(upper.front) @ unit(lower.front))
    if facing > -0.7 or ahead < 0.5:
        return None
    with ThreadPoolExecutor(2) as pool:
        sound = list(pool.map(without_flaws, (upper.mesh, lower.mesh)))
    flawed = sound[0] is not upper.mesh or sound[1] is not lower.mesh
    upper, lower = replace(upper, mesh=sound[0]), replace(lower, mesh=sound[1])
    meet = relation(upper.mesh, lower.mesh, lower_to_upper=np.eye(4), lower_up=lower.up, upper_up=upper.up)
    if meet.gap_mm > _FAR_MM or meet.overlap_mm > _THROUGH_MM:
        return None
    return Facing(meet, _doubt(upper, lower, meet), flawed)


def _doubt(upper: Jaw, lower: Jaw, meet: Relation) -> str:
    if meet.overlap_mm > _OVERLAP_MM:
        return f"they go {meet.overlap_mm:.2f} mm into each other"
    if meet.gap_mm > _GAP_MM:
        return f"nothing touches, the smallest gap is {meet.gap_mm:.2f} mm"
    basis = frame_basis(-upper.up, upper.front)
    for side, gap in _side_gaps(upper, lower, basis).items():
        if gap > _SIDE_MM:
            return f"the {side} side stays {gap:.1f} mm open"
    beside = abs(float(basis[0] @ (upper.incisal - lower.incisal)))
    return f"their midlines lie {beside:.1f} mm apart" if beside > _MIDLINES_MM else ""


def _side_gaps(upper: Jaw, lower: Jaw, basis: NDArray) -> dict[str, float]:
    """{left or right: smallest distance (mm) between the back teeth of that side}, of the sides where both jaws have some."""
    crowns = [_crowns(jaw) for jaw in (upper, lower)]
    signed, hits = ClosestPoints(upper.mesh).signed(crowns[1], within_mm=_FAR_MM)
    off = np.where(hits.face >= 0, np.abs(signed), _FAR_MM)
    at = [(points - upper.incisal) @ basis.T for points in crowns]
    foremost = float(np.quantile(at[0][:, 1], 0.01))
    out = {}
    for side, sign in (("left", 1.0), ("right", -1.0)):
        rows = [_stretches(local - [0.0, foremost, 0.0], sign) for local in at]
        both = np.intersect1d(_filled(rows[0]), _filled(rows[1]))
        if len(both) >= _STRETCHES:
            out[side] = float(off[np.isin(rows[1], both)].min())
    return out


def _crowns(jaw: Jaw) -> NDArray[np.float64]:
    """(k, 3) vertices of the upper part of its crowns, about evenly taken."""
    points = jaw.crowns()
    height = points @ jaw.up
    high = points[height > height.max() - _CROWN_MM]
    return high[:: max(len(high) // _POINTS, 1)]


def _stretches(local: NDArray, sign: float) -> NDArray[np.int64]:
    """(k,) the stretch behind the incisors in which each point of this side stands, -1 elsewhere."""
    there = (local[:, 0] * sign > _BESIDE_MM) & (local[:, 1] > _BEHIND_MM)
    return np.where(there, (local[:, 1] // _STRETCH_MM).astype(np.int64), -1)


def _filled(rows: NDArray) -> NDArray[np.int64]:
    found, count = np.unique(rows[rows >= 0], return_counts=True)
    return found[count >= _LEAST_POINTS]
