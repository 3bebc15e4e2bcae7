"""What a person brushed on a surface: strokes of a round swab, kept as places in space."""

from __future__ import annotations

import itertools
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..mesh import Mesh


@dataclass(frozen=True)
class Stroke:
    """One stroke of the swab.

    points_mm : (k, 3) where the swab went, in the scan's home
    adds      : it marks, or takes marks away
    """

    points_mm: NDArray[np.float64]
    radius_mm: float
    adds: bool = True


def close_along(points_mm: NDArray[np.float64], step_mm: float) -> NDArray[np.float64]:
    """(k, 3) places along a stroke no farther apart than step_mm: where the view hides a flank the hand goes down it at one go."""
    out = [points_mm[:1]]
    for a, b in itertools.pairwise(points_mm):
        parts = max(int(np.ceil(np.linalg.norm(b - a) / step_mm)), 1)
        out.append(a + (b - a) * (np.arange(1, parts + 1) / parts)[:, None])
    return np.vstack(out)


def swabbed(mesh: Mesh, strokes: Iterable[Stroke]) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """((n,) marked, (n,) taken away) vertices: the last stroke over a place counts. A ball reaches into undercuts, where
    a brush that marks what is seen does not."""
    last = np.zeros(len(mesh.vertices_mm), np.int8)
    tree = cKDTree(mesh.vertices_mm)
    for stroke in strokes:
        near = tree.query_ball_point(stroke.points_mm, stroke.radius_mm)
        hit = np.unique(np.concatenate([np.asarray(n, int) for n in near])) if len(near) else np.zeros(0, int)
        last[hit] = 1 if stroke.adds else -1
    return last == 1, last == -1
