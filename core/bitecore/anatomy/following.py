"""A further scan of a jaw laid on the first by the surface both share; what has changed between them is left out and shown."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh
from ..ops.settle import Link, Target, settle
from ..ops.starts import samples_of
from .bitescans import WORST_ERROR_MM, WORST_RMS_MM
from .jaw import Jaw
from .placing import arches_on

_POINTS, _SEARCHED = 6000, 900
# At least this share of the smaller of the two lies on the other.
_LEAST_MET = 0.25
# Farther apart than this, two scans of one surface differ in the mouth, not in the scanner (common practice, no source).
CHANGED_MM = 0.15
# On a bite scan, which was made in the same minutes, already this is worth showing.
OFF_MM = 0.05


@dataclass(frozen=True)
class Followed:
    """matrix : (4, 4) the further scan's home to the first's, None where refused, with why; met : share of the further
    scan that lies on the first; rms_mm : their scatter there; error_mm : RMS error to expect at the teeth."""

    matrix: NDArray[np.float64] | None
    met: float
    rms_mm: float
    error_mm: float
    why: str = ""


def follow(moving: Jaw, on: Jaw) -> Followed:
    """From any frames; both in mm with their surfaces outwards."""
    first, second = moving.arch(), on.arch()
    found = arches_on(replace(first, samples=first.samples.thinned(_SEARCHED)), second)
    target = Target(on.mesh)
    points = samples_of(moving.mesh, _POINTS)
    link = Link("moving", "on", points, target)
    done = settle([link], {"on": np.eye(4), "moving": found[0].matrix}, fixed="on", reach_mm=0.8)
    matrix, fit = done.poses["moving"], done.links[0]
    teeth = moving.teeth() @ matrix[:3, :3].T + matrix[:3, 3]
    error = float(np.sqrt(np.mean(done.error_mm("moving", teeth) ** 2)))
    why = ""
    if fit.met < _LEAST_MET:
        why = f"only {fit.met:.0%} of it lies on the jaw"
    elif fit.rms_mm > WORST_RMS_MM:
        why = f"the surfaces differ by {1000 * fit.rms_mm:.0f} µm where they should be the same"
    elif error > WORST_ERROR_MM:
        why = f"the teeth could be {1000 * error:.0f} µm off"
    return Followed(None if why else matrix, fit.met, fit.rms_mm, error, why)


def changed(moving: Mesh, on: Mesh, matrix: NDArray) -> NDArray[np.float64]:
    """(n,) signed distance of each vertex of the further scan from the first (mm, plus outside), NaN where there is
    nothing of the first within 2 mm or only its border."""
    target = Target(on)
    points = moving.vertices_mm @ matrix[:3, :3].T + matrix[:3, 3]
    closest, normal, found = target.meet(points, 2.0)
    return np.where(found, np.einsum("ij,ij->i", points - closest, normal), np.nan)


def beyond(mesh: Mesh, off_mm: NDArray, least_mm: float) -> Mesh | None:
    """The triangles all of whose corners lie at least so far off; None where there are none."""
    far = (np.abs(np.nan_to_num(off_mm)) > least_mm)[mesh.faces].all(1)
    return mesh.of_faces(far) if far.any() else None


def nearest_of(a: NDArray, b: NDArray) -> NDArray[np.float64]:
    """(n,) of two signed distances the one nearer to nought; NaN where both are unknown."""
    first = np.where(np.isnan(a), np.inf, np.abs(a)) <= np.where(np.isnan(b), np.inf, np.abs(b))
    return np.where(first, a, b)
