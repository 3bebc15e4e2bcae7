"""How far the upper's teeth stand outside the lower's in a bite: in nearly every mouth they do, on both sides and in front
(common practice, no source)."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from .jaw import Jaw
from .occlusal import frame_basis

# Crowns are looked at in sectors about the middle of the arch, each by the outermost of them.
_CROWN_MM, _SECTOR_DEG, _WIDEST_DEG, _OUTERMOST, _LEAST_POINTS = 4.0, 4.0, 120.0, 0.97, 15
_BACK_DEG, _FRONT_DEG, _LEAST_SECTORS = (30.0, 110.0), 26.0, 3
# In 28 generated mouths by two sets of rules: 1.2 to 5.3 mm at the sides, 0.9 to 6.8 mm in front. So far the other way round on
# both sides and in front would be a mouth whose every tooth bites reversed.
_INSIDE_MM, _FRONT_INSIDE_MM = 0.8, 0.3


def overhang(upper: Jaw, lower: Jaw, lower_to_upper: NDArray) -> dict[str, float]:
    """{left, right, front: mm by which the upper's crowns stand outside the lower's}, of where both have some."""
    basis = frame_basis(-upper.up, upper.front)
    moved = replace(
        lower,
        mesh=lower.mesh.moved(lower_to_upper),
        up=lower_to_upper[:3, :3] @ lower.up,
        incisal=lower_to_upper[:3, :3] @ lower.incisal + lower_to_upper[:3, 3],
    )
    plans = [(_crowns(jaw) - upper.incisal) @ basis[:2].T for jaw in (upper, moved)]
    x, y = plans[0].T
    middle = np.array([(x.min() + x.max()) / 2, y.min() + 0.6 * np.ptp(y)])
    off = np.subtract(*(_radii(plan - middle) for plan in plans))
    at = (np.arange(len(off)) + 0.5) * _SECTOR_DEG - _WIDEST_DEG
    low, high = _BACK_DEG
    parts = {"left": (at > low) & (at < high), "right": (at < -low) & (at > -high), "front": np.abs(at) < _FRONT_DEG}
    return {k: float(np.nanmedian(off[p])) for k, p in parts.items() if np.isfinite(off[p]).sum() >= _LEAST_SECTORS}


def inside(outside_mm: dict[str, float]) -> bool:
    """Does the one that is called the upper stand inside all round? Then it is more likely the lower."""
    if not {"left", "right"} <= set(outside_mm):
        return False
    sides = max(outside_mm["left"], outside_mm["right"])
    return sides < -_INSIDE_MM and outside_mm.get("front", -np.inf) < -_FRONT_INSIDE_MM


def _crowns(jaw: Jaw) -> NDArray[np.float64]:
    points = jaw.crowns()
    height = points @ jaw.up
    return points[height > np.quantile(height, 0.99) - _CROWN_MM]


def _radii(plan: NDArray) -> NDArray[np.float64]:
    """(k,) how far out the crowns reach in each sector from the right to the left; NaN where there are none."""
    radius = np.linalg.norm(plan, axis=1)
    sector = ((np.degrees(np.arctan2(plan[:, 0], -plan[:, 1])) + _WIDEST_DEG) // _SECTOR_DEG).astype(np.int64)
    out = np.full(int(2 * _WIDEST_DEG / _SECTOR_DEG), np.nan)
    for k in range(len(out)):
        own = radius[sector == k]
        if len(own) >= _LEAST_POINTS:
            out[k] = np.quantile(own, _OUTERMOST)
    return out
