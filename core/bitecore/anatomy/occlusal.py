"""The occlusal plane and the midline of one jaw, from its cusps and incisal edges.

The plane runs through the incisal point and the buccal cusp tips; the midline is the line about which the arch is
most nearly its own mirror image.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.spatial import cKDTree

from ..errors import StepFailed
from ..mesh import Mesh, used_vertices
from ..ops.mend import largest_piece
from ..ops.rigid import frame_to_axes, unit
from .jawshape import area_samples, mirror_axis

# The mirror line is sought at first, and again when the plane has settled.
_MIRROR_ROUNDS = (0, 2, 5)
# Depths under the tips (mm): crowns, and the arch with its gum, which is there where teeth are missing too.
_CROWN_MM, _ARCH_MM, _SOFT_MM = 5.0, 15.0, 0.8
# Front teeth reach so far behind the foremost (mm; common practice, no source).
_FRONT_MM = 16.0
# Tips of one jaw lie so far off any plane (curves of Spee and Wilson; generated mouths): with less, planes that keep or leave out
# a lone molar find each other by turns.
_LEAST_SPREAD_MM = 0.6
# So many cusps make a plane, with some of them so far out on either side.
_LEAST_CUSPS, _EITHER_SIDE_MM = 4, 8.0
# What has nothing of the scan so near is of its mirror image.
_BESIDE_MM = 1.0
# One in every 0.15 mm: of a finer scan, the others know nothing of tips that these do not.
_VERTICES = 150_000


@dataclass(frozen=True)
class OcclusalFrame:
    """In the jaw's own frame: origin_mm where the midline meets the plane at the incisors, up to the tips, front."""

    origin_mm: NDArray[np.float64]
    up: NDArray[np.float64]
    front: NDArray[np.float64]
    tips_mm: NDArray[np.float64]
    spread_mm: float  # RMS of the tips off the plane


def frame_basis(up: NDArray, front: NDArray) -> NDArray:
    """(3, 3) rows: side, back, up; side × back = up."""
    up = up / np.linalg.norm(up)
    back = -(front - up * (front @ up))
    back /= np.linalg.norm(back)
    return np.stack([np.cross(back, up), back, up])


def occlusal_frame(mesh: Mesh, *, up: NDArray, front: NDArray, midline_mm: ArrayLike | None = None) -> OcclusalFrame:
    """Refine a rough up and front (within about 25 degrees) on mesh vertices in mm. midline_mm : (3,) of a part of an arch, a place on its
    midline: what lacks on the other side is taken to be the mirror image of what is there."""
    mesh = largest_piece(mesh)  # floating bits have no cusps
    points = area_samples(mesh, 12_000)
    vertices = mesh.vertices_mm[used_vertices(mesh)]
    if len(vertices) > _VERTICES:
        vertices = vertices[np.linspace(0, len(vertices) - 1, _VERTICES).astype(int)]
    if midline_mm is None:
        return _refined(points, vertices, up, front)
    side = frame_basis(up, front)[0]
    both = [mirrored(p, np.asarray(midline_mm, float), side) for p in (points, vertices)]
    frame = _refined(both[0], both[1], up, front)
    there = cKDTree(points).query(frame.tips_mm, distance_upper_bound=_BESIDE_MM)[0]
    return replace(frame, tips_mm=frame.tips_mm[np.isfinite(there)])


def mirrored(points: NDArray[np.float64], at_mm: NDArray[np.float64], side: NDArray[np.float64]) -> NDArray[np.float64]:
    """(2n, 3) the points, and their mirror images across the midline through at_mm; side : (3,) across it."""
    return np.vstack([points, points - 2 * np.outer((points - at_mm) @ side, side)])


