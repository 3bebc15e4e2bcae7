"""Tips a person adds, moves or takes away, beside those a body gets by itself."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..mesh import Mesh, face_normals
from ..ops.closest import ClosestPoints

# A tip by itself that is nearer than this to what is said of it is meant; where bodies change a little, tips move a little.
_MEANT_MM = 1.5
# One that is added stands for those by themselves that are nearer.
_BESIDE_MM = 0.8
# In a row they stand so far apart; the surface may leave the straight line by so much.
_ROW_MM, _BENT_MM = 3.0, 4.0
# So far the surface may have gone from under a tip; what faces down less than so much has nothing to stand on.
_STILL_MM, _DOWN = 1.0, -0.05


@dataclass(frozen=True)
class Said:
    """at : (3,) where a tip touches, None: none stands there; to : (3,) the other end of a row;
    instead : (3,) of the one by itself that it moves or takes away"""

    at: NDArray[np.float64] | None
    instead: NDArray[np.float64] | None = None
    to: NDArray[np.float64] | None = None


@dataclass(frozen=True)
class Set:
    """tips : (k, 3); by : of each who put it there, empty: by itself; lost : {who: why it has no place any more}"""

    tips: NDArray[np.float64]
    by: list[str]
    lost: dict[str, str]


def set_by_hand(body: Mesh, tips: NDArray[np.float64], said: Mapping[str, Said]) -> Set:
    """body : on the plate; tips : (k, 3) mm by themselves; said : in the same place, by who said so"""
    own = np.ones(len(tips), bool)
    for one in said.values():
        if one.instead is not None and own.any():
            away = np.where(own, np.linalg.norm(tips - one.instead, axis=1), np.inf)
            own[away.argmin()] = away.min() > _MEANT_MM
    places, by, lost = np.zeros((0, 3)), list[str](), dict[str, str]()
    put = {who: one for who, one in said.items() if one.at is not None}
    down = face_normals(body)[:, 2] < _DOWN if put else np.zeros(0, bool)
    under = ClosestPoints(body.of_faces(down)) if down.any() else None
    for who, one in put.items():
        assert one.at is not None
        found = one.at[None] if one.to is None or under is None else _row(under, one.at, one.to)
        hits = under.query(found) if under is not None else None
        there = hits.distance_mm < _STILL_MM if hits is not None else np.zeros(len(found), bool)
        if hits is None or not there.any():
            gone = ClosestPoints(body).query(found).distance_mm.min() > _STILL_MM
            lost[who] = "the body is no longer there" if gone else "the surface faces up there"
            continue
        places, by = np.vstack([places, hits.point_mm[there]]), by + [who] * int(there.sum())
    if len(places) and own.any():
        own &= cKDTree(places).query(tips)[0] > _BESIDE_MM
    return Set(np.vstack([tips[own], places]), [""] * int(own.sum()) + by, lost)


def _row(under: ClosestPoints, at: NDArray[np.float64], to: NDArray[np.float64]) -> NDArray[np.float64]:
    """(k, 3) from one end to the other, evenly: what faces down nearest to the straight line."""
    count = max(round(float(np.linalg.norm(to - at)) / _ROW_MM), 1)
    if count == 1:
        return np.array([at, to])
    hits = under.query(at + (to - at) * (np.arange(1, count) / count)[:, None], within_mm=_BENT_MM)
    return np.vstack([at, hits.point_mm[hits.face >= 0], to])
