"""Cut a surface along a curtain until walls can go straight down from its border.

The curtain is the graph of a smooth height over the plan that lies on or above the border everywhere and falls away from it steeply.
What is kept lies above the graph and its border on it; so a wall under the border can meet neither the surface (all of it is above
the graph) nor another wall (a graph holds one height for each place in the plan, so the border's plan does not cross itself).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..errors import StepFailed
from ..mesh import Mesh, border_loops
from ..progress import Run
from .aside import set_aside
from .border import border_points
from .curtain import above_curtain, evened
from .mend import largest_piece
from .walls import crossing_walls

# (how steeply the curtain falls away from the border, how far its top is rounded in mm): gentler when needed.
_CURTAINS = ((10.0, 0.3), (6.0, 0.3), (3.0, 0.45), (1.2, 1.2))

# Where walls would still cross, so much of the surface around the place goes, so many times, before a gentler curtain is tried:
# on 80 jaws of the trial's second set this left more of the surface than gentler curtains at once, and something of every jaw.
_NIBBLE_MM, NIBBLES = 0.7, 8


def freed(local: Mesh, run: Run) -> Mesh:
    """What of a mesh (z up) lies above the first curtain under whose border walls can go straight down. Raises StepFailed with a place
    in the same frame. What lies high above the border is not looked at."""
    apart = set_aside(local)
    back = apart.back(_freed(apart.near, run)) if apart is not None else None
    return back if back is not None else _freed(local, run)


def _freed(local: Mesh, run: Run) -> Mesh:
    crossed = border_points(local)
    for attempt, (slope, round_mm) in enumerate(_CURTAINS):
        left = local
        for nibble in range(NIBBLES):
            run.tick((attempt + nibble / NIBBLES) / len(_CURTAINS), "walls")
            above, crossed = _cut_back(left, slope, round_mm)
            if not len(crossed):
                return above
            less = nibbled(left, crossed)
            if less is None:
                break
            left = less
    raise StepFailed(
        "The border folds over itself here, and no wall can go down from it. Trim more off at this place.",
        code="border-folds",
        point_mm=crossed[0],
        radius_mm=2.0,
    )


def _cut_back(local: Mesh, slope: float, round_mm: float) -> tuple[Mesh, NDArray[np.float64]]:
    """(what lies above this curtain, (k, 3) where walls under its border would cross), the border evened where that will do."""
    above, curtain = above_curtain(local, slope=slope, round_mm=round_mm)
    if above.triangles == 0:
        raise StepFailed("Nothing is left of the surface once its border is cut back.", code="nothing-left")
    tried = _with_crossings(evened(above, curtain))
    return tried if not len(tried[1]) else min(tried, _with_crossings(above), key=lambda each: len(each[1]))


def _with_crossings(surface: Mesh) -> tuple[Mesh, NDArray[np.float64]]:
    loops = border_loops(surface)
    bad = crossing_walls(surface, loops)
    return surface, surface.vertices_mm[np.concatenate(loops)[bad]]


def nibbled(local: Mesh, at: NDArray[np.float64]) -> Mesh | None:
    """Without the surface around these places; None where that takes nothing or all."""
    near = cKDTree(at).query(local.vertices_mm, distance_upper_bound=_NIBBLE_MM)[0] < _NIBBLE_MM
    kept = ~near[local.faces].any(1)
    return None if kept.all() or not kept.any() else largest_piece(local.of_faces(kept))
