"""Teeth and gum over many generated jaws: what was found of every tooth, its number, its margin, and how sure it was said."""

from __future__ import annotations

import time
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from bitecore.anatomy.arch_sides import arch_sides
from bitecore.anatomy.edge_line import Keep, gaps_of, kept, known, line_of
from bitecore.anatomy.teeth.told import Told, ToothTold, teeth_told
from bitecore.mesh import Mesh, face_areas_mm2, face_components
from bitecore.mesh.topology import at_border
from bitecore.ops.surface_graph import surface_graph
from demo.arch import ArchPlan, pair
from demo.variants import bracketed

from .intake import plan, wide_plan
from .second import mouth, second_plan

# So much of what is either is both: a tooth that was found.
FOUND = 0.7
_FRONT = np.array([0.0, -1.0, 0.0])


@dataclass(frozen=True)
class ToothOutcome:
    """told : the number it got, 0 none; share : of what is either what is both, by area; merged : what was taken for it holds another
    tooth too; margin_mm : mean distance between its margin and the true one, both ways; far_mm : the 95th percentile; sure : as it was
    said."""

    case: int
    jaw: str
    fdi: int
    told: int
    share: float
    merged: bool
    margin_mm: float
    far_mm: float
    sure: float

    @property
    def found(self) -> bool:
        return self.share >= FOUND


@dataclass(frozen=True)
class JawOutcome:
    """extra : (number, how sure) of what is no tooth; edge_mm : how near edge lines of 1.5 and 4.5 mm of gum come to a true tooth, below
    nought where one runs over it"""

    case: int
    jaw: str
    teeth: tuple[ToothOutcome, ...]
    extra: tuple[tuple[int, float], ...]
    seconds: float
    edge_mm: float


def judged_teeth(number: int, *, grid_mm: float = 0.5) -> list[JawOutcome]:
    both = pair(plan(number, grid_mm=grid_mm))
    return [outcome(number, "upper", both.upper), outcome(number, "lower", both.lower)]


def judged_wide_teeth(number: int, *, grid_mm: float = 0.5) -> list[JawOutcome]:
    both = pair(wide_plan(number, grid_mm=grid_mm))
    return [outcome(number, "upper", both.upper), outcome(number, "lower", both.lower)]


def judged_second_teeth(number: int, *, step_mm: float = 0.35) -> list[JawOutcome]:
    both = mouth(second_plan(number, step_mm=step_mm))
    return [outcome(number, "upper", both.upper), outcome(number, "lower", both.lower)]


def judged_bracketed(number: int, *, step_mm: float = 0.35) -> list[JawOutcome]:
    """Brackets on the teeth of the second generator: nothing was fitted on either."""
    both = mouth(second_plan(number, step_mm=step_mm))
    return [outcome(number, name, bracketed(jaw)) for name, jaw in (("upper", both.upper), ("lower", both.lower))]


def judged_coloured_teeth(number: int, *, grid_mm: float = 0.5) -> list[JawOutcome]:
    """The hard ones with colours, as scanners have them: not sharp, with noise, stains and pale places."""
    both = pair(hard_plan(number, grid_mm=grid_mm))
    return [outcome(number, name, jaw, coloured=True) for name, jaw in (("upper", both.upper), ("lower", both.lower))]


def tinted(mesh: Mesh, truth: NDArray, seed: int) -> NDArray[np.float32]:
    """(m,) how red each triangle is (a*): teeth about 2, gum about 18 (no source)."""
    rng, n = np.random.default_rng(seed), len(mesh.vertices_mm)
    graph = surface_graph(mesh)
    (i, j), corner = graph.edges.T, mesh.faces.ravel()
    many = np.maximum(np.bincount(i, minlength=n) + np.bincount(j, minlength=n), 1)
    tooth = np.bincount(corner, np.repeat((truth > 0).astype(float), 3), n) / np.maximum(np.bincount(corner, minlength=n), 1)
    for _ in range(3):
        tooth = 0.5 * tooth + 0.5 * (np.bincount(i, tooth[j], n) + np.bincount(j, tooth[i], n)) / many
    red = 18.0 - 16.0 * tooth + rng.normal(0, 2.5, n)
    for _ in range(25):
        away = ((mesh.vertices_mm - mesh.vertices_mm[rng.integers(n)]) ** 2).sum(1)
        red += rng.normal(0, 5) * np.exp(-away / (2 * rng.uniform(0.8, 2.5) ** 2))
    return red[mesh.faces].mean(1).astype(np.float32)


