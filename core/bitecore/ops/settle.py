"""Least-squares settling of bodies on each other by the surfaces they share, with an estimate of what is left.

Every link says that points of one body lie on the surface of another. All poses are found together: point to plane at
the exact closest points, each link weighted by its own scatter, robustly (Geman and McClure's weights; from memory).
The estimate takes two errors for granted: white noise, and a slow error of the scanners that is alike within some 20 mm;
both are measured in the residuals left over (variance components, as in adjustment computation) and carried through to
the points asked for.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from .estimate import HELD, LEVER_MM, covariance_of
from .links import Link, Rows, Target, moved_by, rows_of
from .starts import Samples

__all__ = ["Link", "LinkFit", "Settlement", "Target", "nudged", "settle"]

_MOST_ROUNDS = 40
# A step that moves no point by more (mm) ends it.
_STILL_MM, _NEAR_MM = 5e-5, 0.005
_FEW = 1200
# Weights that fall with the distance make each plain step a quarter too short.
_STRIDE = 1.3


@dataclass(frozen=True)
class LinkFit:
    """rms_mm of what was met;

    met  : its share of all points; residual_mm, point_mm (world),
    used : of each point
    """

    rms_mm: float
    met: float
    residual_mm: NDArray[np.float64]
    point_mm: NDArray[np.float64]
    used: NDArray[np.bool_]


@dataclass(frozen=True)
class Settlement:
    """Surfaces settled on each other.

    poses             : body to (4, 4) world
    links             : as asked, in order
    covariance        : (6 f, 6 f) of small turns (rad, about the world's origin) and shifts (mm) of the free bodies in
                        `free`'s order
    noise_mm, warp_mm : the two errors found
    """

    poses: dict[str, NDArray[np.float64]]
    links: tuple[LinkFit, ...]
    free: tuple[str, ...]
    covariance: NDArray[np.float64]
    noise_mm: float
    warp_mm: float
    rounds: int = 0
    weakest: NDArray[np.float64] = field(default_factory=lambda: np.zeros(6))

    def error_mm(self, body: str, points_mm: NDArray) -> NDArray[np.float64]:
        """(k,) RMS error to expect of points (k, 3), in the world, that go with a body."""
        at = 6 * self.free.index(body)
        c = self.covariance[at : at + 6, at : at + 6]
        g = _lever(np.asarray(points_mm, np.float64))
        return np.sqrt(np.maximum(np.einsum("kia,ab,kib->k", g, c, g), 0.0))


def _lever(points: NDArray) -> NDArray:
    """(k, 3, 6): how small turns about the origin and shifts move points."""
    g = np.zeros((len(points), 3, 6))
    x, y, z = points.T
    g[:, 0, 1], g[:, 0, 2], g[:, 1, 0], g[:, 1, 2], g[:, 2, 0], g[:, 2, 1] = z, -y, -z, x, y, -x
    g[:, :, 3:] = np.eye(3)
    return g


def settle(
    links: Sequence[Link], poses: Mapping[str, NDArray], *, fixed: str, reach_mm: float = 0.6, end_mm: float = 0.2
) -> Settlement:  # fmt: skip
    """Poses of all bodies but the fixed one, from starts within about reach_mm. Deterministic."""
    now = {k: np.asarray(m, np.float64).copy() for k, m in poses.items()}
    free = tuple(k for k in now if k != fixed)
    middle = np.vstack([moved_by(now[k.moving], k.points.points_mm) for k in links]).mean(0)
    # A first approach with few points; then all of those that can meet anything from there.
    first = [_with(k, k.points.thinned(_FEW)) for k in links]
    rounds = _rounds(first, now, free, middle, reach_mm, end_mm, still=_NEAR_MM)
    near = [_with(k, k.points.where(rows_of(k, now, 3 * end_mm, middle).used)) for k in links]
    rounds += _rounds(near, now, free, middle, end_mm, end_mm, still=_STILL_MM)
    rows = [rows_of(k, now, end_mm, middle) for k in links]
    return _settlement(links, rows, now, free, middle, rounds)


def nudged(links: Sequence[Link], poses: Mapping[str, NDArray], *, fixed: str, reach_mm: float = 0.2) -> dict[str, NDArray]:
    """Poses that are settled nearly, a few steps further with fewer points: what part of the links alone would say."""
    now = {k: np.asarray(m, np.float64).copy() for k, m in poses.items()}
    free = tuple(k for k in now if k != fixed)
    few = [_with(k, k.points.thinned(_FEW)) for k in links]
    _rounds(few, now, free, np.vstack([moved_by(now[k.moving], k.points.points_mm) for k in few]).mean(0), reach_mm, reach_mm, still=0.001)
    return now


def _with(link: Link, points: Samples) -> Link:
    return Link(link.moving, link.on, points, link.target)


def _rounds(links, now, free, middle, reach, end_mm, *, still) -> int:
    """Steps `now` until nothing moves by more than `still` (mm); how many it took."""
    for count in range(1, _MOST_ROUNDS + 1):
        rows = [rows_of(k, now, reach, middle) for k in links]
        a, b = _normal_equations(links, rows, free)
        if not np.trace(a) > 0:
            return count  # nothing meets anything
        x = -_STRIDE * _held_step(a, b)
        moved = 0.0
        for i, body in enumerate(free):
            turn, shift = x[6 * i : 6 * i + 3], x[6 * i + 3 : 6 * i + 6]
            now[body] = _by(turn, shift, middle) @ now[body]
            moved = max(moved, float(np.linalg.norm(turn) * 35 + np.linalg.norm(shift)))
        if moved < still and reach <= end_mm:
            return count
        reach = max(end_mm, reach * 0.6) if moved < 0.5 * reach else reach
    return _MOST_ROUNDS


def _held_step(a: NDArray, b: NDArray) -> NDArray:
    """a⁻¹ b in the directions that are held; nothing in those that are free, where noise alone would drive it."""
    lever = np.tile([1 / LEVER_MM] * 3 + [1.0] * 3, len(b) // 6)
    value, vector = np.linalg.eigh(a * lever[:, None] * lever[None, :])
    held = value > HELD * value.max()
    return lever * (vector[:, held] @ ((vector[:, held].T @ (lever * b)) / value[held]))


def _by(turn: NDArray, shift: NDArray, middle: NDArray) -> NDArray:
    out = np.eye(4)
    out[:3, :3] = Rotation.from_rotvec(turn).as_matrix()
    out[:3, 3] = middle + shift - out[:3, :3] @ middle
    return out


def _normal_equations(links: Sequence[Link], rows: Sequence[Rows], free: tuple[str, ...]) -> tuple[NDArray, NDArray]:
    a, b = np.zeros((6 * len(free),) * 2), np.zeros(6 * len(free))
    for link, row in zip(links, rows, strict=True):
        jw = row.j * row.w[:, None]
        h, g = jw.T @ row.j, jw.T @ row.r
        own = [(6 * free.index(k), s) for k, s in ((link.moving, 1.0), (link.on, -1.0)) if k in free]
        for i, si in own:
            b[i : i + 6] += si * g
            for j, sj in own:
                a[i : i + 6, j : j + 6] += si * sj * h
    return a, b


def _settlement(links, rows, now, free, middle, rounds) -> Settlement:
    fits = []
    for row in rows:
        rms = float(np.sqrt(np.average(row.r[row.used] ** 2))) if row.used.any() else float("inf")
        fits.append(LinkFit(rms, float(row.used.mean()), row.r, row.y, row.used))
    covariance, noise, warp, weakest = covariance_of(links, rows, free)
    # From turns about the middle to turns about the world's origin: x' = x + turn × (−middle).
    shift = np.eye(6 * len(free))
    cross = np.array([[0, middle[2], -middle[1]], [-middle[2], 0, middle[0]], [middle[1], -middle[0], 0]])
    for i in range(len(free)):
        shift[6 * i + 3 : 6 * i + 6, 6 * i : 6 * i + 3] = -cross
    return Settlement(now, tuple(fits), free, shift @ covariance @ shift.T, noise, warp, rounds, weakest)
