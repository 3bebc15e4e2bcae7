"""Scan bodies: posts screwed onto implants, each ending in a small flat disc. They are found by their discs, and two scans
of the same posts are laid on each other by them alone."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import permutations

import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh, face_components, face_normals, vertex_normals
from ..mesh.measures import face_areas_mm2
from ..ops.rigid import laid_on
from ..ops.settle import Link, Settlement, Target, settle
from ..ops.starts import Samples

# Ends of scan bodies are 3 to 7 mm wide (common practice, no source).
_LEAST_MM2, _MOST_MM2, _WIDEST_MM = 7.0, 40.0, 8.0
# Share of its own circle that a disc fills, holes and jagged rims allowed for.
_ROUND = 0.7
# A post is what lies so far around its axis and so far under its end: the part that stands out of the gum.
_AROUND_MM, _DOWN_MM = 3.6, 7.0
# Two scans of one set of posts have them this much alike in distance (mm).
_ALIKE_MM = 0.4
_MOST_POINTS = 6000


@dataclass(frozen=True)
class Disc:
    """middle_mm : (3,) of the flat end; axis : (3,) unit, outwards, along the post."""

    middle_mm: NDArray[np.float64]
    axis: NDArray[np.float64]


def discs(mesh: Mesh, points: NDArray) -> list[Disc]:
    """The small flat discs that stand above their surroundings; points : (k, 3) samples of the whole surface."""
    normal = face_normals(mesh)
    area = face_areas_mm2(mesh)
    bins = (np.rint(normal * 20).astype(np.int64) + 20) @ np.array([41 * 41, 41, 1])
    found: list[Disc] = []
    for k in np.bincount(bins, area).argsort()[::-1][:10]:
        mine = bins == k
        mean = (normal[mine] * area[mine, None]).sum(0)
        mean /= np.linalg.norm(mean)
        flat = normal @ mean > 0.9999
        if flat.sum() >= 6:
            found += _discs_of(mesh.of_faces(flat), mean, points)
    return _once(found)


def _discs_of(part: Mesh, mean: NDArray, points: NDArray) -> list[Disc]:
    """Of one direction."""
    count, label = face_components(part)
    area = face_areas_mm2(part)
    sizes = np.bincount(label, area, count)
    out = []
    for c in np.flatnonzero((sizes > _LEAST_MM2) & (sizes < _MOST_MM2)):
        corner = part.vertices_mm[part.faces[label == c].ravel()]
        middle = corner.mean(0)
        above = ((points - middle) @ mean > 0.5) & (np.linalg.norm(points - middle, axis=1) < 4.5)
        # A disc fills its circle; a flat slope of the gum is ragged.
        reach = float(np.linalg.norm(corner - middle, axis=1).max())
        round_ = sizes[c] > _ROUND * np.pi * reach**2
        if round_ and np.ptp(corner, axis=0).max() < _WIDEST_MM and np.ptp(corner @ mean) < 0.05 and above.sum() < 3:
            weight = np.repeat(area[label == c], 3)
            out.append(Disc((corner * weight[:, None]).sum(0) / weight.sum(), mean))
    return out


def _once(found: list[Disc]) -> list[Disc]:
    """Directions next to each other see the same disc twice."""
    out: list[Disc] = []
    for disc in found:
        if all(np.linalg.norm(disc.middle_mm - other.middle_mm) > 2.0 for other in out):
            out.append(disc)
    return out


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
