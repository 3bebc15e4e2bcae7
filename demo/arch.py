"""A pair of invented jaws by seed, scanned as scanners do: open ragged border, holes, floating bits, noise.

Frame of the truth: bench (+x patient's left, +y back, +z up), mm. First generator: good enough to read at a glance.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from scipy.spatial import cKDTree
from skimage.measure import marching_cubes

from bitecore.mesh import Mesh, vector_area_mm2, vertex_normals
from bitecore.mesh.topology import at_border
from bitecore.ops.closest import ClosestPoints
from bitecore.ops.mend import largest_piece
from bitecore.ops.relief import mean_of_neighbours

from . import teeth


@dataclass(frozen=True)
class ArchPlan:
    """seed; grid_mm sets the density (0.30 gives about 150,000 triangles); gaps : FDI numbers of missing teeth."""

    seed: int = 1
    grid_mm: float = 0.30
    gaps: tuple[int, ...] = ()
    palate: bool = True
    noise_mm: float = 0.008
    crowding: float = 0.3


@dataclass(frozen=True)
class Place:
    fdi: int
    crown: teeth.Crown
    origin_mm: NDArray[np.float64]  # neck centre, teeth up
    axes: NDArray[np.float64]  # (3, 3) rows: u, v, w


def arch_curve(*, upper: bool, wide: float) -> NDArray[np.float64]:
    """(k, 2) x, y of the line through the crown centres of the left half and beyond, front to back."""
    y = np.linspace(0, 1, 4000) ** 2 * 62.0
    half, deep = (27.0 if upper else 24.6) * wide, 50.0
    x = half * np.sqrt(1 - (1 - np.clip(y / deep, 0, 1)) ** 2.1)
    return np.c_[x, y]


def _placed(plan: ArchPlan, upper: bool, rng: np.random.Generator) -> list[Place]:
    wide = rng.normal(1.0, 0.02)
    curve = arch_curve(upper=upper, wide=wide)
    run = np.r_[0, np.cumsum(np.linalg.norm(np.diff(curve, axis=0), axis=1))]
    size = rng.normal(1.0, 0.02)
    places = []
    for side in (1, -1):
        at = 0.0
        for number in range(1, 8):
            fdi = ((1 if side < 0 else 2) if upper else (4 if side < 0 else 3)) * 10 + number
            c = teeth.crown(number, upper=upper, scale=size * rng.normal(1.0, 0.012), wear_mm=float(rng.uniform(0, 0.3)))
            middle = at + c.md_mm / 2
            at += c.md_mm - 0.12
            x, y = np.interp(middle, run, curve[:, 0]), np.interp(middle, run, curve[:, 1])
            ahead = np.array([np.interp(middle + 0.5, run, curve[:, 0]) - x, np.interp(middle + 0.5, run, curve[:, 1]) - y])
            places.append(_place(plan, fdi, c, np.array([x * side, y]), ahead * [side, 1], side, upper, rng))
    return [p for p in places if p.fdi not in plan.gaps]


def _place(plan, fdi, c, at, along, side, upper, rng) -> Place:
    u = np.r_[along / np.linalg.norm(along), 0.0]
    cheek = np.array([u[1], -u[0], 0.0]) * side  # outward of the arch
    lean = {1: 16, 2: 13, 3: 6}.get(c.number, -2 if upper else -7) * (1.0 if upper or c.number > 3 else 0.7)
    lean, turn = np.radians(lean + rng.normal(0, 1.2)), np.radians(rng.normal(0, 2 + 5 * plan.crowding * (c.number < 4)))
    u, cheek = u * np.cos(turn) + cheek * np.sin(turn), cheek * np.cos(turn) - u * np.sin(turn)
    w = np.array([0.0, 0.0, np.cos(lean)]) + cheek * np.sin(lean)
    v = cheek * np.cos(lean) - np.array([0.0, 0.0, np.sin(lean)])
    # Tips lie on a gently curved plane (a compensating curve); the upper incisors reach past it.
    spee = -0.9 * np.sin(np.pi * np.clip(at[1] / 46.0, 0, 1))
    tip = (-spee if upper else spee) + {1: 1.1, 2: 0.6, 3: 0.9}.get(c.number, 0.0) * upper + rng.normal(0, 0.10)
    jitter = cheek * rng.normal(0, 0.15 + 0.9 * plan.crowding * (c.number < 4) * 0.5)
    origin = np.r_[at, tip] - w * c.height_mm * 1.0 + jitter * [1, 1, 0]
    return Place(fdi, c, origin, np.stack([u, v, w]))


@dataclass(frozen=True)
class _Grid:
    low: NDArray
    shape: tuple[int, int, int]
    step: float

    def axes(self) -> tuple[NDArray, NDArray, NDArray]:
        x, y, z = (self.low[i] + self.step * np.arange(self.shape[i]) for i in range(3))
        return x, y, z


def _gum(plan: ArchPlan, upper: bool, places: list[Place], grid: _Grid, rng) -> tuple[NDArray, NDArray, NDArray]:
    """(nx, ny, nz) signed gum, and per column the distance along and across the arch."""
    half = arch_curve(upper=upper, wide=1.0)
    centres = np.array([p.origin_mm[:2] + p.axes[2, :2] * p.crown.height_mm * 0.4 for p in places])
    line = np.vstack([half[::-1] * [-1, 1], half[1:]])
    run = np.r_[0, np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))]
    run -= run[-1] / 2
    x, y, z = grid.axes()
    column = np.stack(np.meshgrid(x, y, indexing="ij"), -1).reshape(-1, 2)
    _, near = cKDTree(line).query(column)
    tangent = np.gradient(line, axis=0)
    tangent /= np.linalg.norm(tangent, axis=1, keepdims=True)
    across = np.einsum("ij,ij->i", column - line[near], np.c_[tangent[:, 1], -tangent[:, 0]][near])
    along = run[near]
    _, nearest_line = cKDTree(line).query(centres)
    at = run[nearest_line]
    order = np.argsort(at)
    neck = np.interp(along, at[order], ndimage.gaussian_filter1d(np.array([p.origin_mm[2] for p in places])[order], 0.7))
    crest = neck + 0.9
    for p, s in zip(places, at, strict=True):
        # Papillae rise between the teeth, the margin dips in the middle of each.
        crest += 2.0 * np.exp(-(((along - s - p.crown.md_mm / 2) / 1.25) ** 2)) * np.exp(-((across / 5.0) ** 2)) * (p.crown.number < 7)
    width = 5.3 + 0.9 * np.clip(np.abs(along) / 45, 0, 1)
    for p, s in zip(places, at, strict=True):
        width = width + 0.55 * np.exp(-(((along - s) / (0.30 * p.crown.md_mm)) ** 2)) * (across > 0)
    wave = 0.25 * np.sin(along * 0.37 + rng.uniform(0, 6)) + 0.18 * np.sin(along * 0.9 + rng.uniform(0, 6))
    out = np.clip(np.abs(across) - width + 1.6, 0, None)
    deep = 11.5 + wave * 2 + (1.8 if upper else 0.0) * np.cos(along / 50 * np.pi)
    shoulder = deep * (1 - np.exp(-((out / 4.4) ** 1.5)))
    flare = 0.30 * np.clip(out - 6.2, 0, None) ** 1.6 * (across > 0)
    frenum = 2.6 * np.exp(-((along / 1.1) ** 2)) * np.clip((out - 2.5) / 4, 0, 1) * (across > 0)
    top = crest - shoulder + flare + frenum + wave * 0.5
    if upper:
        inside = across < 0
        depth = np.clip(-across - 4.0, 0, None)
        vault = crest - (13.5 * (1 - np.exp(-((depth / 9.5) ** 1.35))))
        mid = np.clip(1 - np.abs(column[:, 0]) / 1.6, 0, 1) * 0.5 * np.clip((column[:, 1] - 8) / 6, 0, 1)
        rugae = 0.55 * np.sin(column[:, 1] * 1.25 + np.abs(column[:, 0]) * 0.35 + 0.8 * np.sin(column[:, 0] * 0.6))
        rugae *= np.clip((np.abs(column[:, 0]) - 1.0) / 2, 0, 1) * np.exp(-(((column[:, 1] - 15) / 6.0) ** 4)) * np.clip(depth / 4, 0, 1)
        papilla = 1.0 * np.exp(-((column[:, 0] / 1.8) ** 2) - (((column[:, 1] - 8.2) / 2.6) ** 2))
        top = np.where(inside, vault + mid + rugae + papilla, top)
    top = ndimage.gaussian_filter(top.reshape(grid.shape[:2]), 0.35 / grid.step)
    gx, gy = np.gradient(top, grid.step)
    slope = np.sqrt(1 + np.clip(gx**2 + gy**2, 0, 30))
    field = (z[None, None, :] - top[:, :, None]) / slope[:, :, None]
    return field, along.reshape(grid.shape[:2]), across.reshape(grid.shape[:2])


def _surface(plan: ArchPlan, upper: bool, rng: np.random.Generator) -> tuple[Mesh, NDArray, NDArray]:
    places = _placed(plan, upper, rng)
    h = plan.grid_mm
    low = np.array([-46.0, -16.0, -27.0]) + np.array([0.137, 0.191, 0.173]) * h
    grid = _Grid(low, (int(92 / h), int(78 / h), int(32 / h)), h)
    field, along, across = _gum(plan, upper, places, grid, rng)
    for p in places:
        middle = p.origin_mm + p.axes[2] * p.crown.height_mm * 0.45
        lo = np.maximum(((middle - 8.5 - grid.low) / h).astype(int), 0)
        hi = np.minimum(((middle + 8.5 - grid.low) / h).astype(int), np.array(grid.shape))
        box = tuple(slice(a, b) for a, b in zip(lo, hi, strict=True))
        x, y, z = (g[s] for g, s in zip(grid.axes(), box, strict=True))
        d = [x[:, None, None] - p.origin_mm[0], y[None, :, None] - p.origin_mm[1], z[None, None, :] - p.origin_mm[2]]
        u, v, w = (sum(p.axes[i, k] * d[k] for k in range(3)) for i in range(3))
        body = teeth.signed(p.crown, u, v, w)
        # A narrow fillet where crown meets gum leaves the margin as a visible line.
        field[box] = -teeth.smooth_max(-field[box], -body, 0.16)
    vertices, faces, _, _ = marching_cubes(field.astype(np.float32), 0.0)
    mesh = Mesh.of(vertices * h + grid.low, faces[:, ::-1])
    if vector_area_mm2(mesh)[2] < 0:
        mesh = mesh.turned_inside_out()
    # Marching cubes leaves slivers: slide vertices along the surface towards the middle of their neighbours.
    for _ in range(3):
        mean = mean_of_neighbours(mesh.faces, mesh.vertices_mm.copy(), 1)
        normal = vertex_normals(mesh)
        slide = mean - mesh.vertices_mm
        slide -= normal * np.einsum("ij,ij->i", slide, normal)[:, None]
        mesh = Mesh.of(mesh.vertices_mm + slide, mesh.faces)
    index = np.clip(np.rint(vertices[:, :2]).astype(int), 0, np.array(grid.shape[:2]) - 1)
    return mesh, along[index[:, 0], index[:, 1]], across[index[:, 0], index[:, 1]]


def _ragged(mesh: Mesh, along, across, plan: ArchPlan, upper: bool, rng) -> Mesh:
    """Keep what a scanner would have seen, with a border torn at several scales."""

    def torn(t: NDArray, amount: float) -> NDArray:
        out = np.zeros_like(t)
        for wave, share in ((0.14, 1.0), (0.5, 0.6), (1.7, 0.35), (4.1, 0.25)):
            out += share * np.sin(t * wave * rng.uniform(0.8, 1.25) + rng.uniform(0, 6.28))
        return amount * out

    # One value a block of triangles: the staircase of a scanner's frames.
    block = np.floor(along / 0.9)
    jag = rng.normal(0, 0.35, 4096)[(block.astype(int) % 4096)]
    reach = 10.4 + torn(along, 0.55) + jag
    end = 51.5 + rng.normal(0, 1.0) + torn(across, 0.6)
    inner = np.full_like(along, 60.0) if upper and plan.palate else 9.0 + torn(along + 9, 0.5) + jag
    keep = (across < reach) & (-across < inner) & (np.abs(along) < end)
    if upper:
        keep &= mesh.vertices_mm[:, 1] < 45.5 + torn(mesh.vertices_mm[:, 0], 0.7)
    mesh = mesh.of_faces(keep[mesh.faces].all(1))
    return largest_piece(mesh)


def _flawed(mesh: Mesh, plan: ArchPlan, rng: np.random.Generator) -> Mesh:
    """Noise, small holes and floating bits."""
    noise = rng.normal(0, plan.noise_mm, len(mesh.vertices_mm))
    mesh = Mesh.of(mesh.vertices_mm + vertex_normals(mesh) * noise[:, None], mesh.faces)
    middle = mesh.vertices_mm[mesh.faces].mean(1)
    keep = np.ones(mesh.triangles, bool)
    for _ in range(5):
        keep &= np.linalg.norm(middle - middle[rng.integers(len(middle))], axis=1) > rng.uniform(0.4, 1.0)
    vertices, faces = [mesh.vertices_mm], [mesh.faces[keep]]
    for _ in range(7):
        near = np.linalg.norm(middle - middle[rng.integers(len(middle))], axis=1) < rng.uniform(0.5, 1.2)
        bit = mesh.of_faces(near)
        faces.append(bit.faces + sum(len(v) for v in vertices))
        vertices.append(bit.vertices_mm + rng.normal(0, 1, 3) * 2 + [0, 0, 6])
    whole = Mesh.of(np.vstack(vertices), np.vstack(faces))
    return whole.of_faces(np.ones(whole.triangles, bool))


def jaw_pair(plan: ArchPlan) -> tuple[Mesh, Mesh]:
    """(upper, lower) scans in occlusion in the bench frame, the lower settled to first contact."""
    rng = np.random.default_rng(plan.seed)
    upper, along_u, across_u = _surface(plan, True, rng)
    lower, along_l, across_l = _surface(plan, False, rng)
    flip = np.diag([1.0, 1.0, -1.0, 1.0])
    flip[1, 3] = -4.6
    upper_scan = upper.moved(flip)
    upper_scan = _ragged(upper_scan, along_u, across_u, plan, True, rng)
    lower_scan = _ragged(lower, along_l, across_l, plan, False, rng)
    rise = _settle(upper_scan, lower_scan)
    lower_scan = lower_scan.moved(np.array([[1, 0, 0, 0], [0, 1, 0, 0], [0, 0, 1, rise], [0, 0, 0, 1.0]]))
    return _flawed(upper_scan, plan, rng), _flawed(lower_scan, plan, rng)


def _settle(upper: Mesh, lower: Mesh) -> float:
    """How far the lower may rise (mm along z) until it first touches the upper, by halving."""
    tree, rim = ClosestPoints(upper), at_border(upper)
    points = lower.vertices_mm[lower.vertices_mm[:, 2] > -6.0]
    points = points[:: max(len(points) // 40_000, 1)]
    lo, hi = -8.0, 4.0
    for _ in range(14):
        mid = (lo + hi) / 2
        distance, hits = tree.signed(points + [0, 0, mid], within_mm=3.0)
        distance = distance[(hits.face < 0) | ~rim[np.maximum(hits.face, 0)]]
        lo, hi = (mid, hi) if distance.min() > -0.01 else (lo, mid)
    return lo
