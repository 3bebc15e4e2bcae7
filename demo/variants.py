"""Other things that come in from scanners, each made from a pair: bite scans, impressions, closed models, dies, dentures,
desk scans with scan bodies, scans from before treatment; and files turned, inside-out or in another unit."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation
from skimage.measure import marching_cubes

from bitecore.mesh import Mesh, border_loops, vertex_normals, volume_ml
from bitecore.ops.base import base
from bitecore.ops.mend import largest_piece, mend
from bitecore.ops.relief import mean_of_neighbours
from bitecore.ops.upright import Plan

from . import teeth
from .arch import Jaw
from .rescans import joined


def turned(seed: int, *, shift_mm: float = 60.0) -> NDArray[np.float64]:
    """4x4: any orientation, somewhere."""
    out = np.eye(4)
    out[:3, :3] = Rotation.random(random_state=seed).as_matrix()
    out[:3, 3] = np.random.default_rng(seed).normal(size=3) * shift_mm
    return out


def impression(jaw: Jaw, *, upper: bool) -> Mesh:
    """The negative: the jaw's surface seen from the other side, with the rim of a tray around it."""
    mesh = largest_piece(jaw.mesh)
    low = 12.0 if upper else -12.0
    t = np.linspace(0, 2 * np.pi, 140, endpoint=False)
    middle = np.array([0.0, 22.0])
    wall = []
    for depth, out in ((low, 0.0), (low * 0.2, 2.5), (low * -0.4, 3.0)):
        wall.append(np.c_[middle[0] + (36 + out) * np.cos(t), middle[1] + (36 + out) * np.sin(t), np.full_like(t, depth)])
    n = len(t)
    faces = []
    for ring in range(2):
        for i in range(n):
            a, b = ring * n + i, ring * n + (i + 1) % n
            faces += [(a, b, a + n), (b, b + n, a + n)]
    tray = Mesh.of(np.vstack(wall), faces if not upper else [f[::-1] for f in faces])
    return joined([mesh.turned_inside_out(), tray])


def closed_model(jaw: Jaw, *, upper: bool) -> Mesh:
    """A solid with a chunky base, as some scanners export."""
    mesh = mend(jaw.mesh).mesh
    up = np.array([0.0, 0.0, -1.0 if upper else 1.0])
    return base(mesh, up=up, plan=Plan(thickness_mm=6.0)).body


def prepared(jaw: Jaw, fdi: int) -> Jaw:
    """The same jaw with one crown ground down all round, from 1.5 mm over the gum on: 1.2 mm off its sides and 1.5 mm off
    its top (usual for a full crown; common practice, no source)."""
    place = next(p for p in jaw.places if p.fdi == fdi)
    m = jaw.own_to_bench
    points = jaw.mesh.vertices_mm.copy()
    own = np.unique(jaw.mesh.faces[jaw.tooth == fdi])
    crown = place.to_crown((points[own] - m[:3, 3]) @ m[:3, :3])
    rise = np.clip((crown[:, 2] - 1.5) / 0.8, 0, 1)
    rise = rise * rise * (3 - 2 * rise)
    half = np.array([place.crown.md_mm, place.crown.bl_mm]) / 2
    crown[:, :2] *= 1 - rise[:, None] * 1.2 / half
    crown[:, 2] -= rise * 1.5 * np.clip(crown[:, 2] / place.crown.height_mm, 0, 1)
    points[own] = place.to_jaw(crown) @ m[:3, :3].T + m[:3, 3]
    return Jaw(Mesh.of(points, jaw.mesh.faces), jaw.tooth, jaw.places, jaw.own_to_bench)


