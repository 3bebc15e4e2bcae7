"""Gum as a height over the jaw's floor plan: scalloped margin, papillae, attached gum, vestibule, frenum, palate, ridges."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from scipy.interpolate import CubicSpline
from scipy.spatial import cKDTree

from .places import Place
from .plan import ArchPlan


@dataclass(frozen=True)
class Floor:
    """The line through the necks of all teeth, right to left, carried on behind the last ones."""

    line: NDArray[np.float64]  # (k, 2)
    run: NDArray[np.float64]  # (k,) mm along it, 0 in the middle
    at: NDArray[np.float64]  # (n,) where each tooth stands on it
    places: list[Place]
    end: tuple[float, float]  # the distal faces of the last teeth

    def across(self, points: NDArray) -> tuple[NDArray, NDArray]:
        """(along, across) of (m, 2) points; across is positive towards the cheek."""
        _, near = cKDTree(self.line).query(points)
        tangent = np.gradient(self.line, axis=0)
        tangent /= np.linalg.norm(tangent, axis=1, keepdims=True)
        normal = np.c_[tangent[:, 1], -tangent[:, 0]]
        return self.run[near], np.einsum("ij,ij->i", points - self.line[near], normal[near])


def floor_of(places: list[Place]) -> Floor:
    side = sorted(places, key=lambda p: (1 if p.fdi // 10 in (2, 3, 6, 7) else -1) * (p.fdi % 10))
    neck = np.array([p.origin_mm[:2] for p in side])
    ends = [neck[0] + (neck[0] - neck[1]) / np.linalg.norm(neck[0] - neck[1]) * 16]
    ends += [neck[-1] + (neck[-1] - neck[-2]) / np.linalg.norm(neck[-1] - neck[-2]) * 16]
    knots = np.vstack([ends[0], neck, ends[1]])
    for _ in range(2):
        # Crowding is of the teeth; the jaw under them is smoother.
        knots[2:-2] = 0.25 * knots[1:-3] + 0.5 * knots[2:-2] + 0.25 * knots[3:-1]
    t = np.r_[0, np.cumsum(np.linalg.norm(np.diff(knots, axis=0), axis=1))]
    line = CubicSpline(t, knots)(np.linspace(0, t[-1], 1600))
    run = np.r_[0, np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))]
    run -= run[np.argmin(line[:, 1])]
    _, near = cKDTree(line).query(neck)
    at = run[near]
    end = (at[0] - side[0].crown.md_mm / 2, at[-1] + side[-1].crown.md_mm / 2)
    return Floor(line, run, at, side, end)


def heights(plan: ArchPlan, upper: bool, floor: Floor, points: NDArray, rng: np.random.Generator) -> NDArray[np.float64]:
    """(m,) height of the gum over (m, 2) points of the plan, before rounding."""
    along, across = floor.across(points)
    base, arc, half, bare = _crest(floor, along, rng)
    base = base - plan.build.recession_mm
    # Without teeth the ridge is round.
    base = base - 1.6 * bare * np.clip(np.abs(across) / half, 0, 1.4) ** 2
    wave = 0.22 * np.sin(along * 0.37 + rng.uniform(0, 6)) + 0.15 * np.sin(along * 0.9 + rng.uniform(0, 6))
    out = np.clip(np.abs(across) - half, 0, None)
    cheek = across > 0
    # The scallops belong to the margin: they are gone a few millimetres from the teeth.
    crest = base + arc * np.exp(-((out / 1.9) ** 2)) + 1.5 * (1 - np.exp(-((out / 1.9) ** 2)))
    deep = 11.0 + 2 * wave + (1.8 if upper else 0.4) * np.cos(np.clip(along / 50, -1, 1) * np.pi)
    # A free margin that rolls over, then the attached gum, bulging over each root.
    root = _over_roots(floor, along)
    length = np.where(cheek, 3.1 + 0.55 * root, 3.4)
    shoulder = 0.30 * np.minimum(out / 0.6, 1.0) + deep * (1 - np.exp(-((out / length) ** 1.35)))
    flare = 0.30 * np.clip(out - 5.6, 0, None) ** 1.6 * cheek
    frenum = 2.6 * np.exp(-((along / 1.1) ** 2)) * np.clip((out - 2.2) / 4, 0, 1) * cheek
    frenum += 1.2 * np.exp(-(((np.abs(along) - 20) / 0.9) ** 2)) * np.clip((out - 3.2) / 4, 0, 1) * cheek
    top = crest - shoulder + flare + frenum + 0.4 * wave * np.clip(out, 0, 1)
    return np.where(cheek, top, _palate(points, crest, half, across, plan.build.vault)) if upper else top


def _crest(floor: Floor, along: NDArray, rng: np.random.Generator) -> tuple[NDArray, NDArray, NDArray, NDArray]:
    """(height of the margin at the middle of a tooth, how much it rises towards the papillae, half the width of the
    ridge, how bare of teeth it is) along the jaw."""
    neck = np.array([p.origin_mm[2] for p in floor.places])
    wide = np.array([p.crown.md_mm for p in floor.places])
    thick = np.array([0.41 * p.crown.bl_mm if p.crown.number < 4 else 0.43 * p.crown.bl_mm for p in floor.places]) + 0.15
    gone = np.array([p.missing for p in floor.places])
    papilla = np.array([{1: 3.6, 2: 3.4, 3: 3.2, 4: 2.7, 5: 2.6}.get(p.crown.number, 2.1) for p in floor.places])
    papilla = papilla + rng.normal(0, 0.15, len(papilla))
    nearest = np.abs(along[:, None] - floor.at[None]).argmin(1)
    t = np.clip(np.abs(along - floor.at[nearest]) / (wide[nearest] / 2), 0, 1)
    smooth = ndimage.gaussian_filter1d(neck, 0.6)
    base = np.interp(along, floor.at, smooth) + 0.35
    arc = np.where(gone[nearest], -0.9 + 0.9 * t**2, papilla[nearest] * t**2.3)
    # Beside a gap the papilla is lost.
    shift = np.where(along > floor.at[nearest], 1, -1)
    other = np.clip(nearest + shift, 0, len(neck) - 1)
    arc *= np.where(gone[other] & ~gone[nearest], 1 - 0.75 * t, 1.0)
    behind = np.clip(np.maximum(floor.end[0] - along, along - floor.end[1]), 0, None)
    pad = 1.1 * np.exp(-(((behind - 4.5) / 2.2) ** 2)) * np.clip(behind, 0, 1)
    arc = arc * np.exp(-behind / 1.2)
    half = np.interp(along, floor.at, ndimage.gaussian_filter1d(thick, 0.5)) - 0.10 * np.clip(behind, 0, 8)
    bare = np.maximum(np.clip(behind / 3.0, 0, 1), gone[nearest] * (1 - t**4))
    return base + pad - 0.10 * behind, arc, half - np.where(gone[nearest], 0.9 * (1 - t**2), 0.0), bare


def _over_roots(floor: Floor, along: NDArray) -> NDArray:
    out = np.zeros_like(along)
    for p, s in zip(floor.places, floor.at, strict=True):
        if not p.missing:
            strength = {3: 1.5, 1: 0.8, 2: 0.7}.get(p.crown.number, 0.9)
            out += strength * np.exp(-(((along - s) / (0.30 * p.crown.md_mm)) ** 2))
    return out


def _palate(points: NDArray, crest: NDArray, half: NDArray, across: NDArray, deep: float) -> NDArray:
    depth = np.clip(-across - half, 0, None)
    vault = crest - 0.3 * np.minimum(depth / 0.6, 1) - 13.0 * deep * (1 - np.exp(-((depth / 8.6) ** 1.4)))
    x, y = points[:, 0], points[:, 1]
    seam = np.clip(1 - np.abs(x) / 1.5, 0, 1) * 0.45 * np.clip((y - 9) / 6, 0, 1)
    rugae = 0.60 * np.sin(y * 1.25 - np.abs(x) * 0.42 + 0.8 * np.sin(x * 0.6)) ** 3
    rugae *= np.clip((np.abs(x) - 1.0) / 2, 0, 1) * np.exp(-(((y - 14.5) / 6.0) ** 4)) * np.clip(depth / 4, 0, 1)
    papilla = 1.0 * np.exp(-((x / 1.7) ** 2) - (((y - 8.0) / 2.4) ** 2))
    return vault + seam + rugae + papilla


def rounded(top: NDArray, step_mm: float) -> NDArray[np.float64]:
    return ndimage.gaussian_filter(top, 0.28 / step_mm)
