"""The edge line: up to which gum a scan is kept, so far from the margins of its teeth over the surface; smooth, and off every tooth.

Where teeth are missing the crest of the ridge between their neighbours counts as a margin, so that the line runs on across the gap.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..mesh import Mesh
from ..ops.geodesic import distances
from ..ops.rims import Rim, rims
from ..ops.surface_graph import SurfaceGraph, surface_graph
from .arch_sides import ArchSides
from .teeth.sizes import size_of

# A margin bends about like this; the line is made even over so much of the surface, in at most so many rounds.
_ROUND_MM, _EVEN_MM, _ROUNDS = 6.0, 1.2, 120
# Where nothing is in doubt a margin may still run so far beyond where it was told, and by so much more where all is; told of the margin
# so near to a place (held against generated jaws by ./bench trial).
_DOUBT_MM, _BESIDE_MM = (0.5, 1.5), 1.5
# No crown is shorter than this share of the usual, where its margin is not sure at all, and where it is; by so much at most.
_SHORT, _MOST_LACK_MM = (1.05, 0.68), 4.5
# Where the gum has gone back all crowns are taller, as surely told margins show; to so many times the usual.
_SURE, _TALLEST = 0.5, 1.4
# Of a gap the ridge is kept as wide to each side: a tooth that was not told would stand there.
_RIDGE_MM = 5.0
# A tooth in a gap is no wider than this to each side.
_WIDE_MM = 6.0
# The crest of a gap: so near to the straight way from tooth to tooth, seen from above; wider gaps than this have one.
_CREST_MM, _GAP_MM, _STEP_MM = 1.0, 2.0, 0.3


# Everything on a side is kept by keeping so much of it.
_ALL_MM = 90.0
# From one side of the arch to the other what is kept goes over so gently.
_SIDE_MM = 2.5
# Where the line is pulled to a place, it follows over at least so much of the surface, and over this many times as far as it is pulled.
_PULL_MM, _PULL_TIMES = 3.0, 1.4
# How gently pulls so close to each other that they cannot all be met are met.
_GENTLE = 0.05
# It is pulled no farther than this.
_MOST_PULL_MM = 25.0


@dataclass(frozen=True)
class Keep:
    """So many mm of gum are kept from the margins.

    outer_mm, inner_mm : on the side of cheeks and lips, and of palate or tongue; infinite for all that is there
    behind_mm          : behind the last tooth on each side
    off_mm             : nowhere is the line nearer to a tooth
    frenum_mm          : nor so near to a frenum, unless it is pulled there
    """

    outer_mm: float
    inner_mm: float
    behind_mm: float
    off_mm: float
    frenum_mm: float = 0.0


@dataclass(frozen=True)
class Kept:
    """value : (n,) above nought where the surface is kept; away : (n,) mm from the margins, infinite far from them and on teeth
    held : (k,) of the places the line was pulled to, those where a tooth holds it off
    round_ : (f,) of the frena, those the line runs round
    """

    value: NDArray[np.float64]
    away: NDArray[np.float64]
    held: NDArray[np.bool_]
    round_: NDArray[np.bool_]


@dataclass(frozen=True)
class Known:
    """What is known of the teeth on a surface.

    tooth    : (n,) on a tooth
    crest    : (n,) on the crest of a gap
    doubt_mm : (n,) so far beyond where it was told the margin may run
    frena    : the vertices of each
    """

    tooth: NDArray[np.bool_]
    crest: NDArray[np.bool_]
    doubt_mm: NDArray[np.float64]
    frena: tuple[NDArray[np.int64], ...] = ()


def known(
    mesh: Mesh, number: NDArray[np.int64], margins: Mapping[int, tuple[NDArray, NDArray]], gaps: list[tuple[NDArray, NDArray]], up: NDArray
) -> Known:
    """number : (n,) FDI number at each vertex, 0 gum; margins : of each tooth by its number, (k, 3) its margin and (k,) how sure it is
    there, 0 to 1; gaps : see gaps_of."""
    tooth = number > 0
    lines = [np.asarray(line, float).reshape(-1, 3) for line, _ in margins.values()]
    sures = [np.clip(np.asarray(sure, float), 0, 1) for _, sure in margins.values()]
    doubt = np.full(len(mesh.vertices_mm), _DOUBT_MM[0])
    if lines:
        lacks = _lacks(mesh, number, list(margins), lines, sures, up)
        may = np.concatenate([_DOUBT_MM[1] * (1 - sure) + lack for sure, lack in zip(sures, lacks, strict=True)])
        far, at = cKDTree(np.vstack(lines)).query(mesh.vertices_mm, distance_upper_bound=_BESIDE_MM)
        here = np.isfinite(far)
        doubt[here] += may[at[here]]
    return Known(tooth, crests(mesh, up, gaps) | _standing(mesh, up, gaps), doubt)


def _lacks(
    mesh: Mesh, number: NDArray, teeth: list[int], lines: list[NDArray], sures: list[NDArray], up: NDArray
) -> list[NDArray[np.float64]]:
    """By how much each crown is told shorter at each place of its margin than crowns are, in a mouth of tall ones than those: a furrow of
    its own may have been taken for its margin."""
    tops = [float((mesh.vertices_mm[number == fdi] @ up).max(initial=-np.inf)) for fdi in teeth]
    depths = [np.where(np.isfinite(top), top, 0.0) - line @ up for top, line in zip(tops, lines, strict=True)]
    usual = [size_of(fdi, "upper" if fdi // 10 in (1, 2, 5, 6) else "lower")[1] for fdi in teeth]
    seen = [np.quantile(d[s > _SURE], 0.9) / tall for d, s, tall in zip(depths, sures, usual, strict=True) if (s > _SURE).any()]
    times = float(np.clip(np.median(seen), 1.0, _TALLEST)) if seen else 1.0
    shares = [_SHORT[0] + (_SHORT[1] - _SHORT[0]) * sure for sure in sures]
    return [np.clip(share * tall * times - d, 0, _MOST_LACK_MM) for share, tall, d in zip(shares, usual, depths, strict=True)]


def _standing(mesh: Mesh, up: NDArray, gaps: list[tuple[NDArray, NDArray]]) -> NDArray[np.bool_]:
    """(n,) what stands in a gap as high as the middles of the teeth beside it: that is no bare ridge."""
    out = np.zeros(len(mesh.vertices_mm), bool)
    height = mesh.vertices_mm @ up
    for gap in _seen_from_above(mesh, up, gaps):
        share = np.clip(gap.along / gap.long, 0, 1)
        floor = gap.low * (1 - share) + gap.high * share
        out |= gap.between & (np.abs(gap.aside) < _WIDE_MM) & (height > floor)
    return out


def gaps_of(middles_mm: NDArray[np.float64], wide_mm: NDArray[np.float64]) -> list[tuple[NDArray, NDArray]]:
    """From one tooth to the next along the arch, the ends of the room between them; what touches has none. middles_mm : (k, 3) and wide_mm
    : (k,) of the teeth in their order."""
    out = []
    for k in range(len(middles_mm) - 1):
        a, b = middles_mm[k], middles_mm[k + 1]
        long = float(np.linalg.norm(b - a))
        if long > (wide_mm[k] + wide_mm[k + 1]) / 2:
            way = (b - a) / long
            out.append((a + way * wide_mm[k] / 2, b - way * wide_mm[k + 1] / 2))
    return out


def kept(mesh: Mesh, teeth: Known, sides: ArchSides, keep: Keep, pulled_mm: NDArray[np.float64]) -> Kept:
    """What is kept, made even, through the places it was pulled to, (k, 3), and off every tooth."""
    graph, tooth = surface_graph(mesh), teeth.tooth
    away = _away(mesh, teeth, graph, keep, _MOST_PULL_MM if len(pulled_mm) else 0.0)
    far = np.where(np.isfinite(away), away, _ALL_MM)
    inside = _asked(mesh, sides, keep) - far
    _, at = cKDTree(mesh.vertices_mm).query(pulled_mm) if len(pulled_mm) else (None, np.zeros(0, int))
    # As far as it is pulled the distances count in full.
    most = float(np.clip(1.3 * np.abs(inside[at]).max(initial=0.0), 3 * _EVEN_MM, _MOST_PULL_MM))
    inside = np.clip(inside, -most, most)
    inside[tooth] = most
    even, round_ = _round_frena(mesh, graph, teeth, keep.frenum_mm, inside)
    even = _pulled(mesh, even, at)
    held = tooth[at] | (far[at] < keep.off_mm)
    return Kept(np.where(tooth, most, np.maximum(even, keep.off_mm - far)), away, held, round_)


def _round_frena(mesh: Mesh, graph: SurfaceGraph, teeth: Known, off_mm: float, inside: NDArray) -> tuple[NDArray, NDArray[np.bool_]]:
    """(what is kept, made even and off every frenum by so much; which of them that concerns)."""
    round_ = np.array([off_mm > 0 and bool((inside[f] > 0).any()) for f in teeth.frena], bool)
    if not round_.any():
        return _evened(graph, inside), round_
    first = np.full(len(inside), np.inf)
    first[np.concatenate([f for f, cut in zip(teeth.frena, round_, strict=True) if cut])] = 0.0
    off = np.minimum(distances(mesh, first, reach_mm=off_mm + 4 * _EVEN_MM), off_mm + 4 * _EVEN_MM) - off_mm
    return np.minimum(_evened(graph, np.minimum(inside, off)), off), round_


def _away(mesh: Mesh, teeth: Known, graph: SurfaceGraph, keep: Keep, more_mm: float) -> NDArray[np.float64]:
    tooth = teeth.tooth
    first = np.where(teeth.crest, -_RIDGE_MM, np.inf)
    i, j = graph.edges.T
    for a, b in ((i, j), (j, i)):
        over = tooth[a] & ~tooth[b]
        # The margin runs half way between them.
        np.minimum.at(first, b[over], graph.length[over] / 2 - teeth.doubt_mm[b[over]])
    first[tooth] = np.inf
    most = max((mm for mm in (keep.outer_mm, keep.inner_mm, keep.behind_mm) if np.isfinite(mm)), default=0.0)
    return distances(mesh, first, reach_mm=max(most, keep.off_mm) + 4 * _EVEN_MM + more_mm, round_mm=_ROUND_MM)


def _asked(mesh: Mesh, sides: ArchSides, keep: Keep) -> NDArray[np.float64]:
    """(n,) how much is kept there: outside, inside, behind; gently from one to the other."""
    outer, inner, behind = (min(mm, _ALL_MM + 4 * _EVEN_MM) for mm in (keep.outer_mm, keep.inner_mm, keep.behind_mm))
    side, back = sides.of(mesh.vertices_mm)
    within = 0.5 + 0.5 * np.clip(side / _SIDE_MM, -1, 1)
    asked = outer + (inner - outer) * within
    return asked + (behind - asked) * back


def _pulled(mesh: Mesh, value: NDArray, at: NDArray) -> NDArray[np.float64]:
    """The region changed about each of these vertices so that its rim runs through all of them, and smoothly. Half way to where it is
    pulled what is added is still more than half: else the place would be an island."""
    if len(at) == 0:
        return value
    at = np.unique(at)
    lacks = -value[at]
    reach = np.maximum(_PULL_MM, _PULL_TIMES * np.abs(lacks))
    near = _bump(np.linalg.norm(mesh.vertices_mm[at][:, None] - mesh.vertices_mm[at][None], axis=2) / reach)
    # A stretch has places closer than it can be bent: solved exactly they would outbid each other.
    held, share = near.T @ near + _GENTLE * np.eye(len(at)), np.zeros(len(at))
    for _ in range(4):
        share += np.linalg.solve(held, near.T @ (lacks - near @ share))
    out = value.copy()
    tree = cKDTree(mesh.vertices_mm)
    for k, number in enumerate(at.tolist()):
        about = np.asarray(tree.query_ball_point(mesh.vertices_mm[number], reach[k]), int)
        out[about] += share[k] * _bump(np.linalg.norm(mesh.vertices_mm[about] - mesh.vertices_mm[number], axis=1) / reach[k])
    return out


def _bump(far: NDArray) -> NDArray[np.float64]:
    return np.maximum(1 - far**2, 0.0) ** 3


def _evened(graph: SurfaceGraph, value: NDArray) -> NDArray[np.float64]:
    """Each vertex between itself and its neighbours, as often as it takes."""
    i, j = graph.edges.T
    n = len(graph.points)
    many = np.maximum(np.bincount(i, minlength=n) + np.bincount(j, minlength=n), 1)
    rounds = int(np.clip(round(4 * (_EVEN_MM / graph.length.mean()) ** 2), 1, _ROUNDS))
    out = value.astype(float)
    for _ in range(rounds):
        mean = (np.bincount(i, out[j], n) + np.bincount(j, out[i], n)) / many
        out = 0.5 * (out + mean)
    return out


@dataclass(frozen=True)
class _Gap:
    """A gap seen from above: how long it is, (n,) how far along it and aside of it each vertex lies, and how high its ends are."""

    long: float
    along: NDArray[np.float64]
    aside: NDArray[np.float64]
    low: float
    high: float

    @property
    def between(self) -> NDArray[np.bool_]:
        return (self.along > 0) & (self.along < self.long)


def _seen_from_above(mesh: Mesh, up: NDArray, gaps: list[tuple[NDArray, NDArray]]) -> Iterator[_Gap]:
    for a, b in gaps:
        way = (b - a) - up * ((b - a) @ up)
        long = float(np.linalg.norm(way))
        if long >= _GAP_MM:
            way /= long
            off = mesh.vertices_mm - a
            yield _Gap(long, off @ way, off @ np.cross(up, way), float(a @ up), float(b @ up))


def crests(mesh: Mesh, up: NDArray, gaps: list[tuple[NDArray, NDArray]]) -> NDArray[np.bool_]:
    """(n,) vertices on the crests of gaps: the highest of what lies about the straight way from tooth to tooth. gaps : the ends of
    each, (3,) mm."""
    out = np.zeros(len(mesh.vertices_mm), bool)
    height = mesh.vertices_mm @ up
    for gap in _seen_from_above(mesh, up, gaps):
        near = np.flatnonzero(gap.between & (np.abs(gap.aside) < 6 * _CREST_MM))
        step = (gap.along[near] / _STEP_MM).astype(int)
        order = np.lexsort((-height[near], step))
        first = np.r_[True, np.diff(step[order]) != 0]
        out[near[order[first]]] = True
    return out


def line_of(mesh: Mesh, value: NDArray) -> list[Rim]:
    """The edge lines: closed, exactly through the triangles, the longest first."""
    return rims(mesh, value)