def bracketed(jaw: Jaw) -> Jaw:
    """With a bracket on the lip or cheek side of every tooth but the last two: 3.4 mm wide, 3.2 mm tall, standing out by 1.8 mm (common
    practice, no source)."""
    mesh, up = jaw.mesh, jaw.up()
    facing, points = vertex_normals(mesh), mesh.vertices_mm.copy()
    on = np.zeros(len(points), int)
    for k in range(3):
        on[mesh.faces[jaw.tooth > 0, k]] = jaw.tooth[jaw.tooth > 0]
    middle = {f: points[on == f].mean(0) for f in np.unique(on[on > 0])}
    arch = np.mean(list(middle.values()), axis=0)
    for fdi, at in middle.items():
        if fdi % 10 > 6:
            continue
        own = np.flatnonzero(on == fdi)
        out = at - arch - up * ((at - arch) @ up)
        if fdi % 10 < 3:
            out[1] -= 8.0
        out /= np.linalg.norm(out)
        height = points[own] @ up
        off = points[own] - at - up * ((height.max() + height.min()) / 2 - at @ up)
        under = (np.abs(off @ np.cross(up, out)) < 1.7) & (np.abs(off @ up) < 1.6) & (facing[own] @ out > 0.3)
        points[own[under]] += out * 1.8
    return replace(jaw, mesh=mesh.with_vertices(points))


def with_frenum(jaw: Jaw, *, wide_mm: float = 1.5, out_mm: float = 2.5) -> Jaw | None:
    """With a labial frenum between the central incisors: a fold that begins 4 mm under the tip of the papilla and stands out by out_mm
    (3 mm farther on), half as high at wide_mm across (common practice, no source). None where the scan does not reach 4 mm beyond its
    beginning."""
    mesh, up, out = jaw.mesh, jaw.up(), np.array([0.0, -1.0, 0.0])
    out = out - up * (out @ up)
    out /= np.linalg.norm(out)
    way = np.cross(up, out)
    points, on = mesh.vertices_mm, np.zeros(len(mesh.vertices_mm), int)
    for k in range(3):
        on[mesh.faces[jaw.tooth > 0, k]] = jaw.tooth[jaw.tooth > 0]
    ones = [points[on == f].mean(0) for f in np.unique(on[on > 0]) if f % 10 == 1]
    if len(ones) < 2:
        return None
    off = points - np.mean(ones, axis=0)
    aside, facing = off @ way, vertex_normals(mesh) @ out > -0.2
    near = (on == 0) & facing & (off @ out > 0) & (np.abs(aside) < 2.5)
    top = float((off[near & (np.abs(aside) < 0.7)] @ up).max(initial=-np.inf))
    deep = top - 4.0 - off @ up
    if not near.any() or float(deep[near & (np.abs(aside) < 0.7)].max(initial=-np.inf)) < 4.0:
        return None
    rise = out_mm * np.clip(deep / 3.0, 0, 1) * np.exp(-np.log(2) * (2 * aside / wide_mm) ** 2) * near
    return replace(jaw, mesh=mesh.with_vertices(points + rise[:, None] * out))


def single_die(jaw: Jaw, fdi: int, *, rng: np.random.Generator) -> Mesh:
    """One prepared stump on a tapered shaft, closed: a stump is the crown taken down by a shell."""
    place = next(p for p in jaw.places if p.fdi == fdi)
    step = 0.22
    x = np.arange(-9, 9, step)
    z = np.arange(-16, place.crown.height_mm + 2, step)
    u, v, w = np.meshgrid(x, x, z, indexing="ij")
    stump = teeth.signed(place.crown, u, v, w) + 1.3 + 0.03 * w
    shaft = np.maximum(np.hypot(u, v) - (3.6 + 0.05 * w), np.abs(w + 8.0) - 7.5)
    flat = np.maximum(shaft, u - 2.9)
    field = np.minimum(np.maximum(stump, -w), flat)
    points, faces, _, _ = marching_cubes(field, 0.0)
    mesh = Mesh.of(points * step + [x[0], x[0], z[0]], faces[:, ::-1])
    if volume_ml(mesh) < 0:
        mesh = mesh.turned_inside_out()
    return Mesh.of(mesh.vertices_mm + vertex_normals(mesh) * rng.normal(0, 0.004, len(mesh.vertices_mm))[:, None], mesh.faces)