def _refined(points: NDArray, vertices: NDArray, up: NDArray, front: NDArray) -> OcclusalFrame:
    offset = 0.0
    for turn in range(6):
        basis = frame_basis(up, front)
        if turn in _MIRROR_ROUNDS:
            wide = np.radians(np.arange(-12, 12.5, 2.0) if turn == 0 else np.arange(-2, 2.1, 1.0))
            angle, offset = _midline(points @ basis.T, wide)
            front = -(basis[0] * np.sin(angle) + basis[1] * np.cos(angle))
            basis = frame_basis(up, front)
        tips = _outer_tips(vertices @ basis.T - [offset, 0, 0])
        if len(tips) < 5:
            raise StepFailed("Too few tips and edges stand out of this scan to find the occlusal plane. Is it a jaw?", code="no-tips")
        slope, keep = _plane(tips)
        up = unit(basis[2] - slope[0] * basis[0] - slope[1] * basis[1])
    other = _by_incisors(tips[keep])
    if other is not None:
        up = unit(up + unit(basis[2] - other[0] * basis[0] - other[1] * basis[1]))
    flat = frame_basis(up, front)
    tips = (tips[keep] + [offset, 0, 0]) @ basis @ flat.T
    offset = _middle(points @ flat.T)
    height = float(np.median(tips[:, 2]))
    local = vertices @ flat.T
    edge = local[(np.abs(local[:, 0] - offset) < 4.0) & (local[:, 2] > height - 2.0)]
    front_most = edge[edge[:, 1] < np.quantile(edge[:, 1], 0.02) + 7.0] if len(edge) else tips
    # Of a plane nothing is higher than the rest.
    high = front_most[:, 2] > np.quantile(front_most[:, 2], 0.9)
    crown = front_most[high] if high.any() else front_most
    origin = np.array([offset, float(np.median(crown[:, 1])), float(tips[:, 2].mean())]) @ flat
    spread = float(np.sqrt(np.mean((tips[:, 2] - tips[:, 2].mean()) ** 2)))
    return OcclusalFrame(origin, up, -flat[1], tips @ flat, spread)


def by_teeth(frame: OcclusalFrame, tips: Mapping[int, NDArray]) -> OcclusalFrame:
    """The frame by the tips of teeth that are known (FDI number to (t, 3) on the cheek side, mm, in the jaw's own frame): the plane through
    the incisal point and best through the buccal cusps, half way to the one by the shape alone: each errs otherwise. The frame as it
    is where there are no central incisors or too few back teeth."""
    incisors = [t[0] for fdi, t in tips.items() if fdi % 10 == 1 and len(t)]
    cusps = np.array([p for fdi, t in tips.items() if fdi % 10 > 3 for p in t]).reshape(-1, 3)
    if not incisors or len(cusps) < _LEAST_CUSPS:
        return frame
    incisal, basis = np.mean(incisors, axis=0), frame_basis(frame.up, frame.front)
    off = (cusps - incisal) @ basis.T
    if min(off[:, 0].max(), -off[:, 0].min()) < _EITHER_SIDE_MM:
        return frame
    slope = np.linalg.lstsq(off[:, :2], off[:, 2], rcond=None)[0]
    up = unit(frame.up + unit(basis[2] - slope[0] * basis[0] - slope[1] * basis[1]))
    points = np.vstack([incisal, cusps])
    height = points @ up
    origin = frame.origin_mm + up * (height.mean() - frame.origin_mm @ up)
    return OcclusalFrame(origin, up, unit(frame.front - up * (frame.front @ up)), points, float(height.std()))


def _layer(local: NDArray, deep_mm: float) -> NDArray[np.float64]:
    """(k, 2) plan of what lies less than so deep under the tips."""
    return local[local[:, 2] > np.quantile(local[:, 2], 0.997) - deep_mm][:, :2]


def _midline(local: NDArray, wide: NDArray) -> tuple[float, float]:
    """(angle in radians, offset mm) of the arch's mirror line. With its gum: crowns alone lean to the side that has more."""
    plan = _layer(local, _ARCH_MM)
    angle = mirror_axis(plan, wide, soft_mm=_SOFT_MM)[0]
    angle, offset, _ = mirror_axis(plan, angle + np.radians(np.arange(-1, 1.1, 0.25)), soft_mm=_SOFT_MM)
    return angle, offset


