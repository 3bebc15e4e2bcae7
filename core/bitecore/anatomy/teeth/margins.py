"""Margins: the labels of single vertices made even, and the closed line round each tooth on the surface."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy.sparse as sp
from numpy.typing import NDArray

from ...mesh import Mesh
from ...ops.rims import Rim, rims
from ...ops.surface_graph import SurfaceGraph

# Labels are spread so far (standard deviation) before the line is drawn: about one tooth of the saw that triangles make of it.
_EVEN_MM = 0.35
_ROUNDS = 24
# Where two teeth meet the line goes straight; its points there, and at most everywhere.
_STRAIGHT_MM, _APART_MM = 0.4, 0.5
_HIDDEN = 0.05
# How a crease (1/mm) speaks for the line in it: from here, and how soon it is sure.
_DOUBT_AT, _DOUBT_SOON = 0.12, 0.09


@dataclass(frozen=True)
class Evened:
    """share : (n, teeth + 1) how much each vertex belongs to gum (0) and to each tooth (k + 1); its rows sum to one."""

    share: NDArray[np.float32]

    @property
    def label(self) -> NDArray[np.int32]:
        """(n,) k + 1 where more than half belongs to that tooth, else 0."""
        best = self.share.argmax(1)
        return np.where(self.share[np.arange(len(best)), best] > 0.5, best, 0).astype(np.int32)


def evened(graph: SurfaceGraph, label: NDArray[np.int32], count: int) -> Evened:
    """label : (n,) 0 gum, else 1 to count."""
    n = len(label)
    share = np.zeros((n, count + 1), np.float32)
    share[np.arange(n), label] = 1
    rounds = int(np.clip(round(4 * (_EVEN_MM / graph.length.mean()) ** 2), 2, _ROUNDS))
    i, j = graph.edges.T
    near = np.zeros(n, bool)
    apart = label[i] != label[j]
    near[i[apart]] = near[j[apart]] = True
    for _ in range(rounds):
        more = near[i] | near[j]
        near[i[more]] = near[j[more]] = True
    which = np.flatnonzero(near)
    number = np.full(n, -1)
    number[which] = np.arange(len(which))
    both = near[i] & near[j]
    a, b = number[i[both]], number[j[both]]
    beside = sp.coo_matrix((np.ones(2 * len(a), np.float32), (np.r_[a, b], np.r_[b, a])), (len(which),) * 2).tocsr()
    many = np.maximum(np.asarray(beside.sum(1)).ravel(), 1)
    half = sp.diags((0.5 / many).astype(np.float32)) @ beside
    own = share[which]
    for _ in range(rounds):
        own = 0.5 * own + half @ own
    share[which] = own
    return Evened(share)


@dataclass(frozen=True)
class Margin:
    """points_mm : (k, 3) at most half a millimetre apart, on the surface or straight through where two teeth meet; sure : (k,) 0 to 1"""

    points_mm: NDArray[np.float64]
    sure: NDArray[np.float64]


def margin_of(mesh: Mesh, evened: Evened, k: int, crease: NDArray[np.float64], at_border: NDArray[np.bool_]) -> Margin | None:
    """Round tooth k (1 and up), None where nothing of it is seen. crease : (n,) how strong the valley is at each vertex, 1/mm."""
    value = evened.share[:, k].astype(np.float64) - 0.5
    touched = (evened.share[:, k] > 0)[mesh.faces].any(1)
    found = rims(mesh, value, of=np.flatnonzero(touched))
    if not found or len(found[0].points_mm) < 3:
        return None
    rim = found[0]
    sure = _how_sure(rim, crease)
    sure[at_border[rim.ends].all(1)] = 0.0
    return _straightened(rim, sure, _hidden(rim, evened, k))


def _how_sure(rim: Rim, crease: NDArray) -> NDArray[np.float64]:
    met = crease[rim.ends].max(1)
    step = np.linalg.norm(rim.points_mm - np.roll(rim.points_mm, 1, axis=0), axis=1)
    wide = max(round(0.8 / max(float(step.mean()), 1e-3)), 1)
    met = np.convolve(np.r_[met[-wide:], met, met[:wide]], np.ones(2 * wide + 1) / (2 * wide + 1), "valid")
    return 1 / (1 + np.exp(-(met - _DOUBT_AT) / _DOUBT_SOON))


def _hidden(rim: Rim, evened: Evened, k: int) -> NDArray[np.bool_]:
    """(k,) does another tooth lie on the other side?"""
    t = rim.share[:, None]
    share = evened.share[rim.ends[:, 0]] * (1 - t) + evened.share[rim.ends[:, 1]] * t
    share[:, k] = 0
    return share.argmax(1) > 0


def _straightened(rim: Rim, sure: NDArray, hidden: NDArray) -> Margin:
    points = rim.points_mm
    if hidden.all() or not hidden.any():
        return _filled(points, np.where(hidden, _HIDDEN, sure))
    # Begun where one is seen after one that is not.
    first = int(np.flatnonzero(~hidden & np.roll(hidden, 1))[0])
    points, sure, hidden = (np.roll(x, -first, axis=0) for x in (points, sure, hidden))
    return _filled(points[~hidden], sure[~hidden], np.flatnonzero(hidden[np.flatnonzero(~hidden) + 1 - len(hidden)]))


def _filled(points: NDArray, sure: NDArray, straight: NDArray | None = None) -> Margin:
    """Points between those that lie too far apart. straight : after which the line goes straight through."""
    after = np.roll(points, -1, axis=0)
    long = np.linalg.norm(after - points, axis=1)
    through = np.zeros(len(points), bool)
    through[[] if straight is None else straight] = True
    many = np.where(through, np.ceil(long / _STRAIGHT_MM), np.ceil(long / _APART_MM)).astype(int).clip(1)
    which = np.repeat(np.arange(len(points)), many)
    step = np.arange(len(which)) - np.repeat(np.cumsum(many) - many, many)
    between = points[which] + (after - points)[which] * (step / many[which])[:, None]
    return Margin(between, np.where((step > 0) & through[which], _HIDDEN, sure[which]))