def outcome(number: int, name: str, jaw, *, coloured: bool = False) -> JawOutcome:  # noqa: ANN001
    label = face_components(jaw.mesh)[1]
    main = label == np.bincount(label).argmax()
    mesh, truth = jaw.mesh.of_faces(main), jaw.tooth[main]
    tint = tinted(mesh, truth, number) if coloured else None
    start = time.perf_counter()
    told = teeth_told(mesh, jaw=name, up=jaw.up(), front=_FRONT, midline=midline(mesh, truth), tint=tint)
    seconds = time.perf_counter() - start
    return beside(number, name, mesh, truth, told, seconds, jaw.up())


def midline(mesh: Mesh, truth: NDArray) -> NDArray:
    """As Intake tells it, to some millimetres: between the front teeth that are there."""
    front = np.isin(truth % 10, (1, 2)) & (truth > 0)
    return mesh.vertices_mm[mesh.faces[front if front.any() else truth >= 0]].mean((0, 1)) * [0, 1, 1]


def beside(number: int, name: str, mesh: Mesh, truth: NDArray, told: Told, seconds: float, up: NDArray) -> JawOutcome:
    area, of = face_areas_mm2(mesh), told.of_faces(mesh)
    by_fdi = {t.fdi: t for t in told.teeth}
    out, used = [], set()
    for fdi in np.unique(truth[truth > 0]):
        mine = truth == fdi
        if area[mine].sum() < 4.0:  # a sliver at the scan's border
            continue
        shares = {int(q): area[mine & (of == q)].sum() / area[mine | (of == q)].sum() for q in np.unique(of[mine]) if q}
        best, share = max(shares.items(), key=lambda s: s[1], default=(0, 0.0))
        used.add(best)
        held = [area[(of == best) & (truth == f)].sum() for f in np.unique(truth[(of == best) & (truth > 0)]) if f != fdi]
        merged = best > 0 and max(held, default=0.0) > 0.4 * area[mine].sum()
        tooth = by_fdi.get(best)
        near, far = _margins(mesh, truth, int(fdi), tooth) if tooth else (np.nan, np.nan)
        out.append(ToothOutcome(number, name, int(fdi), best, float(share), bool(merged), near, far, tooth.confidence if tooth else 0.0))
    extra = tuple((t.fdi, round(t.confidence, 2)) for t in told.teeth if t.fdi not in used)
    return JawOutcome(number, name, tuple(out), extra, seconds, edge_off(mesh, truth, told, up))


def edge_off(mesh: Mesh, truth: NDArray, told: Told, up: NDArray) -> float:
    """Where the surface ends at its border, the line has no say and is not asked."""
    inner = np.zeros(len(mesh.vertices_mm), bool)
    for k in range(3):
        inner[mesh.faces[truth > 0, k]] = True
    tooth, rim = cKDTree(mesh.vertices_mm[inner]), at_border(mesh)
    border = np.zeros(len(mesh.vertices_mm), bool)
    border[mesh.faces[rim].ravel()] = True
    if not told.teeth:
        return -float(inner.sum())
    nearest, (middles, wide) = np.inf, (np.array([t.centre_mm for t in told.teeth]), np.array([t.wide_mm for t in told.teeth]))
    sides = arch_sides(middles, wide, up=up, front=_FRONT)
    margins = {t.fdi: (t.margin.points_mm, t.margin.sure) for t in told.teeth}
    teeth = known(mesh, told.tooth.astype(np.int64), margins, gaps_of(middles, wide), up)
    for gum_mm in (1.5, 4.5):
        keep = Keep(gum_mm, gum_mm, gum_mm, 0.5)
        value = kept(mesh, teeth, sides, keep, np.zeros((0, 3))).value
        cut = inner & (value <= 0) & ~border
        if cut.any():
            return -float(cut.sum())
        for line in line_of(mesh, value)[:1]:
            free = ~border[line.ends].any(1)
            if free.any():
                nearest = min(nearest, float(tooth.query(line.points_mm[free])[0].min()))
    return nearest


