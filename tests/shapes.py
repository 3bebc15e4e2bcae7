"""Shapes with known measures, and small invented jaws, for the tests."""

from __future__ import annotations

import hashlib
import os
import pickle
from functools import cache
from pathlib import Path

import manifold3d
import numpy as np
from numpy.typing import NDArray

from bitecore.mesh import Mesh
from demo.arch import ArchPlan, Pair, pair


def manifold(mesh: Mesh) -> manifold3d.Manifold:
    """A closed mesh as a solid of another library, for exact volumes, sections and booleans."""
    return manifold3d.Manifold(manifold3d.Mesh64(np.array(mesh.vertices_mm), mesh.faces.astype(np.uint64, order="C")))


def box(size: tuple[float, float, float] = (1.0, 1.0, 1.0)) -> Mesh:
    """Eight corners, twelve triangles, outward."""
    v = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)], float) * size
    quads = [(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3)]
    return Mesh.of(v, [t for a, b, c, d in quads for t in ((a, b, c), (a, c, d))])


def sheet(nx: int, ny: int, height, size: tuple[float, float] = (10.0, 10.0)) -> Mesh:  # noqa: ANN001
    """The graph z = height(x, y) over a rectangle about the origin, facing up."""
    x, y = np.meshgrid(np.linspace(-0.5, 0.5, nx) * size[0], np.linspace(-0.5, 0.5, ny) * size[1], indexing="ij")
    i, j = np.meshgrid(np.arange(nx - 1), np.arange(ny - 1), indexing="ij")
    a = (i * ny + j).ravel()
    faces = np.vstack([np.c_[a, a + ny, a + 1], np.c_[a + 1, a + ny, a + ny + 1]])
    return Mesh.of(np.c_[x.ravel(), y.ravel(), height(x, y).ravel()], faces)


def sphere(radius: float = 10.0, rings: int = 40) -> Mesh:
    """A closed sphere of latitude rings, outward."""
    t, p = np.linspace(0, np.pi, rings + 1)[1:-1], np.linspace(0, 2 * np.pi, 2 * rings + 1)[:-1]
    tt, pp = np.meshgrid(t, p, indexing="ij")
    ring = np.stack([np.sin(tt) * np.cos(pp), np.sin(tt) * np.sin(pp), np.cos(tt)], -1).reshape(-1, 3)
    v = np.vstack([ring, [[0, 0, 1], [0, 0, -1]]]) * radius
    n, m = len(t), len(p)
    top, bottom = n * m, n * m + 1
    faces = []
    for j in range(m):
        k = (j + 1) % m
        faces.append((top, j, k))
        faces.append((bottom, (n - 1) * m + k, (n - 1) * m + j))
        for i in range(n - 1):
            a, b, c, d = i * m + j, i * m + k, (i + 1) * m + j, (i + 1) * m + k
            faces += [(a, c, b), (b, c, d)]
    return Mesh.of(v, faces)


def dome(radius: float, low: float, rings: int = 40) -> Mesh:
    """The part of a sphere about the origin above z = low, open below, cut exactly at a ring."""
    t = np.linspace(0, np.arccos(low / radius), rings + 1)[1:]
    p = np.linspace(0, 2 * np.pi, 4 * rings + 1)[:-1]
    tt, pp = np.meshgrid(t, p, indexing="ij")
    ring = np.stack([np.sin(tt) * np.cos(pp), np.sin(tt) * np.sin(pp), np.cos(tt)], -1).reshape(-1, 3)
    v = np.vstack([ring, [[0, 0, 1]]]) * radius
    m, top = len(p), len(ring)
    faces = []
    for j in range(m):
        k = (j + 1) % m
        faces.append((top, j, k))
        for i in range(rings - 1):
            a, b, c, d = i * m + j, i * m + k, (i + 1) * m + j, (i + 1) * m + k
            faces += [(a, c, b), (b, c, d)]
    return Mesh.of(v, faces)


def turn(seed: int, shift_mm: float = 40.0) -> NDArray[np.float64]:
    """A rigid transform by seed."""
    from scipy.spatial.transform import Rotation

    rng = np.random.default_rng(seed)
    out = np.eye(4)
    out[:3, :3] = Rotation.random(random_state=seed).as_matrix()
    out[:3, 3] = rng.normal(size=3) * shift_mm
    return out


def _made_once(plan: ArchPlan) -> Pair:
    """The pair of this plan; another process of the same run may have made it."""
    folder = os.environ.get("BENCH_TEST_KNOWN")
    if not folder:
        return pair(plan)
    at = Path(folder) / "arches" / hashlib.sha256(repr(plan).encode()).hexdigest()
    if at.exists():
        known: Pair = pickle.loads(at.read_bytes())
        for mesh in (known.upper.mesh, known.lower.mesh):
            mesh.vertices_mm.flags.writeable = mesh.faces.flags.writeable = False
        return known
    made = pair(plan)
    at.parent.mkdir(parents=True, exist_ok=True)
    fresh = at.with_suffix(f".{os.getpid()}")
    fresh.write_bytes(pickle.dumps(made))
    fresh.replace(at)
    return made


@cache
def arches(seed: int = 3, *, palate: bool = True, gaps: tuple[int, ...] = ()) -> Pair:
    """A pair of about 40,000 triangles a jaw in occlusion, in the bench frame, with its truth."""
    return _made_once(ArchPlan(seed=seed, grid_mm=0.66, palate=palate, gaps=gaps))


def jaws(seed: int = 3, *, palate: bool = True, gaps: tuple[int, ...] = ()) -> tuple[Mesh, Mesh]:
    """(upper, lower) scans of `arches`."""
    both = arches(seed, palate=palate, gaps=gaps)
    return both.upper.mesh, both.lower.mesh


@cache
def light_jaws(seed: int = 3, *, palate: bool = True) -> tuple[Mesh, Mesh]:
    """`jaws` of half the triangles: for tests that ask what becomes of a case, not of a shape."""
    both = _made_once(ArchPlan(seed=seed, grid_mm=0.9, palate=palate))
    return both.upper.mesh, both.lower.mesh


class _Parts:
    """A section in its parts, asked which of them a part lies over: only those whose boxes meet are cut with it."""

    def __init__(self, section: manifold3d.CrossSection) -> None:
        self.parts = section.decompose()
        self.boxes = np.array([part.bounds() for part in self.parts]).reshape(-1, 4)

    def under(self, part: manifold3d.CrossSection) -> bool:
        x0, y0, x1, y1 = part.bounds()
        b = self.boxes
        near = np.flatnonzero((b[:, 0] <= x1) & (b[:, 2] >= x0) & (b[:, 1] <= y1) & (b[:, 3] >= y0))
        return any(not (part ^ self.parts[k]).is_empty() for k in near)


def islands(solid: manifold3d.Manifold, layer_mm: float = 0.05, least_mm2: float = 0.05) -> list[tuple[float, float]]:
    """(height, mm²) of what begins in mid-air."""
    found, below = [], _Parts(manifold3d.CrossSection())
    for k in range(int(solid.bounding_box()[5] / layer_mm)):
        z = (k + 0.5) * layer_mm
        here = _Parts(solid.slice(z))
        for part in here.parts if k else ():
            if part.area() >= least_mm2 and not below.under(part):
                over = [o for o in solid.slice(z + 0.1).decompose() if not (o ^ part).is_empty()]
                if not any(below.under(o) for o in over):
                    found.append((round(z, 3), round(part.area(), 3)))
        below = here
    return found
