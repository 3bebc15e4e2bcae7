"""A pair of invented jaws by seed, with its truth, scanned as scanners do: open ragged border, holes, floating bits, noise.

Frame of the truth: bench (+x patient's left, +y back, +z up), mm; the lower incisors near its origin.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from skimage.measure import marching_cubes

from bitecore.anatomy.closing import Opposing, closed, eased
from bitecore.anatomy.jaw import Jaw as SeenJaw
from bitecore.mesh import Mesh, vector_area_mm2, vertex_normals
from bitecore.mesh.topology import at_border
from bitecore.ops import rigid
from bitecore.ops.closest import ClosestPoints
from bitecore.ops.relief import mean_of_neighbours

from . import flaws, gum, teeth
from .places import Place, met, over, placed
from .plan import ArchPlan

# Enamel gives way by so little (common practice, no source).
_CONTACT_MM = 0.01
# How much facets of wear have taken off, where the jaws rest on each other.
_WORN_MM = 0.22

__all__ = ["ArchPlan", "Jaw", "Pair", "jaw_pair", "pair"]


@dataclass(frozen=True)
class Jaw:
    """mesh : as scanned, in the bench frame; tooth : (m,) FDI number of each triangle, 0 for gum; places : where the
    crowns stand, in own_to_bench's own frame (teeth up)."""

    mesh: Mesh
    tooth: NDArray[np.int8]
    places: list[Place]
    own_to_bench: NDArray[np.float64]

    def tips_mm(self) -> dict[int, NDArray[np.float64]]:
        """FDI number to (k, 3) cusp tips or the middle of the edge, in the bench frame."""
        m = self.own_to_bench
        return {p.fdi: p.edges_mm @ m[:3, :3].T + m[:3, 3] for p in self.places if not p.missing}

    def up(self) -> NDArray[np.float64]:
        """(3,) normal of this jaw's own occlusal plane, to the tips, in the bench frame (which is that of the lower)."""
        return self.own_to_bench[:3, :3] @ occlusal_plane(self.places)[1]


@dataclass(frozen=True)
class Pair:
    upper: Jaw
    lower: Jaw


@dataclass(frozen=True)
class _Grid:
    low: NDArray
    shape: tuple[int, int, int]
    step: float

    def axes(self) -> tuple[NDArray, NDArray, NDArray]:
        x, y, z = (self.low[i] + self.step * np.arange(self.shape[i]) for i in range(3))
        return x, y, z


def _gum_field(plan: ArchPlan, upper: bool, floor: gum.Floor, grid: _Grid, rng: np.random.Generator) -> NDArray:
    x, y, z = grid.axes()
    column = np.stack(np.meshgrid(x, y, indexing="ij"), -1).reshape(-1, 2)
    top = gum.rounded(gum.heights(plan, upper, floor, column, rng).reshape(grid.shape[:2]), grid.step)
    gx, gy = np.gradient(top, grid.step)
    slope = np.sqrt(1 + np.clip(gx**2 + gy**2, 0, 30))
    return (z[None, None, :] - top[:, :, None]) / slope[:, :, None]


def _surface(plan: ArchPlan, upper: bool, places: list[Place], rng: np.random.Generator) -> tuple[Mesh, NDArray, gum.Floor]:
    """(whole surface teeth up, FDI number per vertex, floor plan)."""
    h = plan.grid_mm
    low = np.array([-46.0, -18.0, -27.0]) + np.array([0.137, 0.191, 0.173]) * h
    grid = _Grid(low, (int(92 / h), int(84 / h), int(32 / h)), h)
    floor = gum.floor_of(places)
    field = _gum_field(plan, upper, floor, grid, rng).astype(np.float32)
    owner = np.zeros(grid.shape, np.int8)
    for p in places:
        if p.missing:
            continue
        middle = p.origin_mm + p.axes[2] * p.crown.height_mm * 0.45
        lo = np.maximum(((middle - 8.5 - grid.low) / h).astype(int), 0)
        hi = np.minimum(((middle + 8.5 - grid.low) / h).astype(int), np.array(grid.shape))
        box = tuple(slice(a, b) for a, b in zip(lo, hi, strict=True))
        x, y, z = (g[s] for g, s in zip(grid.axes(), box, strict=True))
        d = [x[:, None, None] - p.origin_mm[0], y[None, :, None] - p.origin_mm[1], z[None, None, :] - p.origin_mm[2]]
        u, v, w = (sum(p.axes[i, k] * d[k] for k in range(3)) for i in range(3))
        body = teeth.signed(teeth.ground(p.crown) if p.fdi in plan.prepared else p.crown, u, v, w)
        owner[box] = np.where(body < field[box], p.fdi, owner[box])
        # A narrow fillet where crown meets gum leaves the margin as a visible line.
        field[box] = -teeth.smooth_max(-field[box], -body, 0.14)
    vertices, faces, _, _ = marching_cubes(field, 0.0)
    mesh = Mesh.of(vertices * h + grid.low, faces[:, ::-1])
    if vector_area_mm2(mesh)[2] < 0:
        mesh = mesh.turned_inside_out()
    index = np.clip(np.rint(vertices).astype(int), 0, np.array(grid.shape) - 1)
    if plan.build.film:
        mesh = Mesh.of(mean_of_neighbours(mesh.faces, mesh.vertices_mm, plan.build.film), mesh.faces)
    return _evened(mesh), owner[index[:, 0], index[:, 1], index[:, 2]], floor


