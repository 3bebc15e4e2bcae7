"""How much both jaws would have to be cut off below for a mounting gap, and what that costs: worked out before anybody presses."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..engine.model import Fix
from ..mesh import Mesh, face_areas_mm2, face_normals

# So much gum stays under every margin (judgement: a saw and its easing take no tooth then).
_GUM_MM = 1.0
# The floor of a mouth or a palate looks to the teeth within this cosine; less of it than this is not named.
_LEVEL, _NAMED_MM2 = 0.8, 5.0
# As fine as a saw is set.
_STEP_MM = 0.1


@dataclass(frozen=True)
class Cut:
    """One jaw that may be cut lower.

    heights : (n,) mm of its surface over the occlusal plane, towards the teeth; mesh : that surface, of the same corners
    up      : (3,) to the teeth, in the frame of mesh
    lowest  : the least of what is kept of it
    margin  : the lowest margin of its teeth on the same scale; None where no teeth are told
    closed  : it stands on a base it came with, which the gap itself cuts
    """

    piece: str
    jaw: str
    heights: NDArray[np.float64]
    mesh: Mesh
    up: NDArray[np.float64]
    lowest: float
    margin: float | None
    closed: bool = False

    @property
    def room(self) -> float:
        """mm that can go without coming nearer to a margin than _GUM_MM."""
        return max(self.margin - self.lowest - _GUM_MM, 0.0) if self.margin is not None and not self.closed else 0.0


def cut_both(jaws: Sequence[Cut], more_mm: float, gap_mm: float) -> tuple[str, Fix | None]:
    """(what to say, the one press that does it). more_mm : that the pair is too high with the thinnest bases."""
    if any(j.margin is None for j in jaws):
        return "Trim more off below, or set the plates farther apart: of a jaw no teeth are told, so nothing is proposed.", None
    need = float(np.ceil(more_mm / _STEP_MM - 1e-6)) * _STEP_MM
    off = _shares(jaws, need)
    if off is None:
        most = sum(j.room for j in jaws)
        return f"Cut to {_GUM_MM:.0f} mm under the margins both give {most:.1f} mm: {need - most:.1f} mm too little.", None
    cuts = [(j, mm) for j, mm in zip(jaws, off, strict=True) if mm > 0]
    saws = [Fix("trim", j.piece, {"bottom_saw": True, "bottom_mm": round(-j.lowest - mm, 2)}) for j, mm in cuts]
    each = (
        f"both jaws by {off[0]:.1f} mm"
        if len(cuts) == 2 and abs(off[0] - off[1]) < 1e-9
        else " and ".join(f"the {j.jaw} by {mm:.1f} mm" for j, mm in cuts)
    )
    text = f"Cut {each}: {_cost(cuts)}."
    fix = Fix("base", "*", {"height": "gap", "gap_mm": gap_mm}, label=f"Cut {_short(cuts)}", more=tuple(saws))
    return text, fix


def _shares(jaws: Sequence[Cut], need: float) -> list[float] | None:
    """Alike as far as both have room, the rest of the one that has more; in steps of the saw."""
    rooms = [float(np.floor(j.room / _STEP_MM + 1e-6)) * _STEP_MM for j in jaws]
    if sum(rooms) < need - 1e-6:
        return None
    half = float(np.ceil(need / 2 / _STEP_MM - 1e-6)) * _STEP_MM
    off = [min(half, room) for room in rooms]
    for k, room in enumerate(rooms):
        off[k] += min(max(need - sum(off), 0.0), room - off[k])
    return [round(mm, 6) for mm in off]


def _cost(cuts: Sequence[tuple[Cut, float]]) -> str:
    left = min(j.margin - (j.lowest + mm) for j, mm in cuts if j.margin is not None)
    palate = [(j.jaw, area) for j, mm in cuts if (area := _floor_mm2(j, mm)) > _NAMED_MM2]
    goes = " and ".join(f"{area:.0f} mm² of {_FLOOR[jaw]}" for jaw, area in palate)
    return f"nothing of a tooth goes, {left:.1f} mm of gum are left" + (f"; {goes} go" if goes else "")


_FLOOR = {"upper": "the palate", "lower": "the floor of the mouth"}


def _floor_mm2(cut: Cut, mm: float) -> float:
    """What of the surface that looks to the teeth lies under the cut."""
    level = cut.lowest + mm
    gone = (cut.heights[cut.mesh.faces] < level).all(1) & (face_normals(cut.mesh) @ cut.up > _LEVEL)
    return float(face_areas_mm2(cut.mesh)[gone].sum())


def _short(cuts: Sequence[tuple[Cut, float]]) -> str:
    same = len({round(mm, 6) for _, mm in cuts}) == 1 and len(cuts) == 2
    return f"both by {cuts[0][1]:.1f} mm" if same else ", ".join(f"{j.jaw} {mm:.1f} mm" for j, mm in cuts)
