"""Rough placements without a start: bite scans along the cheek side of a jaw, whole arches by their own frames."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from ..ops.rigid import placed, unit
from ..ops.starts import Candidate, Samples, best_of
from .occlusal import frame_basis

# Cheek side: from this far over the tips to this far under them, turned outwards at least so much (common practice).
_OVER_MM, _UNDER_MM, _OUTWARD = 1.0, 9.0, 0.35
# A scan wider than this in two directions may go round the arch.
_WIDE_MM = 32.0
_STEP_DEG, _REACH_DEG = 7.0, 112.0
# Where lower incisors stand in bites that are scanned: behind the upper ones, and under their edges (common practice: some 10 mm
# forward or open at most); what opens turns about joints so far behind them.
_BACK_MM, _OPEN_MM = (-6.0, -3.0, 0.0, 3.0, 6.0), (-3.5, -1.0, 1.5, 4.0, 7.0, 10.0)
_HINGE_MM = 95.0


@dataclass(frozen=True)
class Arch:
    """A jaw to place things on: samples of its surface; up to the tips, front to the lips, incisal (3,) mm."""

    samples: Samples
    up: NDArray[np.float64]
    front: NDArray[np.float64]
    incisal: NDArray[np.float64]

    def local(self, points: NDArray) -> NDArray[np.float64]:
        """(k, 3) side, back, up from the incisal point."""
        return (points - self.incisal) @ frame_basis(self.up, self.front).T


def strips_on(strip: Samples, arch: Arch) -> list[Candidate]:
    """Where a narrow scan of the cheek side may lie on the jaw, the best first. Every place along the arch is tried, each
    with either end in front."""
    starts = _strip_starts(strip, arch)
    # One side of an opened bite, with much gum, is as wide as one that goes round.
    if _spread(strip)[1][1] > _WIDE_MM:
        starts = np.concatenate([_round_starts(strip, arch), starts])
    return best_of(strip, _cheek_side(arch), starts)


def strips_near(strip: Samples, arch: Arch, starts: NDArray) -> list[Candidate]:
    """The same from (s, 4, 4) starts."""
    return best_of(strip, _cheek_side(arch), starts)


def closed_relations(upper: Arch, lower: Arch) -> NDArray:
    """(s, 4, 4) lower to upper as jaws about stand when scanned together: face to face, fronts alike, from the lower far forward
    to far back, from deep bites to those opened for a splint."""
    a, b = frame_basis(upper.up, upper.front), frame_basis(lower.up, lower.front)
    out = []
    for back, opened in itertools.product(_BACK_MM, _OPEN_MM):
        swung = Rotation.from_euler("x", -max(opened, 0.0) / _HINGE_MM).as_matrix()
        turn = a.T @ swung @ np.diag([-1.0, 1.0, -1.0]) @ b
        one = placed(turn, np.zeros(3))
        one[:3, 3] = upper.incisal + a.T @ [0.0, back, opened] - turn @ lower.incisal
        out.append(one)
    return np.array(out)


def _cheek_side(arch: Arch) -> Samples:
    local = arch.local(arch.samples.points_mm)
    return arch.samples.where((local[:, 2] < _OVER_MM + 2.0) & (local[:, 2] > -_UNDER_MM - 6.0) & (_outward(arch, local) > -0.2))


def _outward(arch: Arch, local: NDArray) -> NDArray:
    """(k,) how far each normal is turned away from the middle of the arch."""
    ray = local[:, :2] - [0.0, _centre(local)]
    ray /= np.maximum(np.linalg.norm(ray, axis=1), 1e-9)[:, None]
    normal = arch.samples.normals @ frame_basis(arch.up, arch.front).T
    return np.einsum("ij,ij->i", normal[:, :2], ray)


def _centre(local: NDArray) -> float:
    """How far behind the incisors the rays to the cheek side start (mm)."""
    low, high = np.quantile(local[:, 1], [0.01, 0.99])
    return float(low + 0.62 * (high - low))


def _spread(strip: Samples) -> tuple[NDArray, NDArray]:
    """((3, 3) rows: principal axes, the widest first; (3,) extents along them in mm)."""
    off = strip.points_mm - strip.points_mm.mean(0)
    axes = np.linalg.svd(off, full_matrices=False)[2]
    return axes, np.ptp(off @ axes.T, axis=0)


def _round_starts(strip: Samples, arch: Arch) -> NDArray:
    """Of a scan that goes all round, as of mounted models: its thin way up or down, turned about it by all angles."""
    axes, _ = _spread(strip)
    basis = frame_basis(arch.up, arch.front)
    local = arch.local(arch.samples.points_mm)
    cheek = local[(local[:, 2] < _OVER_MM) & (local[:, 2] > -_UNDER_MM) & (_outward(arch, local) > _OUTWARD)]
    there = np.array([*cheek[:, :2].mean(0), 0.0])
    middle = strip.points_mm.mean(0)
    starts = []
    for up in (1.0, -1.0):
        own = np.stack([axes[0], np.cross(axes[2] * up, axes[0]), axes[2] * up])
        for turn in np.arange(0.0, 360.0, 20.0):
            yaw = Rotation.from_euler("z", turn, degrees=True).as_matrix()
            rotation = basis.T @ yaw @ own
            start = placed(rotation, np.zeros(3))
            start[:3, 3] = arch.incisal + basis.T @ there - rotation @ middle
            starts.append(start)
    return np.array(starts)


def _strip_starts(strip: Samples, arch: Arch) -> NDArray:
    basis = frame_basis(arch.up, arch.front)
    local = arch.local(arch.samples.points_mm)
    cheek = (local[:, 2] < _OVER_MM) & (local[:, 2] > -_UNDER_MM) & (_outward(arch, local) > _OUTWARD)
    at = local[cheek]
    angle = np.degrees(np.arctan2(at[:, 0], _centre(local) - at[:, 1]))
    normals = arch.samples.normals[cheek] @ basis.T
    middle = strip.points_mm.mean(0)
    out = unit(strip.normals.mean(0))
    spread = strip.points_mm - middle
    spread = spread - np.outer(spread @ out, out)
    along = unit(np.linalg.svd(spread, full_matrices=False)[2][0])
    along = unit(along - out * (along @ out))
    own = np.stack([along, np.cross(out, along), out])
    starts = []
    for a in np.arange(-_REACH_DEG, _REACH_DEG + 1, _STEP_DEG):
        near = np.abs(angle - a) < 14.0
        if near.sum() < 12:
            continue
        n = normals[near].mean(0)
        n = unit([n[0], n[1], 0.0])
        anchor = at[near].mean(0)
        anchor[2] = 0.0
        tangent = np.cross([0.0, 0.0, 1.0], n)
        for sign in (1.0, -1.0):
            there = np.stack([tangent * sign, np.cross(n, tangent * sign), n])
            rotation = basis.T @ there.T @ own
            start = placed(rotation, np.zeros(3))
            start[:3, 3] = arch.incisal + basis.T @ anchor - rotation @ middle
            starts.append(start)
    return np.array(starts).reshape(-1, 4, 4)


def arches_on(moving: Arch, on: Arch) -> list[Candidate]:
    """A whole arch (or most of one) on another of the same jaw: their own frames laid on each other, and some way about."""
    a, b = frame_basis(moving.up, moving.front), frame_basis(on.up, on.front)
    starts = []
    for turn in (-14.0, -6.0, 0.0, 6.0, 14.0):
        for tilt in (-7.0, 0.0, 7.0):
            for back in (-6.0, 0.0, 6.0):
                swing = Rotation.from_euler("xz", [tilt, turn], degrees=True).as_matrix()
                rotation = b.T @ swing @ a
                start = placed(rotation, np.zeros(3))
                start[:3, 3] = on.incisal + b.T @ [0.0, back, 0.0] - rotation @ moving.incisal
                starts.append(start)
    return best_of(moving.samples, on.samples, np.array(starts))


def turned_arches_on(moving: Arch, on: Arch) -> list[Candidate]:
    """The same where the further scan's own frame is not to be trusted, as of a denture, both sides of which look like a
    jaw: upside down, back to front, or both; middle on middle and some way about."""
    a, b = frame_basis(moving.up, moving.front), frame_basis(on.up, on.front)
    middle, there = moving.samples.points_mm.mean(0), on.samples.points_mm.mean(0)
    starts = []
    for flip in ((1.0, -1.0, -1.0), (-1.0, 1.0, -1.0), (-1.0, -1.0, 1.0)):
        for turn, tilt, back, up in itertools.product((-12.0, 0.0, 12.0), (-10.0, 0.0, 10.0), (-6.0, 0.0, 6.0), (-5.0, 0.0, 5.0)):
            swing = Rotation.from_euler("xz", [tilt, turn], degrees=True).as_matrix()
            rotation = b.T @ swing @ np.diag(flip) @ a
            starts.append(placed(rotation, there + b.T @ [0.0, back, up] - rotation @ middle))
    return best_of(moving.samples, on.samples, np.array(starts))
