"""What is left after settling, and how far off other points may be because of it.

Two errors are taken for granted: white noise, and a slow error of the scanners that is alike within some 20 mm; both are
measured in the residuals left over (variance components, as in adjustment computation).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import minimize

from .links import Link, Rows

# Directions in which the surfaces stand against a movement less than this share of the best-held one are free.
HELD, LEVER_MM = 1e-4, 25.0
_UNHELD_MM = 1.0
_WARP_LENGTH_MM = 20.0
# The two errors are told from each other by some patches, for all of them are held against all; what they do to the poses
# is carried by finer ones, over which the normals change little.
_CELLS, _FINE_CELLS = 80, 320
# Of a patch that lies on the other surface, so much of its weight answers to a movement.
_LIES = 0.2
# Slow error of intraoral scanners over an arch (common practice, no source).
_USUAL_WARP_MM, _FACTOR = 0.008, 2.2
# Two copies of one scan differ by nothing; their variance is taken to be at least that of a file's rounding (mm²).
_NEVER_LESS = 1e-12


def covariance_of(links: Sequence[Link], rows: Sequence[Rows], free: tuple[str, ...]) -> tuple[NDArray, float, float, NDArray]:
    """((6 f, 6 f) covariance of small turns about the middle and shifts of the free bodies, scatter of single points mm,
    slow error mm, (6 f,) the direction least held)."""
    cells, fine = (_cells(links, rows, free, count) for count in (_CELLS, _FINE_CELLS))
    if cells is None or fine is None:
        return np.eye(6 * len(free)) * _UNHELD_MM**2, 0.0, 0.0, np.zeros(6)
    # Turns as millimetres at a lever's length, so that all directions can be compared.
    lever = np.tile([1 / LEVER_MM] * 3 + [1.0] * 3, len(free))
    value, vector = _held(cells, lever)
    times, warp2 = _components(cells, cells.j * lever @ vector[:, value > HELD * value.max()])
    value, vector = _held(fine, lever)
    least = HELD * value.max()
    inverse = vector @ np.diag(1 / np.maximum(value, 1e-9 * value.max())) @ vector.T
    gain = inverse @ (fine.j * lever * fine.w[:, None]).T
    # What no surface stands against is as uncertain as the start was, however small the residuals.
    unheld = vector @ np.diag(_UNHELD_MM**2 * (least / (np.maximum(value, 0.0) + least)) ** 4) @ vector.T
    covariance = gain @ (np.diag(times * fine.white) + warp2 * fine.alike()) @ gain.T + unheld
    covariance *= lever[:, None] * lever[None, :]
    return covariance, _noise(rows), float(np.sqrt(3 * warp2)), vector[:, 0]


def _held(cells: _Cells, lever: NDArray) -> tuple[NDArray, NDArray]:
    """How strongly each direction is held, the least first, and the directions."""
    j = cells.j * lever
    return np.linalg.eigh((j * cells.w[:, None]).T @ j)


def _components(cells: _Cells, held: NDArray) -> tuple[float, float]:
    """(what the white variances are to be multiplied with, variance of the slow error a direction in mm²), the likeliest
    for the residuals whatever the poses are: restricted maximum likelihood (Patterson and Thompson 1971; from memory).
    held : (k, h) the cells' equations in the directions that are held."""
    usual, root = float(cells.white.mean()), np.sqrt(cells.white)
    before = float(np.log(_USUAL_WARP_MM**2 / 3 / usual))
    # In the axes of the slow error both are a number for each axis, whatever their sizes.
    size, axes = np.linalg.eigh(usual * cells.alike() / (root[:, None] * root))
    size = np.maximum(size, 0.0)
    j, r = axes.T @ (held / root[:, None]), axes.T @ (cells.r / root)

    def unlikely(x: NDArray) -> float:
        v = np.exp(x[0]) + np.exp(x[1]) * size
        jw = j / v[:, None]
        jj, jr = j.T @ jw, jw.T @ r
        log_det = np.log(v).sum() + np.linalg.slogdet(jj)[1]
        # The slow error is taken to be some 8 µm beforehand, within a factor of some three.
        expected = 0.5 * ((x[1] - before) / _FACTOR) ** 2 + 0.5 * (x[0] / 0.5) ** 2
        return float(0.5 * (log_det + r @ (r / v) - jr @ np.linalg.solve(jj, jr)) + expected)

    # Corners of its own: those it takes by itself are as near as the start is to nought.
    corners = np.array([[0.0, before], [0.4, before], [0.0, before - 1.0]])
    options = {"xatol": 0.03, "fatol": 0.02, "maxiter": 60, "initial_simplex": corners}
    best = minimize(unlikely, corners[0], method="Nelder-Mead", options=options).x
    return float(np.exp(best[0])), float(np.exp(best[1]) * usual)


