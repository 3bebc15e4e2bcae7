"""What a scanner makes of a surface: a ragged border, noise and slow error, holes, fins, floating bits."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bitecore.mesh import Mesh, vertex_normals
from bitecore.ops.mend import component_areas

from .gum import Floor
from .plan import ArchPlan


@dataclass(frozen=True)
class Kept:
    """source : (n,) the vertex of the surface before that each vertex came from."""

    mesh: Mesh
    source: NDArray[np.int64]


def cut(mesh: Mesh, keep: NDArray) -> Kept:
    faces = mesh.faces[keep]
    used = np.zeros(len(mesh.vertices_mm), bool)
    used[faces.ravel()] = True
    return Kept(mesh.of_faces(keep), np.flatnonzero(used))


def _torn(t: NDArray, amount: float, rng: np.random.Generator) -> NDArray:
    out = np.zeros_like(t)
    for wave, share in ((0.14, 1.0), (0.5, 0.6), (1.7, 0.35), (4.1, 0.25)):
        out += share * np.sin(t * wave * rng.uniform(0.8, 1.25) + rng.uniform(0, 6.28))
    return amount * out


def seen(mesh: Mesh, floor: Floor, plan: ArchPlan, upper: bool, rng: np.random.Generator) -> Kept:
    """Keep what a scanner would have seen, with a border torn at several scales."""
    along, across = floor.across(mesh.vertices_mm[:, :2])
    # One value a block of triangles: the staircase of a scanner's frames.
    jag = rng.normal(0, 0.35, 4096)[(np.floor(along / 0.9).astype(int) % 4096)]
    reach = plan.build.cheek_mm + _torn(along, 0.55, rng) + jag
    behind = np.maximum(floor.end[0] - along, along - floor.end[1])
    end = 6.5 + rng.normal(0, 0.8) + _torn(across, 0.5, rng)
    inner = np.full_like(along, 60.0) if upper and plan.palate else plan.build.tongue_mm + _torn(along + 9, 0.5, rng) + jag
    keep = (across < reach) & (-across < inner) & (behind < end)
    if upper:
        # The palate ends at a line across, behind the last teeth.
        last = max(p.origin_mm[1] + p.crown.md_mm / 2 for p in floor.places)
        keep &= mesh.vertices_mm[:, 1] < last + 5.0 + _torn(mesh.vertices_mm[:, 0], 0.7, rng)
    whole = keep[mesh.faces].all(1)
    label, areas = component_areas(mesh.of_faces(whole))
    kept = np.flatnonzero(whole)[label == areas.argmax()]
    mask = np.zeros(mesh.triangles, bool)
    mask[kept] = True
    return cut(mesh, mask)


def warped(points: NDArray, plan: ArchPlan, rng: np.random.Generator) -> NDArray[np.float64]:
    """(n, 3) slow error of about plan.warp_mm RMS, smooth over plan.warp_length_mm: random waves of that length."""
    if plan.warp_mm <= 0:
        return np.zeros_like(points)
    waves = 40
    k = rng.normal(size=(waves, 3)) / plan.warp_length_mm
    phase = rng.uniform(0, 2 * np.pi, waves)
    weight = rng.normal(size=(waves, 3)) * np.sqrt(2 / waves) * plan.warp_mm / np.sqrt(3)
    return np.cos(points @ k.T + phase) @ weight


def flawed(mesh: Mesh, plan: ArchPlan, rng: np.random.Generator) -> Kept:
    """Noise and slow error; then small holes, fins and floating bits."""
    noise = rng.normal(0, plan.noise_mm, len(mesh.vertices_mm))
    points = mesh.vertices_mm + vertex_normals(mesh) * noise[:, None] + warped(mesh.vertices_mm, plan, rng)
    mesh = Mesh.of(points, mesh.faces)
    if not plan.flaws:
        return Kept(mesh, np.arange(len(points)))
    middle = mesh.vertices_mm[mesh.faces].mean(1)
    keep = np.ones(mesh.triangles, bool)
    for _ in range(5):
        keep &= np.linalg.norm(middle - middle[rng.integers(len(middle))], axis=1) > rng.uniform(0.4, 1.0)
    vertices, faces, source = [mesh.vertices_mm], [mesh.faces[keep]], [np.arange(len(mesh.vertices_mm))]
    for _ in range(7):
        near = np.linalg.norm(middle - middle[rng.integers(len(middle))], axis=1) < rng.uniform(0.5, 1.2)
        bit = cut(mesh, near)
        faces.append(bit.mesh.faces + sum(len(v) for v in vertices))
        vertices.append(bit.mesh.vertices_mm + rng.normal(0, 1, 3) * 2 + [0, 0, 6])
        source.append(bit.source)
    whole = Mesh.of(np.vstack(vertices), np.vstack(faces))
    done = cut(whole, np.ones(whole.triangles, bool))
    return Kept(done.mesh, np.concatenate(source)[done.source])
