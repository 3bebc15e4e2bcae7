"""What a person brushed on a surface: strokes of a round swab, kept as places in space."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field
from scipy.spatial import cKDTree

from ..mesh import Mesh


class Stroke(BaseModel):
    """points_mm : (k, 3) where the swab went, in the scan's home; adds : it marks, or takes marks away."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)
    points_mm: tuple[tuple[float, float, float], ...] = Field(min_length=1, max_length=2000)
    radius_mm: float = Field(gt=0, le=20)
    adds: bool = True


def swabbed(mesh: Mesh, strokes: list[Stroke]) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """((n,) marked, (n,) taken away) vertices: the last stroke over a place counts. A ball reaches into undercuts, where
    a brush that marks what is seen does not."""
    last = np.zeros(len(mesh.vertices_mm), np.int8)
    tree = cKDTree(mesh.vertices_mm)
    for stroke in strokes:
        near = tree.query_ball_point(np.array(stroke.points_mm), stroke.radius_mm)
        hit = np.unique(np.concatenate([np.asarray(n, int) for n in near])) if len(near) else np.zeros(0, int)
        last[hit] = 1 if stroke.adds else -1
    return last == 1, last == -1
