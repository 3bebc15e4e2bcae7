"""Scan bodies: posts screwed onto implants, each ending in a small flat disc. They are found by their discs, and two scans
of the same posts are laid on each other by them alone."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import permutations

import numba as nb
import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh, area_vectors, face_areas_mm2, face_components, vertex_normals
from ..ops.relief import mean_of_neighbours
from ..ops.rigid import laid_on
from ..ops.settle import Link, Settlement, Target, settle
from ..ops.starts import Samples

# Ends of scan bodies are 3 to 7 mm wide (common practice, no source).
_LEAST_MM2, _MOST_MM2 = 6.0, 40.0
# Share of its own circle that an end fills, a flat side and jagged rims allowed for; how flat it is as scanned.
_ROUND, _FLAT_MM = 0.7, 0.06
# Normals are smoothed over about so far, against the noise; then those of one triangle are alike on an end.
_SMOOTH_MM, _ALIKE_COS = 0.45, 0.9985
# Under its end a post is a wall: so much of what is there looks to the side.
_WALL_SHARE, _WALL_COS, _WALL_MM = 0.7, 0.35, 4.0
# A post is what lies so far around its axis and so far under its end: the part that stands out of the gum.
_AROUND_MM, _DOWN_MM = 3.6, 7.0
# Two scans of one set of posts have them this much alike in distance (mm).
_ALIKE_MM = 0.4
_MOST_POINTS = 6000


@dataclass(frozen=True)
class Disc:
    """The flat end of a scan body.

    middle_mm : (3,) of the flat end
    axis      : (3,) unit, outwards, along the post
    """

    middle_mm: NDArray[np.float64]
    axis: NDArray[np.float64]
    radius_mm: float


def discs(mesh: Mesh, points: NDArray) -> list[Disc]:
    """The flat ends of posts that stand above their surroundings; points : (k, 3) samples of the whole surface."""
    v, f = mesh.vertices_mm, mesh.faces
    edge = float(np.sqrt(2.3 * np.median(face_areas_mm2(mesh)))) or _SMOOTH_MM
    normal = mean_of_neighbours(f, vertex_normals(mesh), int(np.clip((_SMOOTH_MM / edge) ** 2, 2, 12)))
    normal /= np.maximum(np.linalg.norm(normal, axis=1), 1e-12)[:, None]
    part = mesh.of_faces(_alike(f, normal) > _ALIKE_COS)
    count, label = face_components(part)
    sizes = np.bincount(label, face_areas_mm2(part), count)
    area = area_vectors(part)
    wall = vertex_normals(mesh)
    of_label = np.argsort(label, kind="stable")
    starts = np.searchsorted(label[of_label], np.arange(count + 1))
    near = _ByWidth(v[f[:, 0]])
    out: list[Disc] = []
    for c in np.flatnonzero((sizes > _LEAST_MM2 / 3) & (sizes < _MOST_MM2)):
        own = of_label[starts[c] : starts[c + 1]]
        axis = area[own].sum(0)
        disc = _end_of(mesh, near, part.vertices_mm[np.unique(part.faces[own])], axis / np.linalg.norm(axis), points)
        if disc is not None and _stands(disc, v, wall) and all(np.linalg.norm(disc.middle_mm - d.middle_mm) > 2.0 for d in out):
            out.append(disc)
    return out


@nb.njit(cache=True)
def _alike(faces, normal):
    """(m,) cosine between the mean normal of each triangle's corners and the one that is least like it."""
    out = np.empty(len(faces))
    for i in range(len(faces)):
        a, b, c = normal[faces[i, 0]], normal[faces[i, 1]], normal[faces[i, 2]]
        x, y, z = a[0] + b[0] + c[0], a[1] + b[1] + c[1], a[2] + b[2] + c[2]
        long = max(np.sqrt(x * x + y * y + z * z), 1e-12)
        least = min(a[0] * x + a[1] * y + a[2] * z, b[0] * x + b[1] * y + b[2] * z)
        out[i] = min(least, c[0] * x + c[1] * y + c[2] * z) / long
    return out


class _ByWidth:
    """Points (k, 3) sorted along one axis, so that a few near ones are found without looking at all."""

    def __init__(self, points: NDArray) -> None:
        self._points = points
        self._order = np.argsort(points[:, 0], kind="stable")
        self._x = points[self._order, 0]

    def within(self, reach: float, middle: NDArray) -> NDArray[np.int64]:
        """In the order they were given in."""
        some = np.sort(self._order[slice(*np.searchsorted(self._x, [middle[0] - reach, middle[0] + reach]))])
        return some[np.linalg.norm(self._points[some] - middle, axis=1) < reach]