def _noise(rows: Sequence[Rows]) -> float:
    """Scatter of single points about what is near them is most of the residual's own, robustly (mm)."""
    found = np.concatenate([row.r[row.used] for row in rows])
    return float(1.4826 * np.median(np.abs(found))) if len(found) else 0.0


@dataclass
class _Cells:
    """Means over patches of some millimetres; j for all free bodies; white : (k,) variance of each mean by noise alone,
    from the differences between the halves of all."""

    j: NDArray
    r: NDArray
    w: NDArray
    white: NDArray
    y: NDArray
    n: NDArray
    moving: NDArray
    on: NDArray

    def alike(self) -> NDArray:
        """Covariance of the slow error along the normals for one unit of variance a direction."""
        d2 = ((self.y[:, None, :] - self.y[None, :, :]) ** 2).sum(2)
        shared = (self.moving[:, None] == self.moving).astype(float) + (self.on[:, None] == self.on)
        shared -= (self.moving[:, None] == self.on).astype(float) + (self.on[:, None] == self.moving)
        return shared * (self.n @ self.n.T) * np.exp(-d2 / (2 * _WARP_LENGTH_MM**2))


def _cells(links: Sequence[Link], rows: Sequence[Rows], free: tuple[str, ...], many: int) -> _Cells | None:
    bodies = {k: i for i, k in enumerate({b for link in links for b in (link.moving, link.on)})}
    parts: list[tuple] = []
    total = sum(int(row.used.sum()) for row in rows)
    for link, row in zip(links, rows, strict=True):
        use = np.flatnonzero(row.used & (row.w > 0))
        if len(use) < 8:
            continue
        count = max(8, int(many * len(use) / max(total, 1)))
        half = _grouped(row.y[use], row.n[use], 2 * count)
        label = half // 2
        own, slope, r = row.w[use], row.slope[use], row.r[use]
        weight = np.bincount(label, slope)

        def mean(x, own=own, label=label):
            columns = np.atleast_2d(x.T)
            sums = np.stack([np.bincount(label, c * own) for c in columns], 1) / np.bincount(label, own)[:, None]
            return sums.reshape((len(sums),) + x.shape[1:])

        k = len(weight)
        # A patch that lies off as a whole has changed: its points count for next to nothing, nor does it tell of errors.
        lies = _lying(half, slope, own).reshape(-1, 2).all(1)
        halves = np.bincount(half, r * own) / np.where(np.repeat(lies, 2), np.bincount(half, slope), 1.0)
        # Noise falls with the weight, and two halves differ by that of both.
        part = np.where(np.repeat(lies, 2), np.bincount(half, slope), 1.0)
        one = (halves[0::2] - halves[1::2]) ** 2 / (1 / part[0::2] + 1 / part[1::2])
        white = np.maximum((float(one[lies].mean()) if lies.any() else 0.0) / np.where(lies, weight, 1.0), _NEVER_LESS)
        j = np.zeros((k, 6 * len(free)))
        mine = mean(row.j[use])
        for body, sign in ((link.moving, 1.0), (link.on, -1.0)):
            if body in free:
                at = 6 * free.index(body)
                j[:, at : at + 6] += sign * mine
        columns = (j, np.bincount(label, r * own) / np.where(lies, weight, 1.0), weight, white, mean(row.y[use]), mean(row.n[use]),
                   np.full(k, bodies[link.moving]), np.full(k, bodies[link.on]))  # fmt: skip
        parts.append(tuple(c[lies] for c in columns))
    found = [np.concatenate(x) for x in zip(*parts, strict=True)] if parts else []
    return _Cells(*found) if found and len(found[0]) >= 8 else None


def _lying(label: NDArray, slope: NDArray, own: NDArray) -> NDArray[np.bool_]:
    """Of each group of points: do most of them lie on the other surface?"""
    return np.bincount(label, slope) > _LIES * np.bincount(label, own)


def _grouped(y: NDArray, n: NDArray, count: int) -> NDArray:
    """(k,) patch numbers, all of nearly one size: halved along the widest direction of place and normal until there are
    `count` or so. Patches 2i and 2i + 1 are the halves of one."""
    features = np.concatenate([y, 4.0 * n], axis=1)
    order = [np.arange(len(y))]
    while len(order) < count and len(order[-1]) >= 4:
        halves = []
        for part in order:
            axis = int(np.ptp(features[part], axis=0).argmax())
            split = part[np.argsort(features[part, axis], kind="stable")]
            halves += [split[: len(part) // 2], split[len(part) // 2 :]]
        order = halves
    label = np.zeros(len(y), int)
    for i, part in enumerate(order):
        label[part] = i
    return label
