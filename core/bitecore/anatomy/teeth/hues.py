"""What the colour of a scan says of tooth and gum. It helps the shape and never stands alone: stains, fillings, brackets and red papillae
are what they are, and many scans have no colour at all."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ...mesh import Mesh
from ...ops.surface_graph import SurfaceGraph
from .seeds import Seeds

# How much it counts beside the shape: for the outlines, and in the cut that settles them.
HUE_PRIOR, HUE_PULL = 0.9, 1.2
# Gum has to be so much redder (a*), and so many times its own scatter, or colours say nothing.
_REDDER, _CLEAR = 5.0, 1.8
# A colour is made even over its neighbours so often: what glitters is a speck.
_ROUNDS = 4


def at_corners(mesh: Mesh, tint: NDArray[np.float32]) -> NDArray[np.float64]:
    """(n,) the mean of the triangles (m,) round each vertex; not a number where none is known."""
    known = np.isfinite(tint)
    corner = mesh.faces[known].ravel()
    n = len(mesh.vertices_mm)
    many = np.bincount(corner, minlength=n)
    with np.errstate(invalid="ignore"):
        return np.bincount(corner, np.repeat(tint[known].astype(float), 3), n) / np.where(many > 0, many, np.nan)


def hue(red: NDArray[np.float64], graph: SurfaceGraph, known: Seeds) -> NDArray[np.float64] | None:
    """(n,) -1 gum to 1 tooth, by what is surely the one and surely the other in this scan; None where they hardly differ."""
    there = np.isfinite(red)
    tooth, gum = (red[there & here] for here in ((known.seed > 0) & (known.seed < known.gum), known.seed == known.gum))
    if len(tooth) < 50 or len(gum) < 50:
        return None
    a, b = float(np.median(tooth)), float(np.median(gum))
    scatter = 1.4826 * float(np.median(np.abs(tooth - a)) + np.median(np.abs(gum - b))) / 2
    if b - a < _REDDER or b - a < _CLEAR * scatter:
        return None
    says = np.where(there, np.clip(((a + b) / 2 - np.where(there, red, 0.0)) / ((b - a) / 2), -1, 1), 0.0)
    i, j = graph.edges.T
    many = np.maximum(np.bincount(i, minlength=len(red)) + np.bincount(j, minlength=len(red)), 1)
    for _ in range(_ROUNDS):
        says = 0.5 * says + 0.5 * (np.bincount(i, says[j], len(red)) + np.bincount(j, says[i], len(red))) / many
    return says