def true_margin(mesh: Mesh, truth: NDArray, fdi: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """((k, 3) between a tooth and gum, (j, 3) between it and another tooth): middles of the edges across, mm. Of a triangle over a
    border only its corners are told: one is of the tooth whose triangle it is at."""
    corner = np.zeros(len(mesh.vertices_mm), np.int16)
    for k in range(3):
        corner[mesh.faces[truth > 0, k]] = truth[truth > 0]
    a, b = mesh.faces[:, [0, 1, 2]].ravel(), mesh.faces[:, [1, 2, 0]].ravel()
    out = (corner[a] == fdi) & (corner[b] != fdi)
    a, b = a[out], b[out]
    middle = (mesh.vertices_mm[a] + mesh.vertices_mm[b]) / 2
    return middle[corner[b] == 0], middle[corner[b] > 0]


def _margins(mesh: Mesh, truth: NDArray, fdi: int, tooth: ToothTold) -> tuple[float, float]:
    """(mean, 95th percentile) of the distances both ways, mm. A line that runs between two teeth is not wrong there."""
    true, between = true_margin(mesh, truth, fdi)
    if len(true) < 3:
        return float("nan"), float("nan")
    whole = tooth.margin.points_mm
    seen = whole[tooth.margin.sure > 0.06] if (tooth.margin.sure > 0.06).sum() > 2 else whole
    off = np.r_[cKDTree(whole).query(true)[0], cKDTree(np.vstack([true, between])).query(seen)[0]]
    return float(off.mean()), float(np.quantile(off, 0.95))


def hard_plan(number: int, *, grid_mm: float = 0.5) -> ArchPlan:
    """Mouths that are hard to read, one kind after the other: crowded, worn, many teeth missing, third molars, low crowns under much gum,
    milk teeth, changing teeth, noise with slow error, embrasures filled as scanners fill them, receded gum."""
    rng = np.random.default_rng(990_000 + number)
    base = wide_plan(5000 + number, grid_mm=grid_mm)
    build = replace(base.build, widths=0.06, film=min(base.build.film, 3))
    kind = number % len(KINDS)
    if kind == 0:
        return replace(base, build=build, crowding=float(rng.uniform(0.9, 1.2)), gaps=())
    if kind == 1:
        return replace(base, build=build, wear_mm=1.2, gaps=())
    if kind == 2:
        gone = rng.choice([q * 10 + k for q in (1, 2, 3, 4) for k in (4, 5, 6, 7)], 9, replace=False)
        return replace(base, build=build, gaps=tuple(int(g) for g in gone))
    if kind == 3:
        return replace(base, build=build, third=True)
    if kind == 4:
        return replace(base, build=replace(build, tall=0.78, recession_mm=-1.2), gaps=())
    if kind in (5, 6):
        small = replace(build, wide=build.wide * (0.92 if kind == 6 else 0.84), deep=build.deep * 0.85, spee=0.2)
        return replace(base, build=small, milk="mixed" if kind == 6 else "all", third=False, gaps=())
    if kind == 7:
        return replace(base, build=build, noise_mm=0.04, warp_mm=0.05)
    if kind == 8:
        return replace(base, build=replace(build, film=14), gaps=())
    return replace(base, build=replace(build, recession_mm=2.2), gaps=())


KINDS = (
    "crowded",
    "worn",
    "partly toothless",
    "third molars",
    "low crowns",
    "milk teeth",
    "changing teeth",
    "noise",
    "film",
    "receded gum",
)


def judged_hard_teeth(number: int, *, grid_mm: float = 0.5) -> list[JawOutcome]:
    both = pair(hard_plan(number, grid_mm=grid_mm))
    return [outcome(number, "upper", both.upper), outcome(number, "lower", both.lower)]