def _middle(local: NDArray) -> float:
    """Where the mirror line of known direction lies (mm along the side): by the whole arch, by the crowns and by the front
    teeth. The middle of the three: one alone may follow a one-sided gap, a torn border or a crowded front."""
    crowns = _layer(local, _CROWN_MM)
    front = crowns[crowns[:, 1] < np.quantile(crowns[:, 1], 0.02) + _FRONT_MM]
    return float(np.median([mirror_axis(plan, np.zeros(1), soft_mm=_SOFT_MM)[1] for plan in (_layer(local, _ARCH_MM), crowns, front)]))


def _by_incisors(tips: NDArray) -> NDArray[np.float64] | None:
    """Slopes of the plane that goes through the incisal point and best through the cusps behind the canines; None where
    too few are left. The plane is so defined; through all tips it is steadier. Each is off by 2 to 3 degrees in some jaws."""
    middle = tips[np.abs(tips[:, 0]) < 4.5]
    near = middle if len(middle) else tips
    incisal = near[near[:, 1] < near[:, 1].min() + 5.0].mean(0)
    behind = tips[tips[:, 1] > incisal[1] + 9.0] - incisal
    return np.linalg.lstsq(behind[:, :2], behind[:, 2], rcond=None)[0] if len(behind) >= 4 else None


def _outer_tips(local: NDArray) -> NDArray:
    """(k, 3) one point for each stretch of the arch: the highest near its cheek side."""
    top = np.quantile(local[:, 2], 0.9995)
    near = local[local[:, 2] > top - 7.0]
    low, high = np.quantile(near[:, 1], [0.005, 0.995])
    centre = np.array([0.0, low + 0.62 * (high - low)])
    ray = near[:, :2] - centre
    angle, radius = np.arctan2(ray[:, 0], -ray[:, 1]), np.linalg.norm(ray, axis=1)
    out = []
    edges = np.radians(np.arange(-112, 113, 7.0))
    stretch = np.searchsorted(edges, angle, side="right")
    order = np.argsort(stretch, kind="stable")
    near, radius = near[order], radius[order]
    starts = np.searchsorted(stretch[order], np.arange(1, len(edges) + 1))
    for a, b in itertools.pairwise(starts):
        if b - a < 8:
            continue
        part, r = near[a:b], radius[a:b]
        peak = part[:, 2].max()
        # Cheek-side cusps and edges: the outermost of what is nearly as high as the highest here.
        crest = part[:, 2] > peak - 1.2
        outer = crest & (r > r[crest].max() - 3.2)
        best = int(np.where(outer, part[:, 2], -np.inf).argmax())
        out.append(part[best])
    return np.array(out).reshape(-1, 3)


def _plane(tips: NDArray) -> tuple[NDArray, NDArray[np.bool_]]:
    """Slopes of z = a x + b y + c through the tips, gaps (tips far below) left out; and which tips were used."""
    keep = tips[:, 2] > np.median(tips[:, 2]) - 3.0
    fit = np.zeros(3)
    for _ in range(8):
        a = np.c_[tips[keep, :2], np.ones(keep.sum())]
        fit = np.linalg.lstsq(a, tips[keep, 2], rcond=None)[0]
        off = tips[:, 2] - np.c_[tips[:, :2], np.ones(len(tips))] @ fit
        spread = max(float(np.median(np.abs(off[keep]))) * 1.4826, _LEAST_SPREAD_MM)
        new = (off > -2.2 * spread) & (off < 3.0 * spread)
        if new.sum() < 5 or (new == keep).all():
            break
        keep = new
    return fit[:2], keep


def bench_of(frame: OcclusalFrame, jaw: str) -> NDArray[np.float64]:
    """(4, 4) from the jaw's home to the bench its own plane and midline give: an upper's tips point down there."""
    z = unit(frame.up if jaw == "lower" else -frame.up)
    y = unit(-frame.front - z * (-frame.front @ z))
    return frame_to_axes(frame.origin_mm, np.cross(y, z), y, z)