def denture(jaw: Jaw, *, upper: bool) -> Mesh:
    """A full denture: teeth and gum on the polished side, a tissue side 2.5 mm under it, closed round the rim."""
    mesh = largest_piece(jaw.mesh)
    # The tissue side knows no teeth: the polished side, smoothed until they are gone, a shell's thickness deeper.
    up = np.array([0.0, 0.0, -1.0 if upper else 1.0])
    under = mean_of_neighbours(mesh.faces, mesh.vertices_mm, 400)
    tissue = under - up * 2.5
    n = len(mesh.vertices_mm)
    faces = [mesh.faces, mesh.faces[:, ::-1] + n]
    for loop in border_loops(mesh):
        a = np.asarray(loop)
        b = np.roll(a, -1)
        faces += [np.c_[b, a, a + n], np.c_[b, a + n, b + n]]
    return Mesh.of(np.vstack([mesh.vertices_mm, tissue]), np.vstack(faces))


def with_scan_bodies(jaw: Jaw, sites: tuple[int, ...], *, upper: bool, round_ended: bool = False) -> Mesh:
    """A desk scan of the model with scan bodies where teeth are missing: cylinders (4.5 mm wide, one side flat, the end too), or
    such as grow thinner and end round."""
    up = np.array([0.0, 0.0, -1.0 if upper else 1.0])
    parts = [jaw.mesh]
    for fdi in sites:
        place = next(p for p in jaw.places if p.fdi == fdi)
        m = jaw.own_to_bench
        foot = m[:3, :3] @ place.origin_mm + m[:3, 3]
        parts.append(_post(foot, up, _thinner() if round_ended else _even()))
    return joined(parts)


def _even(height: float = 10.0) -> list[tuple[float, float]]:
    # The flat end in rings, as finely meshed as the wall.
    return [(1.0, z) for z in np.linspace(-2.0, height, 41)] + [(k / 7, height) for k in range(6, 0, -1)]


def _thinner(height: float = 9.0) -> list[tuple[float, float]]:
    shoulder = height - 1.5
    wall = [(1.0 - 0.035 * max(z, 0.0), z) for z in np.linspace(-2.0, shoulder, 31)]
    top = wall[-1][0]
    return wall + [(top * float(np.cos(a)), shoulder + 1.5 * float(np.sin(a))) for a in np.linspace(0.12, 1.5, 12)]


def _post(foot: NDArray, up: NDArray, rings: list[tuple[float, float]], radius: float = 2.25) -> Mesh:
    """rings : (share of the radius, height) from below upwards."""
    t = np.linspace(0, 2 * np.pi, 48, endpoint=False)
    height = rings[-1][1]
    ring = np.c_[np.clip(radius * np.cos(t), None, 1.6), radius * np.sin(t)]
    side = np.array([1.0, 0.0, 0.0])
    other = np.cross(up, side)
    points = np.vstack([foot + s * (ring[:, :1] * side + ring[:, 1:] * other) + up * z for s, z in rings] + [[foot + up * height]])
    n = len(t)
    faces = []
    for k in range(len(rings) - 1):
        for i in range(n):
            a, b = k * n + i, k * n + (i + 1) % n
            faces += [(a, b, a + n), (b, b + n, a + n)]
    top = (len(rings) - 1) * n
    faces += [(top + i, top + (i + 1) % n, top + n) for i in range(n)]
    out = Mesh.of(points, faces)
    middle = out.vertices_mm[out.faces].mean(1)
    outward = np.einsum("ij,ij->i", middle - foot - up * height / 2, np.cross(*_edges(out))).sum() > 0
    return out if outward else out.turned_inside_out()


def _edges(mesh: Mesh) -> tuple[NDArray, NDArray]:
    a, b, c = (mesh.vertices_mm[mesh.faces[:, k]] for k in range(3))
    return b - a, c - a
