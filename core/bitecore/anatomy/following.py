"""A further scan of a jaw laid on the first by the surface both share; what has changed between them is left out and shown."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh
from ..mesh.measures import face_areas_mm2
from ..ops.settle import Link, Settlement, Target, settle
from ..ops.starts import samples_of
from .arch_starts import arches_on, turned_arches_on
from .bitescans import WORST_ERROR_MM, WORST_RMS_MM
from .jaw import Jaw
from .jawshape import area_samples
from .scanbodies import discs, laid_by_posts, settled_by_posts

_POINTS, _SEARCHED = 6000, 900
# At least this share of the smaller of the two lies on the other.
_LEAST_MET = 0.25
# Nearly all of a post lies on the post it is laid on; farther off than this it stands on another one.
_POSTS_MET, _OTHER_POST_MM = 0.5, 3.0
_FOR_DISCS = 12_000
# Farther apart than this, two scans of one surface differ in the mouth, not in the scanner (common practice, no source).
CHANGED_MM = 0.15
# What treatment takes away reaches so deep; crowns are looked at so far under their tips (common practice, no source).
_TAKEN_MM, _CROWN_MM = 4.0, 7.0
# So much tooth has to be gone, and so much of all that changed the same way, before the shape says which scan is older: a
# veneer's preparation is some 10 mm³ (common practice, no source).
_TOLD_MM3, _ONE_SIDED = 5.0, 0.6


@dataclass(frozen=True)
class Followed:
    """A further scan laid on the first.

    matrix   : (4, 4) the further scan's home to the first's, None where refused, with why
    met      : share of the further scan that lies on the first
    rms_mm   : their scatter there
    error_mm : RMS error to expect at the teeth, or at the scan bodies where it was laid by them
    posts    : how many those are
    """

    matrix: NDArray[np.float64] | None
    met: float
    rms_mm: float
    error_mm: float
    why: str = ""
    posts: int = 0


def follow(moving: Jaw, on: Jaw, *, leave_out: NDArray[np.bool_] | None = None) -> Followed:
    """From any frames; both in mm with their surfaces outwards. leave_out : (n,) vertices of the further scan that a
    person said have changed."""
    first, second = moving.arch(), on.arch()
    first = replace(first, samples=first.samples.thinned(_SEARCHED))
    found = arches_on(first, second)
    if found[0].met < _LEAST_MET / 2:
        found = max(found, turned_arches_on(first, second), key=lambda each: each[0].met)
    shared = moving.mesh if leave_out is None else moving.mesh.of_faces(~leave_out[moving.mesh.faces].any(1))
    link = Link("moving", "on", samples_of(shared, _POINTS), Target(on.mesh))
    done = settle([link], {"on": np.eye(4), "moving": found[0].matrix}, fixed="on", reach_mm=0.8)
    return _judged(done, moving.teeth(), "teeth", least_met=_LEAST_MET)


def follow_by_posts(moving: Jaw, on: Jaw, start: NDArray | None) -> Followed | None:
    """By the scan bodies both show; None where they have not two in common. start : by the shared anatomy, where there
    is one; else the posts themselves find it."""
    ends = discs(moving.mesh, area_samples(moving.mesh, _FOR_DISCS))
    others = discs(on.mesh, area_samples(on.mesh, _FOR_DISCS))
    if min(len(ends), len(others)) < 2:
        return None
    by_ends = laid_by_posts(ends, others)
    if by_ends is None:
        return None
    # The teeth, where they are shared, say which post is which; the posts say where exactly.
    if start is not None and np.linalg.norm((start - by_ends) @ np.append(ends[0].middle_mm, 1.0)) > _OTHER_POST_MM:
        by_ends = start
    done = settled_by_posts(moving.mesh, Target(on.mesh), ends, by_ends)
    at = np.array([d.middle_mm for d in ends])
    return replace(_judged(done, at, "scan bodies", least_met=_POSTS_MET), posts=len(ends))


def _judged(done: Settlement, points: NDArray, what: str, *, least_met: float) -> Followed:
    """points : (k, 3) in the moving one's home, whose error is told."""
    matrix, fit = done.poses["moving"], done.links[0]
    error = float(np.sqrt(np.mean(done.error_mm("moving", points @ matrix[:3, :3].T + matrix[:3, 3]) ** 2)))
    why = ""
    if fit.met < least_met:
        why = f"only {fit.met:.0%} of it lies on the other"
    elif fit.rms_mm > WORST_RMS_MM:
        why = f"the surfaces differ by {1000 * fit.rms_mm:.0f} µm where they should be the same"
    elif error > 1.0:
        why = "what the two share does not hold it in its place"
    elif error > WORST_ERROR_MM:
        why = f"the {what} could be {1000 * error:.0f} µm off"
    return Followed(None if why else matrix, fit.met, fit.rms_mm, error, why)


def changed(moving: Mesh, on: Mesh, matrix: NDArray, *, reach_mm: float = 2.0) -> NDArray[np.float64]:
    """(n,) signed distance of each vertex of the further scan from the first (mm, plus outside), NaN where there is
    nothing of the first within reach or only its border."""
    target = Target(on)
    points = moving.vertices_mm @ matrix[:3, :3].T + matrix[:3, 3]
    closest, normal, found = target.meet(points, reach_mm)
    return np.where(found, np.einsum("ij,ij->i", points - closest, normal), np.nan)


@dataclass(frozen=True)
class Gone:
    """What one scan of a jaw has over another on the crowns. more_mm3, less_mm3 : volume it stands out and back by where
    the two differ; net is what tells which was made first: grinding and pulling take away."""

    more_mm3: float
    less_mm3: float

    @property
    def before(self) -> bool | None:
        """Was it made before the other? None where the shape does not tell."""
        net, gross = self.more_mm3 - self.less_mm3, self.more_mm3 + self.less_mm3
        return None if abs(net) < max(_TOLD_MM3, _ONE_SIDED * gross) else net > 0


def taken_away(moving: Jaw, on: Jaw, matrix: NDArray) -> Gone:
    """moving to on by `matrix` (4, 4). Counted on both surfaces, for each shows only what the other lacks within reach."""
    more = less = 0.0
    for a, b, m, sign in ((moving, on, matrix, 1.0), (on, moving, np.linalg.inv(matrix), -1.0)):
        off = changed(a.mesh, b.mesh, m, reach_mm=_TAKEN_MM)
        height = a.mesh.vertices_mm @ a.up
        crown = height > np.quantile(height, 0.997) - _CROWN_MM
        off = np.where(crown & (np.abs(off) > CHANGED_MM), off, 0.0)
        share = face_areas_mm2(a.mesh) / 3
        each = np.nan_to_num(off) * np.bincount(a.mesh.faces.ravel(), np.repeat(share, 3), len(off))
        more += float(np.maximum(sign * each, 0).sum()) / 2
        less += float(np.maximum(-sign * each, 0).sum()) / 2
    return Gone(more, less)


def beyond(mesh: Mesh, off_mm: NDArray, least_mm: float) -> Mesh | None:
    """The triangles all of whose corners lie at least so far off; None where there are none."""
    far = (np.abs(np.nan_to_num(off_mm)) > least_mm)[mesh.faces].all(1)
    return mesh.of_faces(far) if far.any() else None


def nearest_of(a: NDArray, b: NDArray) -> NDArray[np.float64]:
    """(n,) of two signed distances the one nearer to nought; NaN where both are unknown."""
    first = np.where(np.isnan(a), np.inf, np.abs(a)) <= np.where(np.isnan(b), np.inf, np.abs(b))
    return np.where(first, a, b)
