"""Further scans of a pair whose true surface is known: the same jaws once more, and bite scans, each with errors of its own."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from bitecore.mesh import Mesh, vertex_normals
from bitecore.ops.closest import ClosestPoints
from bitecore.ops.mend import largest_piece

from . import flaws
from .arch import ArchPlan, Pair, pair


def true_pair(plan: ArchPlan) -> Pair:
    """The pair as it is in the mouth: no noise, no slow error, no flaws."""
    return pair(replace(plan, noise_mm=0.0, warp_mm=0.0, flaws=False))


def otherwise_meshed(mesh: Mesh, rng: np.random.Generator) -> Mesh:
    """The same surface with its vertices elsewhere on it, so that two scans share no vertex."""
    v = mesh.vertices_mm
    edge = np.linalg.norm(v[mesh.faces[:, 0]] - v[mesh.faces[:, 1]], axis=1).mean()
    normal = vertex_normals(mesh)
    slide = rng.normal(0, 0.22 * edge, v.shape)
    slide -= normal * np.einsum("ij,ij->i", slide, normal)[:, None]
    hits = ClosestPoints(mesh).query(v + slide)
    v_, w_ = hits.weights[:, :1], hits.weights[:, 1:]
    lift = np.zeros_like(v)
    for k, share in enumerate((1 - v_ - w_, v_, w_)):
        corner = mesh.faces[hits.face, k]
        off = np.einsum("ij,ij->i", v[corner] - hits.point_mm, normal[corner])
        lift += normal[corner] * (off[:, None] * share)
    # Back from the flat triangle to the round surface it stands for.
    return Mesh.of(hits.point_mm + 0.5 * lift, mesh.faces)


def as_scanned(mesh: Mesh, plan: ArchPlan, rng: np.random.Generator) -> Mesh:
    """With white noise along the normals and a slow error, by the plan."""
    noise = rng.normal(0, plan.noise_mm, len(mesh.vertices_mm)) if plan.noise_mm > 0 else np.zeros(len(mesh.vertices_mm))
    slow = flaws.warped(mesh.vertices_mm, plan, rng)
    return Mesh.of(mesh.vertices_mm + vertex_normals(mesh) * noise[:, None] + slow, mesh.faces)


def bite_scan(truth: Pair, plan: ArchPlan, *, left: bool, rng: np.random.Generator, high_mm: float = 9.5) -> Mesh:
    """The cheek side of both jaws closed together, about from canine to second molar, so far up and down, in the bench frame."""
    side = 1 if left else -1
    parts = []
    for jaw in (truth.upper, truth.lower):
        mesh = largest_piece(jaw.mesh)
        middle, normal = mesh.vertices_mm[mesh.faces].mean(1), vertex_normals(mesh)[mesh.faces].mean(1)
        sees = normal @ np.array([side * 0.85, -0.35, 0.0]) > 0.12
        reach = (middle[:, 0] * side > 11) & (np.abs(middle[:, 2] + 1.0) < high_mm + rng.normal(0, 0.4)) & sees
        parts.append(otherwise_meshed(_smooth_edge(mesh, reach), rng))
    return as_scanned(joined(parts), plan, rng)


def mounted_scan(truth: Pair, plan: ArchPlan, *, rng: np.random.Generator) -> Mesh:
    """The cheek side of both jaws all round, as a desk scanner sees mounted models, in the bench frame."""
    parts = []
    for jaw in (truth.upper, truth.lower):
        mesh = largest_piece(jaw.mesh)
        middle, normal = mesh.vertices_mm[mesh.faces].mean(1), vertex_normals(mesh)[mesh.faces].mean(1)
        ray = middle[:, :2] - [0.0, 26.0]
        ray /= np.linalg.norm(ray, axis=1)[:, None]
        sees = (np.einsum("ij,ij->i", normal[:, :2], ray) > 0.15) & (np.abs(middle[:, 2]) < 11)
        parts.append(otherwise_meshed(_smooth_edge(mesh, sees), rng))
    return as_scanned(joined(parts), plan, rng)


def joined(meshes: list[Mesh]) -> Mesh:
    at = np.cumsum([0] + [len(m.vertices_mm) for m in meshes])
    return Mesh.of(np.vstack([m.vertices_mm for m in meshes]), np.vstack([m.faces + a for m, a in zip(meshes, at, strict=False)]))


def _smooth_edge(mesh: Mesh, keep: NDArray) -> Mesh:
    for _ in range(2):
        kept = np.bincount(mesh.faces.ravel(), np.repeat(keep, 3).astype(float), len(mesh.vertices_mm))
        share = kept / np.maximum(np.bincount(mesh.faces.ravel(), minlength=len(mesh.vertices_mm)), 1)
        keep = share[mesh.faces].mean(1) > 0.5
    return largest_piece(mesh.of_faces(keep))
