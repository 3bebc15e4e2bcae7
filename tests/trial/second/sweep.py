"""A jaw's surface swept along the arch: at each place a profile from the vestibule over gum, wall, cusps and tongue side to the
floor of the mouth or the middle of the palate."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.interpolate import PchipInterpolator
from scipy.ndimage import gaussian_filter1d
from scipy.spatial import cKDTree

from bitecore.mesh import Mesh, vector_area_mm2
from bitecore.ops.mend import largest_piece
from bitecore.ops.weld import weld

from .plan import SecondPlan
from .teeth import Tooth

_BEHIND_MM = 9.0
# How many stretches each part of the profile has, in steps of the plan.
_KNOTS = 13


class Swept:
    """along (k,) mm along the arch; every other array goes with it. Own frame: teeth up, x left, y back."""

    def __init__(self, plan: SecondPlan, teeth: list[Tooth], line: NDArray, *, upper: bool, rng: np.random.Generator) -> None:
        self.plan, self.teeth, self.upper, self.rng = plan, teeth, upper, rng
        end = max(abs(t.at) + t.wide / 2 for t in teeth)
        self.end = end
        self.along = np.linspace(-end - _BEHIND_MM, end + _BEHIND_MM, int(2 * (end + _BEHIND_MM) / plan.step_mm) + 1)
        both = np.vstack([line[:0:-1] * [-1, 1], line])
        run = np.r_[0, np.cumsum(np.linalg.norm(np.diff(both, axis=0), axis=1))]
        run -= run[len(line) - 1]
        self.spot = np.c_[np.interp(self.along, run, both[:, 0]), np.interp(self.along, run, both[:, 1])]
        tangent = np.gradient(gaussian_filter1d(self.spot, 3.0 / plan.step_mm, axis=0), axis=0)
        tangent /= np.linalg.norm(tangent, axis=1, keepdims=True)
        self.out = np.c_[tangent[:, 1], -tangent[:, 0]]
        self._owners()

    def _owners(self) -> None:
        edges = np.array([(a.at + a.wide / 2 + b.at - b.wide / 2) / 2 for a, b in zip(self.teeth, self.teeth[1:], strict=False)])
        self.owner = np.searchsorted(edges, self.along)
        self.r = np.empty(len(self.along))
        for k, t in enumerate(self.teeth):
            mine = self.owner == k
            # r grows to the back.
            self.r[mine] = np.clip((self.along[mine] - t.at) / (t.wide / 2) * np.sign(t.at), -1, 1)
        gone = np.array([t.missing for t in self.teeth])[self.owner] | (np.abs(self.along) > self.end)
        self.there = np.clip(gaussian_filter1d((~gone).astype(float), 0.9 / self.plan.step_mm) * 2 - 0.6, 0, 1)

    def each(self, of) -> NDArray:  # noqa: ANN001
        out = np.empty(len(self.along))
        for k, t in enumerate(self.teeth):
            mine = self.owner == k
            out[mine] = of(t, self.r[mine])
        return out

    def tip_level(self) -> NDArray:
        """Of the tips: the lower's sag towards the middle of the arch, the upper's hang as much."""
        depth = np.clip(self.spot[:, 1] - self.spot[:, 1].min(), 0, None)
        t = np.clip(depth / 42.0, 0, 1.2)
        sag = self.plan.spee_mm * 4 * t * (1 - t)
        return (0.8 * sag if self.upper else -sag) + self.each(lambda t, r: np.full_like(r, t.raised))

    def profile(self) -> tuple[NDArray, NDArray]:
        """((k, 13) across, (k, 13) height) of the knots, cheek to tongue."""
        plan, tall = self.plan, self.each(lambda t, r: np.full_like(r, t.tall))
        soft = 1.6 / plan.step_mm
        level = self.tip_level()
        neck = gaussian_filter1d(level - tall, soft * 2) - plan.recession_mm
        ridge = gaussian_filter1d(self.each(lambda t, r: np.full_like(r, t.thick)), soft) * 0.42
        cheek, tongue = (self.each(lambda t, r, k=k: t.across(r)[k]) for k in (0, 1))
        film = plan.film * np.abs(self.r) ** 4
        cheek, tongue = cheek + 0.8 * film, tongue + 1.2 * film
        on = self.there
        cheek, tongue = on * cheek + (1 - on) * ridge, on * tongue + (1 - on) * ridge
        papilla = self.each(lambda t, r: (2.8 if t.number < 4 else 1.9) * np.abs(r) ** 2.6) * on * gaussian_filter1d(on, soft)
        margin = neck + papilla
        top = {name: level - self.each(lambda t, r, n=name: getattr(t, n)(r)) for name in ("cheek_top", "groove", "tongue_top")}
        bare = {"cheek_top": 0.7, "groove": 1.2, "tongue_top": 0.7}
        top = {k: np.maximum(on * v + (1 - on) * (margin + bare[k]), margin + 0.4) for k, v in top.items()}
        front = self.each(lambda t, r: np.full_like(r, float(t.number < 4)))
        edge_in, edge_out = self._edges(cheek, tongue, front)
        wave = gaussian_filter1d(self.rng.normal(0, 1, len(self.along)), 4 / plan.step_mm) * 2
        deep = 9.5 + wave
        a = [cheek + 4.5, cheek + 2.2, cheek + 1.3, cheek + 0.35, 0.86 * cheek, cheek, edge_out, 0.5 * (edge_out + edge_in), edge_in]
        z = [neck - deep, neck - 0.6 * deep, neck - 2.2, margin - 0.5, margin, margin + 0.36 * (top["cheek_top"] - margin)]
        z += [top["cheek_top"], np.where(front > 0, 0.72 * top["cheek_top"] + 0.28 * top["tongue_top"], top["groove"]), top["tongue_top"]]
        a += [-tongue, -0.9 * tongue, -tongue - 0.5]
        z += [margin + 0.45 * (top["tongue_top"] - margin), margin, margin - 0.6]
        slope = 5.0 if self.upper else 1.8
        a, z = [*a, -tongue - slope], [*z, neck - (6.5 if self.upper else 7.5) + 0.5 * wave]
        across, height = self._leaning(np.array(a).T, np.array(z).T, neck)
        aside = self.each(lambda t, r: t.out + t.turn * r * t.wide / 2) * on
        return across + gaussian_filter1d(aside, 0.5 / plan.step_mm)[:, None], height

    def _edges(self, cheek: NDArray, tongue: NDArray, front: NDArray) -> tuple[NDArray, NDArray]:
        """Where the inner and the outer cusps stand across; of front teeth the ledge and the edge."""
        return np.where(front > 0, -0.62 * tongue, -0.52 * tongue), np.where(front > 0, 0.15 * cheek, 0.55 * cheek)

    def _leaning(self, across: NDArray, height: NDArray, neck: NDArray) -> tuple[NDArray, NDArray]:
        """Crowns lean about where they touch each other, which is where the table has their widths; gum goes with the necks."""
        soft = 1.0 / self.plan.step_mm
        lean = np.sin(gaussian_filter1d(self.each(lambda t, r: np.full_like(r, t.lean)), soft))[:, None]
        touch = 0.65 * gaussian_filter1d(self.each(lambda t, r: np.full_like(r, t.tall)), soft)[:, None]
        rise = np.clip(height - neck[:, None], 0, None)
        return across + lean * (rise - touch), height - np.where(rise > 0, lean * across * 0.5, 0)

    def surface(self) -> tuple[Mesh, NDArray, NDArray]:
        """(the whole surface, (n,) how far over the margin each vertex lies, mm: 0 on teeth; (n,) its tooth's FDI number, 0 gum)."""
        across, height = self.profile()
        knots = np.arange(_KNOTS)
        length = np.r_[0, np.cumsum(np.median(np.hypot(np.diff(across, axis=1), np.diff(height, axis=1)), axis=0))]
        t = np.interp(np.linspace(0, length[-1], int(length[-1] / self.plan.step_mm) + 1), length, knots)
        a, z = PchipInterpolator(knots, across, axis=1)(t), PchipInterpolator(knots, height, axis=1)(t)
        points = np.concatenate([self.spot[:, None] + a[..., None] * self.out[:, None], z[..., None]], axis=2)
        step = np.linalg.norm(np.diff(points, axis=1), axis=2)
        cheek_end, tongue_end = np.searchsorted(t, 4.0), np.searchsorted(t, 10.0)
        over = np.zeros(points.shape[:2])
        over[:, :cheek_end] = np.cumsum(step[:, :cheek_end][:, ::-1], axis=1)[:, ::-1]
        over[:, tongue_end + 1 :] = np.cumsum(step[:, tongue_end:], axis=1)
        tooth = np.zeros(points.shape[:2], np.int16)
        fdi = np.array([0 if t.missing else t.fdi for t in self.teeth])[self.owner]
        tooth[:, cheek_end : tongue_end + 1] = np.where((self.there > 0.5) & (np.abs(self.along) <= self.end), fdi, 0)[:, None]
        if self.upper and self.plan.palate != "none":
            points, over = self._with_palate(points, over)
        rows, columns = points.shape[:2]
        i = (np.arange(rows - 1)[:, None] * columns + np.arange(columns - 1)).ravel()
        faces = np.vstack([np.c_[i, i + 1, i + columns], np.c_[i + 1, i + columns + 1, i + columns]])
        mesh = Mesh.of(points.reshape(-1, 3), faces)
        tooth = np.pad(tooth, ((0, 0), (0, columns - tooth.shape[1])))
        return (mesh if vector_area_mm2(mesh)[2] > 0 else mesh.turned_inside_out()), over.ravel(), tooth.ravel()

    def _with_palate(self, points: NDArray, over: NDArray) -> tuple[NDArray, NDArray]:
        """Lines go on to the middle; there those of both sides meet. What lies on the palate counts as near the margin."""
        last = points[:, -1].copy()
        last[:, 2] = gaussian_filter1d(last[:, 2], 4 / self.plan.step_mm)
        points[:, -1] = last
        front = self.spot[:, 1].min()
        middle = np.c_[np.zeros(len(last)), front + 8.5 + 0.97 * (self.spot[:, 1] - front), np.zeros(len(last))]
        deep = 7.0 if self.plan.palate == "flat" else 14.0
        middle[:, 2] = last[:, 2].mean() - deep * np.clip((middle[:, 1] - front) / 25, 0.15, 1)
        count = int(np.linalg.norm(middle - last, axis=1).max() / self.plan.step_mm) + 2
        t = np.linspace(0, 1, count)[1:]
        more = last[:, None] + (middle - last)[:, None] * t[:, None]
        more[..., 2] = last[:, 2][:, None] + (middle[:, 2] - last[:, 2])[:, None] * np.sin(t * np.pi / 2)
        more[..., 2] += 0.35 * np.sin(more[..., 1] * 1.3) * np.exp(-(((more[..., 1] - front - 15) / 6) ** 4)) * np.sin(np.pi * t)
        over[over[:, -1] > 0, points.shape[1] // 2 :] = 0
        return np.concatenate([points, more], axis=1), np.concatenate([over, np.zeros(more.shape[:2])], axis=1)


def seen(
    mesh: Mesh, over: NDArray, tooth: NDArray, along: NDArray, plan: SecondPlan, end: float, rng: np.random.Generator
) -> tuple[Mesh, NDArray]:
    """(what a scanner saw of it: torn at the border, behind the last teeth, with noise; (m,) the tooth of each triangle, 0 gum)."""
    angle = along / 7.0
    torn = sum(rng.normal(0, plan.ragged_mm / k) * np.sin(k * angle + rng.uniform(0, 6)) for k in (1, 3, 7, 13))
    behind = np.abs(along) - end
    keep = (over < plan.reach_mm + torn) & (behind < rng.uniform(1.5, 7.5) + 0.6 * torn)
    # Where the lines of both sides meet in the palate they are one surface: noise must not part them again.
    whole = weld(mesh.vertices_mm[mesh.faces[keep[mesh.faces].all(1)]].reshape(-1, 3)).mesh
    kept = largest_piece(whole)
    corner = tooth[cKDTree(mesh.vertices_mm).query(kept.vertices_mm)[1]][kept.faces]
    same = (corner[:, 0] == corner[:, 1]) & (corner[:, 1] == corner[:, 2])
    noisy = Mesh.of(kept.vertices_mm + rng.normal(0, plan.noise_mm, kept.vertices_mm.shape), kept.faces)
    return noisy, np.where(same, corner[:, 0], 0).astype(np.int16)
