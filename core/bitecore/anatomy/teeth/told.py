"""Teeth and gum of one jaw: from numbers along the arch to a label at every vertex."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from ...mesh import Mesh, face_areas_mm2
from ...mesh.topology import edge_table
from ...ops.curvature import bend, evened_normals
from ...ops.mincut import cut_in_two
from ...ops.rigid import unit
from ...ops.surface_graph import SurfaceGraph, flooded, surface_graph
from .evidence import evidence
from .line import levelling
from .numbering import numbered
from .outline import Outlined, outlined
from .seeds import Crown, Seeds, seeds

# Edges as fine as this need two rounds of evening; crowns are taken for shorter at first: from too tall the ring never comes back.
_EDGE_MM, _SHORT, _PASSES = 0.30, 0.85, 2
# Slivers between two outlines, so narrow and no deeper than this share of the crown, are tooth.
_SLIVER_MM, _SLIVER_DEEP = 1.6, 0.55
# A tooth at an end or beside a gap, round which no crease runs, is none: the pad behind the last molar.
_NO_CREASE, _ALL_WEAK = 0.13, 0.65
# The cut that settles the outline: within so much of it; a valley from this bend (1/mm) on, and how soon it is cheap to cut.
_BAND_MM, _VALLEY, _SOON, _CHEAP, _PULL = 2.0, 0.1, 0.15, 0.01, 3.0


@dataclass(frozen=True)
class Told:
    """tooth : (n,) FDI number at each vertex, 0 gum
    crowns : of the teeth that were told, from the patient's right to the left
    scale  : of this mouth's teeth against the average; cost : of the reading
    """

    tooth: NDArray[np.int16]
    crowns: list[Crown]
    scale: float
    cost: float

    def of_faces(self, mesh: Mesh) -> NDArray[np.int16]:
        """(m,) FDI number of each triangle; one between two is gum."""
        corner = self.tooth[mesh.faces]
        same = (corner[:, 0] == corner[:, 1]) & (corner[:, 1] == corner[:, 2])
        return np.where(same, corner[:, 0], 0).astype(np.int16)


def plan_axes(up: ArrayLike, front: ArrayLike, jaw: str) -> NDArray[np.float64]:
    """(3, 3) rows to the patient's right, forward, to the tips. Of an upper a mirrored frame."""
    z = unit(up)
    y = unit(np.asarray(front, float) - z * (np.asarray(front, float) @ z))
    return np.stack([np.cross(y, z if jaw == "lower" else -z), y, z])


def teeth_told(mesh: Mesh, *, jaw: str, up: ArrayLike, front: ArrayLike, midline: ArrayLike) -> Told:
    """Of one connected surface in mm, outwards. up, front : (3,) in its frame, within about 15°; midline : (3,) mm, a place near the
    midline of the arch, to some millimetres."""
    graph = surface_graph(mesh)
    n = len(mesh.vertices_mm)
    border = np.zeros(n, bool)
    half = np.flatnonzero(edge_table(mesh).count == 1)
    border[mesh.faces[half // 3, half % 3]] = border[mesh.faces[half // 3, (half % 3 + 1) % 3]] = True
    area = np.bincount(mesh.faces.ravel(), np.repeat(face_areas_mm2(mesh) / 3, 3), n)
    rounds = int(np.clip(round(2 * (_EDGE_MM / graph.length.mean()) ** 2), 1, 6))
    normals = evened_normals(mesh, graph, rounds)
    bent = bend(normals, graph)
    axes = plan_axes(up, front, jaw)
    local = (mesh.vertices_mm - np.asarray(midline, float)) @ axes.T
    for _ in range(3):
        turn = levelling(local)
        axes, local = turn @ axes, local @ turn.T
        if turn[2, 2] > np.cos(np.radians(1.0)):
            break
    found = evidence(local, normals @ axes.T, bent, bent.across @ axes.T, area)
    read = numbered(found, jaw)
    on_edges = bent.on_edges(graph)
    cost = graph.length * (0.15 + np.clip(-on_edges - 0.2, 0, 3) * 2.0)
    scale = _SHORT
    for _ in range(_PASSES):
        known = seeds(local, found, read.slots, jaw, border, scale)
        owner, _away = flooded(np.where(known.seed < known.gum, known.seed, 0), cost, graph)
        rings = outlined(local, graph, normals, bent.tensor, found, known, owner)
        shifts = [c.shift / c.tall for c in known.crowns if c is not None and c.shift is not None]
        scale *= 1 + (float(np.median(shifts)) if shifts else 0.0)
    fdi = np.array([0, *(_real(known, k) for k in range(len(known.crowns))), 0], np.int16)
    label = _labelled(local, known, rings)
    soft = bend(evened_normals(mesh, graph, max(1, rounds // 2)), graph).on_edges(graph)
    tooth = _settled(graph, soft, area, known, rings, label, fdi)
    named = np.where(tooth, np.where(label < known.gum, fdi[label], fdi[np.minimum(owner, known.gum)]), 0).astype(np.int16)
    return Told(named, [c for c in known.crowns if c is not None and (named == c.slot.fdi).any()], read.scale, read.cost)


def _real(known: Seeds, k: int) -> int:
    """Its number, or 0 where no crease runs round it and it stands at an end or beside a gap."""
    crown = known.crowns[k]
    if crown is None:
        return 0
    beside = [known.crowns[j] for j in (k - 1, k + 1) if 0 <= j < len(known.crowns)]
    touched = [c for c in beside if c is not None and crown.slot.first <= c.slot.last and c.slot.first <= crown.slot.last]
    alone = len(touched) < 2
    return 0 if alone and crown.crease < _NO_CREASE and crown.weak > _ALL_WEAK else crown.slot.fdi


def _labelled(local: NDArray, known: Seeds, rings: Outlined) -> NDArray[np.int32]:
    """(n,) k + 1 within the outline of tooth k, else the gum's label."""
    tall = np.array([0.0, *(c.tall if c else 0.0 for c in known.crowns)])
    top = np.array([-np.inf, *(c.top if c else -np.inf for c in known.crowns)])
    near = rings.nearest
    sliver = (rings.within == 0) & (near > 0) & (rings.off + rings.second < _SLIVER_MM)
    sliver &= top[near] - local[:, 2] < _SLIVER_DEEP * tall[near]
    label = np.where(sliver, near, rings.within)
    label = np.where(label > 0, label, known.gum)
    return np.where((known.seed > 0) & (known.seed < known.gum), known.seed, label).astype(np.int32)


def _settled(
    graph: SurfaceGraph, on_edges: NDArray, area: NDArray, known: Seeds, rings: Outlined, label: NDArray, fdi: NDArray
) -> NDArray[np.bool_]:  # fmt: skip
    """(n,) tooth, of whichever number, after a cut through the valleys near the outlines."""
    within = label < known.gum
    off = np.where(np.isfinite(rings.off), rings.off, 9.0)
    off = np.where(within & (off > 0), -0.2, off)
    none = fdi[np.minimum(label, known.gum)] == 0
    off = np.where(within & none, 9.0, off)
    capacity = _CHEAP + (1 - _CHEAP) * np.exp(-np.clip(-on_edges - _VALLEY, 0, None) / _SOON)
    fixed = np.where(np.abs(off) < _BAND_MM, 0, np.where(within & ~none, 1, -1)).astype(np.int8)
    leaning = np.clip(-off, -1, 1) * _PULL * area * (_EDGE_MM / graph.length.mean()) ** 2
    return cut_in_two(graph.edges, capacity, fixed, leaning)
