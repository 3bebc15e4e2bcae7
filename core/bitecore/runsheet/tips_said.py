"""What supports keep off, and what is said of their tips."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..anatomy.teeth.numbers import numbers_of_faces
from ..engine.model import Fix, Flag, Inputs, Place
from ..mesh import Mesh
from ..ops.rigid import rounded
from ..parts.tips import Set
from .part_names import is_die, part_of, teeth_of
from .values import Tip

# A tip so near to a tooth stands on it: the tip's own half, and what a margin is told to.
_ON_TOOTH_MM = 0.4
# Where no teeth are told: what lies so near under the occlusal plane, or above it, counts as tooth (common practice, no source: crowns
# are 7 to 11 mm tall).
_CROWN_MM = 8.0


@dataclass(frozen=True)
class KeptFree:
    """On the plate. points : (k, 3) of teeth, letters, edges of dies; teeth : (t, 3) those of teeth; number : (t,) which, -1 not told"""

    points: NDArray[np.float64]
    teeth: NDArray[np.float64]
    number: NDArray[np.int16]

    def tooth_at(self, tips: NDArray[np.float64]) -> NDArray[np.int16]:
        """(k,) the number of the tooth each stands on, 0: none."""
        if not len(self.teeth) or not len(tips):
            return np.zeros(len(tips), np.int16)
        away, at = cKDTree(self.teeth).query(tips)
        return np.where(away < _ON_TOOTH_MM, self.number[at], 0).astype(np.int16)


def kept_free(inputs: Inputs, matrix: NDArray) -> KeptFree:
    """Of a body that stands by matrix on the plate: its teeth, its letters, and a die's edge."""
    part = part_of(inputs.piece)
    points, number = _teeth(inputs)
    more: list[NDArray[np.float64]] = []
    if is_die(part):
        # Its own underside, with the number, is what it stands on.
        more += [np.array(die["rim"], float) for die in inputs["dies"] or () if die["part"] == part]
    elif (letters := inputs["letters"]) is not None:
        more += [letters.vertices_mm, letters.vertices_mm[letters.faces].mean(1)]

    def placed(home: NDArray) -> NDArray[np.float64]:
        return home @ matrix[:3, :3].T + matrix[:3, 3]

    teeth = placed(points)
    return KeptFree(np.vstack([teeth, *(placed(m.reshape(-1, 3)) for m in more)]), teeth, number)


def _teeth(inputs: Inputs) -> tuple[NDArray[np.float64], NDArray[np.int16]]:
    """Places on the teeth that this body carries, in its home, and their numbers."""
    mesh: Mesh | None = inputs["teeth"]
    if mesh is None or mesh.channel is None:
        body, stand = inputs["body"], inputs["stand"]
        height = (body.vertices_mm - stand["origin"]) @ np.array(stand["up"])
        high = body.vertices_mm[height > -_CROWN_MM]
        return high, np.full(len(high), -1, np.int16)
    of_face, own = numbers_of_faces(mesh), teeth_of(inputs.piece)
    away = [tooth for die in inputs["dies"] or () for tooth in teeth_of(f"{inputs.piece}.{die['part']}")]
    here = np.isin(of_face, own) if own else (of_face != 0) & ~np.isin(of_face, away)
    of_vertex = np.zeros(len(mesh.vertices_mm), np.int16)
    of_vertex[mesh.faces[here]] = of_face[here, None]
    return mesh.vertices_mm[of_vertex != 0], of_vertex[of_vertex != 0]


class Says:
    """Of the tips of a body. back : (4, 4) plate to home; stands, tooth : of each tip"""

    def __init__(self, piece: str, back: NDArray, chosen: Set, stands: NDArray[np.bool_], tooth: NDArray[np.int16]) -> None:
        self.piece, self.chosen, self.stands, self.tooth = piece, chosen, stands, tooth
        self.home = chosen.tips @ back[:3, :3].T + back[:3, 3]

    def tips(self) -> list[Tip]:
        rows = zip(rounded(self.home), self.chosen.by, self.tooth.tolist(), self.stands.tolist(), strict=True)
        return [{"at_mm": at, "by": by, "tooth": tooth, "stands": stands} for at, by, tooth, stands in rows]

    def _at(self, tip: int) -> Place:
        x, y, z = self.home[tip].tolist()
        return Place(self.piece, (x, y, z), 2.0)

    def _without(self, who: str) -> Fix:
        """That entry says nothing any more."""
        return Fix("supports", self.piece, {"at": None, "instead": None}, at="tips", id=who)

    def by_hand(self) -> list[Flag]:
        """Tips that a person put where they do harm, or that have no place any more."""
        flags = []
        for who, why in self.chosen.lost.items():
            flags.append(Flag("tip-lost", "look", f"A tip set by hand has no place now: {why}. Fix drops it.", fix=self._without(who)))
        for tip, tooth in enumerate(self.tooth.tolist()):
            who = self.chosen.by[tip]
            if who and tooth and self.stands[tip]:
                what = f"tooth {tooth}" if tooth > 0 else "a tooth"
                text = f"A tip set by hand stands on {what} and leaves its mark there. Fix takes it away."
                flags.append(Flag("tip-on-tooth", "look", text, self._at(tip), self._without(who)))
        return flags

    def cannot(self, barred: int) -> list[Flag]:
        """barred : places that could be held only where no tip stands"""
        blocked = np.nonzero(~self.stands)[0]
        said = []
        if len(blocked):
            said.append(f"{len(blocked)} tip{'s have' if len(blocked) > 1 else ' has'} no way down to the plate")
        if barred:
            said.append(f"{barred} place{'s' * (barred > 1)} could be held on teeth only")
        if not said:
            return []
        text = f"{' and '.join(said)}: lay the body another way.".capitalize()
        return [Flag("not-held", "look", text, self._at(blocked[0]) if len(blocked) else None)]
