"""Work on the surroundings of a border alone: what lies high above it is set aside and put back untouched.

In place of each piece set aside stands a tent over its rim, so that what is left has the borders and the pieces of the whole.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh, border_loops
from ..mesh.measures import corners_of
from ..mesh.topology import face_components
from .border import border_points
from .curtain import curtain_over

# What is set aside lies so far above a curtain that falls away from the border more gently than any that is cut along: so much may
# the border rise while it is cut back; a hollow that no border reaches may lie half as high.
_SLOPE, _CLEAR_MM, _HOLLOW_MM, _CELL_MM = 1.0, 3.0, 1.5, 0.6
# A tent's pole, so high that it weighs as a crown does where the largest piece is looked for.
_POLE_MM = 30.0
# With less to set aside nothing is gained.
_LEAST = 0.3


@dataclass(frozen=True)
class Aside:
    """near  : what is worked on (z up): faces of the whole, then tents. Its sources are its own numbers of faces
    whole   : the mesh as it was
    kept    : (m,) the faces of the whole that `near` begins with
    number  : (n,) of each vertex of `near` in the whole, -1 for poles
    """

    near: Mesh
    whole: Mesh
    kept: NDArray[np.int64]
    number: NDArray[np.int64]

    def back(self, worked: Mesh) -> Mesh | None:
        """The whole again from what was made of `near`; None where that came to touch what was set aside."""
        tents = worked.source >= len(self.kept)
        was = np.arange(len(self.kept), self.near.triangles)
        rows = np.flatnonzero(tents)[np.argsort(worked.source[tents], kind="stable")]
        if not np.array_equal(worked.source[rows], was):
            return None
        now, before = worked.faces[rows], self.near.faces[was]
        if not np.array_equal(worked.vertices_mm[now], self.near.vertices_mm[before]):
            return None
        away = np.ones(self.whole.triangles, bool)
        away[self.kept] = False
        if not _clear(self.whole.vertices_mm[corners_of(self.whole, away)], worked):
            return None
        return self._joined(worked, ~tents, now, before, away)

    def _joined(self, worked: Mesh, own: NDArray, now: NDArray, before: NDArray, away: NDArray) -> Mesh:
        """own : (m,) faces that are no tents; now, before : the tents' corners; away : (m,) faces of the whole set aside"""
        far = self.whole.faces[away]
        place = np.full(len(self.whole.vertices_mm), -1, np.int64)
        seam = self.number[before] >= 0
        place[self.number[before][seam]] = now[seam]
        fresh = np.flatnonzero(corners_of(self.whole, away) & (place < 0))
        place[fresh] = len(worked.vertices_mm) + np.arange(len(fresh))
        faces = np.vstack([worked.faces[own], place[far]])
        groups = np.r_[worked.groups[own], self.whole.groups[away]]
        source = np.r_[self.whole.source[self.kept[worked.source[own]]], self.whole.source[away]]
        joined = Mesh.of(np.vstack([worked.vertices_mm, self.whole.vertices_mm[fresh]]), faces, groups, source)
        return joined.of_faces(np.ones(joined.triangles, bool))


def _height_over(points: NDArray, border: NDArray) -> NDArray[np.float64]:
    return points[:, 2] - curtain_over(border, slope=_SLOPE, round_mm=_CELL_MM, cell_mm=_CELL_MM).at(points)


def _clear(points: NDArray, worked: Mesh) -> bool:
    """Does all of it still lie above the gentlest curtain over the border there is now?"""
    border = border_points(worked, step_mm=_CELL_MM)
    return len(border) > 0 and bool((_height_over(points, border) > 0).all())


def set_aside(local: Mesh) -> Aside | None:
    """An open mesh, z up, without what lies high above its border; None where little does, or its rims cannot be tented."""
    border = border_points(local, step_mm=_CELL_MM)
    if not len(border):
        return None
    height = _height_over(local.vertices_mm, border)
    far = np.flatnonzero(_away(local, height))
    if len(far) < _LEAST * local.triangles:
        return None
    found = _tented(local, far)
    if found is None or len(found[0]) < _LEAST * local.triangles:
        return None
    far, rims = found
    near = np.ones(local.triangles, bool)
    near[far] = False
    return _with_tents(local, np.flatnonzero(near), rims)


def _away(local: Mesh, height: NDArray) -> NDArray[np.bool_]:
    """(m,) what lies so high, and hollows in it that no border reaches."""
    away = np.all((height > _CLEAR_MM)[local.faces], axis=1)
    low = np.flatnonzero(~away)
    count, piece = face_components(Mesh.of(local.vertices_mm, local.faces[low]))
    stays = np.zeros(count, bool)
    stays[piece[(height[local.faces[low]] < _HOLLOW_MM).any(1)]] = True
    away[low[~stays[piece]]] = True
    return away


def _tented(local: Mesh, far: NDArray) -> tuple[NDArray, list[NDArray]] | None:
    """(of these faces the pieces with one rim that meets itself and others nowhere, their rims)"""
    above = Mesh.of(local.vertices_mm, local.faces[far])
    count, piece = face_components(above)
    rims = border_loops(above)
    if not rims:
        return None
    of = np.full(len(local.vertices_mm), -1, np.int64)
    of[above.faces] = piece[:, None]
    met = np.concatenate(rims)
    if len(np.unique(met)) < len(met) or any((of[rim] != of[rim[0]]).any() for rim in rims):
        return None
    holes = np.bincount([of[rim[0]] for rim in rims], minlength=count)
    return far[holes[piece] == 1], [rim for rim in rims if holes[of[rim[0]]] == 1]


def _with_tents(local: Mesh, kept: NDArray, rims: list[NDArray]) -> Aside:
    poles = np.array([local.vertices_mm[rim].mean(0) + [0, 0, _POLE_MM] for rim in rims]).reshape(-1, 3)
    first = len(local.vertices_mm)
    tents = np.vstack([np.c_[rim, np.roll(rim, -1), np.full(len(rim), first + k)] for k, rim in enumerate(rims)])
    faces = np.vstack([local.faces[kept], tents])
    used = np.zeros(first + len(poles), bool)
    used[faces] = True
    fresh = np.cumsum(used) - 1
    number = np.r_[np.arange(first), np.full(len(poles), -1)][used]
    groups = np.r_[local.groups[kept], np.zeros(len(tents), np.uint8)]
    near = Mesh.of(np.vstack([local.vertices_mm, poles])[used], fresh[faces], groups, np.arange(len(faces)))
    return Aside(near, local, kept, number)
