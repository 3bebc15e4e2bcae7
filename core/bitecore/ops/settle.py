"""Least-squares settling of bodies on each other by the surfaces they share, with an estimate of what is left.

Every link says that points of one body lie on the surface of another. All poses are found together: point to plane at
the exact closest points, each link weighted by its own scatter, robustly (Geman and McClure's weights; from memory).
The estimate takes two errors for granted: white noise, and a slow error of the scanners that is alike within some 20 mm;
both are measured in the residuals left over (variance components, as in adjustment computation) and carried through to
the points asked for.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import solve_triangular
from scipy.optimize import minimize
from scipy.spatial.transform import Rotation

from ..mesh import Mesh, vertex_normals
from ..mesh.topology import at_border
from .closest import ClosestPoints
from .starts import Samples

_MOST_ROUNDS = 40
# A step that moves no point by more (mm) ends it.
_STILL_MM, _NEAR_MM = 5e-5, 0.005
_FEW = 1200
# Directions in which the surfaces stand against a movement less than this share of the best-held one are free.
_HELD, _UNHELD_MM, _LEVER_MM = 1e-4, 1.0, 25.0
# Weights that fall with the distance make each plain step a quarter too short.
_STRIDE = 1.3
_WARP_LENGTH_MM = 20.0
_CELLS = 80
_LIES = 0.2
# Slow error of intraoral scanners over an arch (common practice, no source).
_USUAL_WARP_MM = 0.008


class Target:
    """A surface to settle on, with its tree; made once."""

    def __init__(self, mesh: Mesh) -> None:
        self.mesh = mesh
        self._tree = ClosestPoints(mesh)
        self._rim = at_border(mesh)
        self._normals = vertex_normals(mesh)

    def meet(self, points: NDArray, reach: float) -> tuple[NDArray, NDArray, NDArray]:
        """(closest (k, 3), normals (k, 3), found (k,)); what is nearest to an open border has not been met.

        Triangles lie under the round surface that was scanned: the closest point is lifted half way to the tangent
        planes of its corners (after Boubekeur and Alexa, Phong tessellation, 2008; from memory; half is exact on a circle).
        """
        hits = self._tree.query(points, within_mm=reach)
        face = np.maximum(hits.face, 0)
        corner = self.mesh.faces[face]
        v, w = hits.weights[:, :1], hits.weights[:, 1:]
        n, lift = np.zeros_like(hits.point_mm), np.zeros_like(hits.point_mm)
        for k, share in enumerate((1 - v - w, v, w)):
            own = self._normals[corner[:, k]]
            n += own * share
            off = np.einsum("ij,ij->i", self.mesh.vertices_mm[corner[:, k]] - hits.point_mm, own)
            lift += own * off[:, None] * share
        n /= np.maximum(np.linalg.norm(n, axis=1), 1e-12)[:, None]
        return hits.point_mm + 0.5 * lift, n, (hits.face >= 0) & ~self._rim[face]


@dataclass(frozen=True)
class Link:
    """Points of body `moving`, in its own frame, lie on the surface of body `on`."""

    moving: str
    on: str
    points: Samples
    target: Target


@dataclass(frozen=True)
class LinkFit:
    """rms_mm of what was met; met : its share of all points; residual_mm, point_mm (world), used : of each point."""

    rms_mm: float
    met: float
    residual_mm: NDArray[np.float64]
    point_mm: NDArray[np.float64]
    used: NDArray[np.bool_]


@dataclass(frozen=True)
class Settlement:
    """poses : body to (4, 4) world; links : as asked, in order; covariance : (6 f, 6 f) of small turns (rad, about the
    world's origin) and shifts (mm) of the free bodies in `free`'s order; noise_mm, warp_mm : the two errors found."""

    poses: dict[str, NDArray[np.float64]]
    links: tuple[LinkFit, ...]
    free: tuple[str, ...]
    covariance: NDArray[np.float64]
    noise_mm: float
    warp_mm: float
    rounds: int = 0
    weakest: NDArray[np.float64] = field(default_factory=lambda: np.zeros(6))

    def error_mm(self, body: str, points_mm: NDArray) -> NDArray[np.float64]:
        """(k,) RMS error to expect of points (k, 3), in the world, that go with a body."""
        at = 6 * self.free.index(body)
        c = self.covariance[at : at + 6, at : at + 6]
        g = _lever(np.asarray(points_mm, np.float64))
        return np.sqrt(np.maximum(np.einsum("kia,ab,kib->k", g, c, g), 0.0))


def _lever(points: NDArray) -> NDArray:
    """(k, 3, 6): how small turns about the origin and shifts move points."""
    g = np.zeros((len(points), 3, 6))
    x, y, z = points.T
    g[:, 0, 1], g[:, 0, 2], g[:, 1, 0], g[:, 1, 2], g[:, 2, 0], g[:, 2, 1] = z, -y, -z, x, y, -x
    g[:, :, 3:] = np.eye(3)
    return g


@dataclass
class _Rows:
    """One link's equations at the poses of now: J of a point of the moving body (that of `on` is its negative); w :
    weights; slope : how much a change of r counts, which is less, as the weight changes with it."""

    j: NDArray
    r: NDArray
    w: NDArray
    slope: NDArray
    y: NDArray
    n: NDArray
    used: NDArray


def settle(
    links: Sequence[Link], poses: Mapping[str, NDArray], *, fixed: str, reach_mm: float = 0.6, end_mm: float = 0.2
) -> Settlement:  # fmt: skip
    """Poses of all bodies but the fixed one, from starts within about reach_mm. Deterministic."""
    now = {k: np.asarray(m, np.float64).copy() for k, m in poses.items()}
    free = tuple(k for k in now if k != fixed)
    middle = np.vstack([_moved(now[k.moving], k.points.points_mm) for k in links]).mean(0)
    # A first approach with few points; then all of those that can meet anything from there.
    first = [_with(k, k.points.thinned(_FEW)) for k in links]
    rounds = _rounds(first, now, free, middle, reach_mm, end_mm, still=_NEAR_MM)
    near = [_with(k, k.points.where(_rows(k, now, 3 * end_mm, middle).used)) for k in links]
    rounds += _rounds(near, now, free, middle, end_mm, end_mm, still=_STILL_MM)
    rows = [_rows(k, now, end_mm, middle) for k in links]
    return _settlement(links, rows, now, free, middle, rounds)


def nudged(links: Sequence[Link], poses: Mapping[str, NDArray], *, fixed: str, reach_mm: float = 0.2) -> dict[str, NDArray]:
    """Poses that are settled nearly, a few steps further with fewer points: what part of the links alone would say."""
    now = {k: np.asarray(m, np.float64).copy() for k, m in poses.items()}
    free = tuple(k for k in now if k != fixed)
    few = [_with(k, k.points.thinned(_FEW)) for k in links]
    _rounds(few, now, free, np.vstack([_moved(now[k.moving], k.points.points_mm) for k in few]).mean(0), reach_mm, reach_mm, still=0.001)
    return now


def _with(link: Link, points: Samples) -> Link:
    return Link(link.moving, link.on, points, link.target)


def _rounds(links, now, free, middle, reach, end_mm, *, still) -> int:
    """Steps `now` until nothing moves by more than `still` (mm); how many it took."""
    for count in range(1, _MOST_ROUNDS + 1):
        rows = [_rows(k, now, reach, middle) for k in links]
        a, b = _normal_equations(links, rows, free)
        if not np.trace(a) > 0:
            return count  # nothing meets anything
        x = -_STRIDE * _held_step(a, b)
        moved = 0.0
        for i, body in enumerate(free):
            turn, shift = x[6 * i : 6 * i + 3], x[6 * i + 3 : 6 * i + 6]
            now[body] = _by(turn, shift, middle) @ now[body]
            moved = max(moved, float(np.linalg.norm(turn) * 35 + np.linalg.norm(shift)))
        if moved < still and reach <= end_mm:
            return count
        reach = max(end_mm, reach * 0.6) if moved < 0.5 * reach else reach
    return _MOST_ROUNDS


def _held_step(a: NDArray, b: NDArray) -> NDArray:
    """a⁻¹ b in the directions that are held; nothing in those that are free, where noise alone would drive it."""
    lever = np.tile([1 / _LEVER_MM] * 3 + [1.0] * 3, len(b) // 6)
    value, vector = np.linalg.eigh(a * lever[:, None] * lever[None, :])
    held = value > _HELD * value.max()
    return lever * (vector[:, held] @ ((vector[:, held].T @ (lever * b)) / value[held]))


def _moved(m: NDArray, points: NDArray) -> NDArray:
    return points @ m[:3, :3].T + m[:3, 3]


def _by(turn: NDArray, shift: NDArray, middle: NDArray) -> NDArray:
    out = np.eye(4)
    out[:3, :3] = Rotation.from_rotvec(turn).as_matrix()
    out[:3, 3] = middle + shift - out[:3, :3] @ middle
    return out


def _rows(link: Link, now: Mapping[str, NDArray], reach: float, middle: NDArray) -> _Rows:
    y = _moved(now[link.moving], link.points.points_mm)
    own = link.points.normals @ now[link.moving][:3, :3].T
    base = now[link.on]
    back = np.linalg.inv(base)
    point, normal, found = link.target.meet(_moved(back, y), reach)
    n = normal @ base[:3, :3].T
    r = np.einsum("ij,ij->i", y - _moved(base, point), n)
    used = found & (np.einsum("ij,ij->i", own, n) > 0.7)
    scatter = 1.4826 * float(np.median(np.abs(r[used]))) + 1e-6 if used.sum() > 20 else reach
    u2 = (r / (3 * scatter)) ** 2
    w = np.where(used, 1 / (1 + u2) ** 2, 0.0) / scatter**2
    slope = np.where(used, (1 - 3 * u2) / (1 + u2) ** 3, 0.0) / scatter**2
    return _Rows(np.concatenate([np.cross(y - middle, n), n], axis=1), r, w, slope, y, n, used)


def _normal_equations(links: Sequence[Link], rows: Sequence[_Rows], free: tuple[str, ...]) -> tuple[NDArray, NDArray]:
    a, b = np.zeros((6 * len(free),) * 2), np.zeros(6 * len(free))
    for link, row in zip(links, rows, strict=True):
        jw = row.j * row.w[:, None]
        h, g = jw.T @ row.j, jw.T @ row.r
        own = [(6 * free.index(k), s) for k, s in ((link.moving, 1.0), (link.on, -1.0)) if k in free]
        for i, si in own:
            b[i : i + 6] += si * g
            for j, sj in own:
                a[i : i + 6, j : j + 6] += si * sj * h
    return a, b


def _settlement(links, rows, now, free, middle, rounds) -> Settlement:
    fits = []
    for row in rows:
        rms = float(np.sqrt(np.average(row.r[row.used] ** 2))) if row.used.any() else float("inf")
        fits.append(LinkFit(rms, float(row.used.mean()), row.r, row.y, row.used))
    covariance, noise, warp, weakest = _covariance(links, rows, free, middle)
    # From turns about the middle to turns about the world's origin: x' = x + turn × (−middle).
    shift = np.eye(6 * len(free))
    cross = np.array([[0, middle[2], -middle[1]], [-middle[2], 0, middle[0]], [middle[1], -middle[0], 0]])
    for i in range(len(free)):
        shift[6 * i + 3 : 6 * i + 6, 6 * i : 6 * i + 3] = -cross
    return Settlement(now, tuple(fits), free, shift @ covariance @ shift.T, noise, warp, rounds, weakest)


def _covariance(links, rows, free, middle) -> tuple[NDArray, float, float, NDArray]:
    cells = _cells(links, rows, free)
    if cells is None:
        return np.eye(6 * len(free)) * _UNHELD_MM**2, 0.0, 0.0, np.zeros(6)
    # Turns as millimetres at a lever's length, so that all directions can be compared.
    lever = np.tile([1 / _LEVER_MM] * 3 + [1.0] * 3, len(free))
    j = cells.j * lever
    value, vector = np.linalg.eigh((j * cells.w[:, None]).T @ j)
    least = _HELD * value.max()
    inverse = vector @ np.diag(1 / np.maximum(value, 1e-9 * value.max())) @ vector.T
    alike = cells.alike()
    times, warp2 = _components(cells, alike, j @ vector[:, value > least])
    gain = inverse @ (j * cells.w[:, None]).T
    # What no surface stands against is as uncertain as the start was, however small the residuals.
    unheld = vector @ np.diag(_UNHELD_MM**2 * (least / (np.maximum(value, 0.0) + least)) ** 4) @ vector.T
    covariance = gain @ (np.diag(times * cells.white) + warp2 * alike) @ gain.T + unheld
    covariance *= lever[:, None] * lever[None, :]
    return covariance, _noise(rows), float(np.sqrt(3 * warp2)), vector[:, 0]


def _components(cells: _Cells, alike: NDArray, held: NDArray) -> tuple[float, float]:
    """(what the white variances are to be multiplied with, variance of the slow error a direction in mm²), the likeliest
    for the residuals whatever the poses are: restricted maximum likelihood (Patterson and Thompson 1971; from memory).
    held : (k, h) the cells' equations in the directions that are held."""
    usual = float(cells.white.mean())

    def unlikely(x: NDArray) -> float:
        v = np.diag(np.exp(x[0]) * cells.white) + np.exp(x[1]) * usual * alike
        lower = np.linalg.cholesky(v)
        j = solve_triangular(lower, held, lower=True)
        r = solve_triangular(lower, cells.r, lower=True)
        jj = j.T @ j
        jr = j.T @ r
        log_det = 2 * np.log(np.diag(lower)).sum() + np.linalg.slogdet(jj)[1]
        # The slow error is taken to be some 8 µm beforehand, within a factor of some three.
        before = 0.5 * ((x[1] - np.log(_USUAL_WARP_MM**2 / 3 / usual)) / 1.6) ** 2
        return float(0.5 * (log_det + r @ r - jr @ np.linalg.solve(jj, jr)) + before + 0.5 * (x[0] / 0.5) ** 2)

    start = np.array([0.0, np.log(_USUAL_WARP_MM**2 / 3 / usual)])
    best = minimize(unlikely, start, method="Nelder-Mead", options={"xatol": 0.03, "fatol": 0.02, "maxiter": 60}).x
    return float(np.exp(best[0])), float(np.exp(best[1]) * usual)


def _noise(rows: Sequence[_Rows]) -> float:
    """Scatter of single points about what is near them is most of the residual's own, robustly (mm)."""
    found = np.concatenate([row.r[row.used] for row in rows])
    return float(1.4826 * np.median(np.abs(found))) if len(found) else 0.0


@dataclass
class _Cells:
    """Means over patches of some millimetres; j for all free bodies; white : (k,) variance of each mean by noise alone,
    from the differences between its two halves."""

    j: NDArray
    r: NDArray
    w: NDArray
    white: NDArray
    y: NDArray
    n: NDArray
    moving: NDArray
    on: NDArray

    def alike(self) -> NDArray:
        """Covariance of the slow error along the normals for one unit of variance a direction."""
        d2 = ((self.y[:, None, :] - self.y[None, :, :]) ** 2).sum(2)
        shared = (self.moving[:, None] == self.moving).astype(float) + (self.on[:, None] == self.on)
        shared -= (self.moving[:, None] == self.on).astype(float) + (self.on[:, None] == self.moving)
        return shared * (self.n @ self.n.T) * np.exp(-d2 / (2 * _WARP_LENGTH_MM**2))


def _cells(links: Sequence[Link], rows: Sequence[_Rows], free: tuple[str, ...]) -> _Cells | None:
    bodies = {k: i for i, k in enumerate({b for link in links for b in (link.moving, link.on)})}
    parts: list[tuple] = []
    total = sum(int(row.used.sum()) for row in rows)
    for link, row in zip(links, rows, strict=True):
        use = np.flatnonzero(row.used & (row.w > 0))
        if len(use) < 8:
            continue
        count = max(8, int(_CELLS * len(use) / max(total, 1)))
        half = _grouped(row.y[use], row.n[use], 2 * count)
        label = half // 2
        own, slope, r = row.w[use], row.slope[use], row.r[use]
        weight = np.bincount(label, slope)

        def mean(x, own=own, label=label):
            columns = np.atleast_2d(x.T)
            sums = np.stack([np.bincount(label, c * own) for c in columns], 1) / np.bincount(label, own)[:, None]
            return sums.reshape((len(sums),) + x.shape[1:])

        k = len(weight)
        # A patch that lies off as a whole has changed: its points count for next to nothing, nor does it tell of errors.
        lies = _lying(half, slope, own).reshape(-1, 2).all(1)
        halves = np.bincount(half, r * own) / np.where(np.repeat(lies, 2), np.bincount(half, slope), 1.0)
        apart = (halves[0::2] - halves[1::2])[lies]
        white = np.full(k, np.mean(apart**2) / 4 if lies.any() else 0.0)
        j = np.zeros((k, 6 * len(free)))
        mine = mean(row.j[use])
        for body, sign in ((link.moving, 1.0), (link.on, -1.0)):
            if body in free:
                at = 6 * free.index(body)
                j[:, at : at + 6] += sign * mine
        columns = (j, np.bincount(label, r * own) / np.where(lies, weight, 1.0), weight, white, mean(row.y[use]), mean(row.n[use]),
                   np.full(k, bodies[link.moving]), np.full(k, bodies[link.on]))  # fmt: skip
        parts.append(tuple(c[lies] for c in columns))
    found = [np.concatenate(x) for x in zip(*parts, strict=True)] if parts else []
    return _Cells(*found) if found and len(found[0]) >= 8 else None


def _lying(label: NDArray, slope: NDArray, own: NDArray) -> NDArray[np.bool_]:
    """Of each group of points: do most of them lie on the other surface?"""
    return np.bincount(label, slope) > _LIES * np.bincount(label, own)


def _grouped(y: NDArray, n: NDArray, count: int) -> NDArray:
    """(k,) patch numbers, all of nearly one size: halved along the widest direction of place and normal until there are
    `count` or so. Patches 2i and 2i + 1 are the halves of one."""
    features = np.concatenate([y, 4.0 * n], axis=1)
    order = [np.arange(len(y))]
    while len(order) < count and len(order[-1]) >= 4:
        halves = []
        for part in order:
            axis = int(np.ptp(features[part], axis=0).argmax())
            split = part[np.argsort(features[part, axis], kind="stable")]
            halves += [split[: len(part) // 2], split[len(part) // 2 :]]
        order = halves
    label = np.zeros(len(y), int)
    for i, part in enumerate(order):
        label[part] = i
    return label