def _evened(mesh: Mesh) -> Mesh:
    """Marching cubes leaves slivers: slide vertices along the surface towards the middle of their neighbours."""
    for _ in range(3):
        slide = mean_of_neighbours(mesh.faces, mesh.vertices_mm, 1) - mesh.vertices_mm
        normal = vertex_normals(mesh)
        slide -= normal * np.einsum("ij,ij->i", slide, normal)[:, None]
        mesh = Mesh.of(mesh.vertices_mm + slide, mesh.faces)
    return mesh


def pair(plan: ArchPlan) -> Pair:
    """Both jaws in occlusion in the bench frame, the lower settled to first contact, with their truth."""
    rng = np.random.default_rng(plan.seed)
    upper, lower = placed(plan, upper=True, rng=rng), placed(plan, upper=False, rng=rng)
    flip = over(plan, upper, lower)
    upper, lower = met(upper, lower, flip)
    scans = []
    for is_upper, places in ((True, upper), (False, lower)):
        whole, owner, floor = _surface(plan, is_upper, places, rng)
        kept = flaws.seen(whole, floor, plan, is_upper, rng)
        scans.append((kept.mesh, owner[kept.source]))
    (up, up_owner), (low, low_owner) = scans
    up = up.moved(flip)
    rise = _settled(up, low)
    up, low = _worn(up, low, rise)
    bench = _bench(lower, rise)
    up, low = up.moved(bench), low.moved(bench @ rise)
    return Pair(
        _scanned(up, up_owner, upper, bench @ flip, plan, rng),
        _scanned(low, low_owner, lower, bench @ rise, plan, rng),
    )


def _bench(lower: list[Place], rise: NDArray) -> NDArray[np.float64]:
    """4x4 that lays the occlusal plane of the lower flat, its incisal point at the origin."""
    edge, z = occlusal_plane(lower)
    edge, z = rise[:3, :3] @ np.r_[0.0, edge[1:]] + rise[:3, 3], rise[:3, :3] @ z
    x = np.cross([0.0, 1.0, 0.0], z)
    x /= np.linalg.norm(x)
    out = np.eye(4)
    out[:3, :3] = np.stack([x, np.cross(z, x), z])
    out[:3, 3] = -out[:3, :3] @ edge
    return out


def occlusal_plane(places: list[Place]) -> tuple[NDArray, NDArray]:
    """(incisal point, unit normal to the tips) in the jaw's own frame: the plane through the incisal point that lies
    best through the buccal cusp tips."""
    edge = np.mean([p.edges_mm[0] for p in places if p.crown.number == 1], axis=0)
    tips = [
        p.to_jaw(np.array([[u, v, p.crown.height_mm - down]]))[0]
        for p in places
        for u, v, down in p.crown.cusps
        if p.crown.number > 3 and not p.missing and v > 0.2 * p.crown.bl_mm
    ]
    off = np.array(tips) - edge
    slope = np.linalg.lstsq(off[:, :2], off[:, 2], rcond=None)[0]
    z = np.array([-slope[0], -slope[1], 1.0])
    return edge, z / np.linalg.norm(z)


def _scanned(mesh: Mesh, owner: NDArray, places: list[Place], place: NDArray, plan: ArchPlan, rng) -> Jaw:
    done = flaws.flawed(mesh, plan, rng)
    tooth = owner[done.source][done.mesh.faces]
    # A triangle across the margin belongs to the gum.
    same = (tooth[:, 0] == tooth[:, 1]) & (tooth[:, 1] == tooth[:, 2])
    return Jaw(done.mesh, np.where(same, tooth[:, 0], 0).astype(np.int8), places, place)


def jaw_pair(plan: ArchPlan) -> tuple[Mesh, Mesh]:
    """(upper, lower) scans alone."""
    both = pair(plan)
    return both.upper.mesh, both.lower.mesh


def _settled(upper: Mesh, lower: Mesh) -> NDArray[np.float64]:
    """4x4 of the lower: closed to the first touch, bitten together a little, and eased so that it rests on several
    contacts, left and right; then pressed on by what wear has taken off."""
    front, up = np.array([0.0, -1.0, 0.0]), np.array([0.0, 0.0, 1.0])
    jaws = Opposing(SeenJaw(upper, -up, front, np.zeros(3)), SeenJaw(lower, up, front, np.zeros(3)))
    pressed = rigid.placed(np.eye(3), [0.0, 0.0, 0.25]) @ closed(jaws, np.eye(4), up).matrix
    rise = eased(jaws, pressed, tolerance_mm=_CONTACT_MM, axes=np.eye(3)).matrix @ pressed
    return rigid.placed(np.eye(3), [0.0, 0.0, _WORN_MM]) @ rise


def _worn(upper: Mesh, lower: Mesh, rise: NDArray) -> tuple[Mesh, Mesh]:
    """(upper, lower) with facets where they would overlap deeper than enamel gives way: each has ground the other."""
    back = np.linalg.inv(rise)
    for _ in range(4):
        lower = _ground(lower, upper, rise)
        upper = _ground(upper, lower, back)
    return upper, lower


def _ground(mesh: Mesh, other: Mesh, to_other: NDArray) -> Mesh:
    points = mesh.vertices_mm @ to_other[:3, :3].T + to_other[:3, 3]
    signed, hits = ClosestPoints(other).signed(points, within_mm=3 * _WORN_MM)
    rim = at_border(other)
    deep = (hits.face >= 0) & (signed < -_CONTACT_MM) & (signed > -2 * _WORN_MM) & ~rim[np.maximum(hits.face, 0)]
    out = mesh.vertices_mm.copy()
    way = (hits.point_mm - points)[deep]
    way *= (1 - _CONTACT_MM / np.linalg.norm(way, axis=1))[:, None]
    out[deep] += way @ to_other[:3, :3]
    return Mesh.of(out, mesh.faces)