def _end_of(mesh: Mesh, near: _ByWidth, seed: NDArray, axis: NDArray, points: NDArray) -> Disc | None:
    """The whole flat end around a seed (k, 3) of it, out to its rim; None where it is none."""
    middle = seed.mean(0)
    if np.abs((seed - middle) @ axis).max() > 2 * _FLAT_MM:
        return None
    reach = float(np.linalg.norm(seed - middle, axis=1).max()) + 0.9
    corner = mesh.vertices_mm[mesh.faces[near.within(reach, middle)]]
    corner = corner[(np.abs((corner - middle) @ axis) < _FLAT_MM).all(1)]
    if len(corner) < 6:
        return None
    area = np.linalg.norm(np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]), axis=1) / 2
    total = float(area.sum())
    middle = (corner.mean(1) * area[:, None]).sum(0) / max(total, 1e-9)
    rim = float(np.quantile(np.linalg.norm(corner.reshape(-1, 3) - middle, axis=1), 0.98))
    above = ((points - middle) @ axis > 0.5) & (np.linalg.norm(points - middle, axis=1) < 4.5)
    # An end fills its circle; a flat slope of the gum is ragged.
    fits = _LEAST_MM2 < total < _MOST_MM2 and total > _ROUND * np.pi * rim**2 and above.sum() < 3
    return Disc(middle, axis, rim) if fits else None


def _stands(disc: Disc, v: NDArray, normal: NDArray) -> bool:
    """Is there a wall all around under the end?"""
    off = v - disc.middle_mm
    along = off @ disc.axis
    near = (along < -0.7) & (along > -_WALL_MM)
    side = off[near] - along[near, None] * disc.axis
    close = np.linalg.norm(side, axis=1) < 1.3 * disc.radius_mm + 0.3
    if close.sum() < 30:
        return False
    steep = np.abs(normal[near][close] @ disc.axis) < _WALL_COS
    x = np.cross(disc.axis, np.eye(3)[np.abs(disc.axis).argmin()])
    angle = np.arctan2(side[close] @ np.cross(disc.axis, x), side[close] @ x)
    around = len(np.unique(np.floor((angle[steep] + np.pi) / (2 * np.pi) * 12).astype(int) % 12))
    return bool(steep.mean() > _WALL_SHARE and around >= 9)


def posts(mesh: Mesh, ends: list[Disc]) -> Samples:
    """The vertices of the posts under these ends, with their normals."""
    v = mesh.vertices_mm
    on = np.zeros(len(v), bool)
    for disc in ends:
        off = v - disc.middle_mm
        along = off @ disc.axis
        around = np.linalg.norm(off - along[:, None] * disc.axis, axis=1)
        on |= (along < 0.3) & (along > -_DOWN_MM) & (around < _AROUND_MM)
    pick = np.flatnonzero(on)
    if len(pick) > _MOST_POINTS:
        pick = np.sort(np.random.default_rng(0).permutation(pick)[:_MOST_POINTS])
    return Samples(v[pick], vertex_normals(mesh)[pick])


def laid_by_posts(moving: list[Disc], on: list[Disc]) -> NDArray[np.float64] | None:
    """(4, 4) by the ends and axes of the posts alone; None where fewer than two are alike. The one that most posts agree
    with, then the nearest."""
    best: tuple[int, float, NDArray] | None = None
    for a, b in permutations(range(len(moving)), 2):
        for c, d in permutations(range(len(on)), 2):
            if a > b or abs(_apart(moving, a, b) - _apart(on, c, d)) > _ALIKE_MM:
                continue
            ends = [(moving[i], on[j]) for i, j in ((a, c), (b, d))]
            m = laid_on(*(np.vstack([_stations(pair[k]) for pair in ends]) for k in (0, 1)))
            met, off = _agree(m, moving, on)
            if met >= 2 and (best is None or (met, -off) > (best[0], -best[1])):
                best = (met, off, m)
    return None if best is None else best[2]


def _apart(ends: list[Disc], i: int, j: int) -> float:
    return float(np.linalg.norm(ends[i].middle_mm - ends[j].middle_mm))


def _stations(disc: Disc) -> NDArray:
    return np.stack([disc.middle_mm, disc.middle_mm - 5.0 * disc.axis])


def _agree(m: NDArray, moving: list[Disc], on: list[Disc]) -> tuple[int, float]:
    """(how many posts lie on one, their mean distance in mm)."""
    there = np.vstack([_stations(d) for d in on]).reshape(-1, 2, 3)
    near = []
    for disc in moving:
        here = _stations(disc) @ m[:3, :3].T + m[:3, 3]
        near.append(float(np.linalg.norm(there - here, axis=2).max(1).min()))
    close = [d for d in near if d < 2 * _ALIKE_MM]
    return len(close), float(np.mean(close)) if close else np.inf


def settled_by_posts(moving: Mesh, on: Target, ends: list[Disc], start: NDArray) -> Settlement:
    """moving on the target by the posts' surfaces, from a start within some 0.6 mm."""
    link = Link("moving", "on", posts(moving, ends), on)
    return settle([link], {"on": np.eye(4), "moving": start}, fixed="on", reach_mm=0.6)
