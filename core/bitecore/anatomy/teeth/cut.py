"""The outlines of the teeth made labels, and settled into the valley by a least cut; strokes of a person before that."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ...ops.mincut import cut_in_two
from ...ops.surface_graph import Spreading, SurfaceGraph
from .drawn import DrawnLine, parted
from .hand import Hand, covered
from .hues import HUE_PULL
from .outline import Outlined
from .seeds import Seeds

# Edges as fine as this need two rounds of evening.
EDGE_MM = 0.30
# Slivers between two outlines, so narrow and no deeper than this share of the crown, are tooth.
_SLIVER_MM, _SLIVER_DEEP = 1.6, 0.55
# The cut that settles the outline: within so much of it; a valley from this bend (1/mm) on, and how soon it is cheap to cut.
_BAND_MM, _VALLEY, _SOON, _CHEAP, _PULL = 2.0, 0.1, 0.15, 0.01, 3.0
# So far beside a stroke, and under its edge, the border finds its valley; how strongly it is held where it was brushed.
_BESIDE_MM, _UNDER_MM, _BRUSH_PULL = 0.7, 0.4, 0.5


def labelled(local: NDArray, known: Seeds, rings: Outlined) -> NDArray[np.int32]:
    """(n,) k + 1 within the outline of tooth k, else the gum's label."""
    tall = np.array([0.0, *(c.tall if c else 0.0 for c in known.crowns)])
    top = np.array([-np.inf, *(c.top if c else -np.inf for c in known.crowns)])
    near = rings.nearest
    sliver = (rings.within == 0) & (near > 0) & (rings.off + rings.second < _SLIVER_MM)
    sliver &= top[near] - local[:, 2] < _SLIVER_DEEP * tall[near]
    label = np.where(sliver, near, rings.within)
    label = np.where(label > 0, label, known.gum)
    return np.where((known.seed > 0) & (known.seed < known.gum), known.seed, label).astype(np.int32)


def settled(
    graph: SurfaceGraph, on_edges: NDArray, area: NDArray, known: Seeds, rings: Outlined, label: NDArray, fdi: NDArray
) -> NDArray[np.bool_]:  # fmt: skip
    """(n,) tooth, of whichever number, after a cut through the valleys near the outlines."""
    within = label < known.gum
    off = np.where(np.isfinite(rings.off), rings.off, 9.0)
    off = np.where(within & (off > 0), -0.2, off)
    none = fdi[np.minimum(label, known.gum)] == 0
    off = np.where(within & none, 9.0, off)
    fixed = np.where(np.abs(off) < _BAND_MM, 0, np.where(within & ~none, 1, -1)).astype(np.int8)
    colour = 0.0 if known.hue is None else HUE_PULL * known.hue
    leaning = (np.clip(-off, -1, 1) + colour) * _PULL * area * (EDGE_MM / graph.length.mean()) ** 2
    return cut_in_two(graph.edges, _capacity(on_edges), fixed, leaning)


def _capacity(on_edges: NDArray) -> NDArray[np.float64]:
    return _CHEAP + (1 - _CHEAP) * np.exp(-np.clip(-on_edges - _VALLEY, 0, None) / _SOON)


@dataclass(frozen=True)
class Creased:
    """A surface with what is known of it: normals (n, 3); on_edges (e,) how it bends; area (n,) mm² of each vertex."""

    graph: SurfaceGraph
    normals: NDArray[np.float64]
    on_edges: NDArray[np.float64]
    area: NDArray[np.float64]


def brushed(on: Creased, label: NDArray[np.int32], owner: NDArray, hand: Hand) -> tuple[NDArray[np.int32], list[str]]:
    """((n,) label after the strokes and lines, each after the one before; ids of what runs along no tooth). label : 0 gum, else the tooth;
    owner : (n,) whose it would be. A stroke of tooth gives what it covers to the tooth it began on; at the brush's edge the border settles
    into the valley. A line is the border."""
    graph, area, unheeded = on.graph, on.area, list[str]()
    spreading, nowhere = Spreading(graph), np.zeros(len(label), bool)
    pull = _BRUSH_PULL * area * (EDGE_MM / graph.length.mean()) ** 2
    for ident, stroke in hand.strokes:
        if isinstance(stroke, DrawnLine):
            drawn = parted(graph, on.normals, label, stroke)
            unheeded += [ident] if drawn is None else []
            label = label if drawn is None else drawn
            continue
        which, first = covered(graph.points, stroke)
        if not len(which):
            continue
        mine = (label[first] or owner[first]) if stroke.adds else 0
        hit = nowhere.copy()
        hit[which] = True
        beside = nowhere.copy()
        beside[spreading.reached(which, blocked=nowhere, reach_mm=_BESIDE_MM)] = True
        beside &= ~hit
        free = beside.copy()
        free[spreading.reached(np.flatnonzero(beside), blocked=nowhere, reach_mm=_UNDER_MM)] = True
        free &= beside | hit
        this = hit | (label == mine)
        fixed = np.where(free, 0, np.where(this, 1, -1)).astype(np.int8)
        side = cut_in_two(graph.edges, _capacity(on.on_edges), fixed, np.where(this, pull, -pull)) if free.any() else this
        # Whose it is where it is not this: as before, or where it was, of the other kind.
        other = np.where(label != mine, label, owner if mine == 0 else 0)
        label = np.where(side, mine, other).astype(np.int32)
    return label, unheeded
