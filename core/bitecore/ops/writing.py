"""Places for labels on a body that stands upright, and labels as solids there: along the outer wall, which is unrolled for it, or on
the flat underside. Both are grids of free cells; a label is a box that is turned and laid on them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import manifold3d
import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from ..mesh import GROUP_CUT, Mesh
from .free_wall import Free
from .heights import heights
from .raster import filled
from .written import Written

# From the foot of the wall to a label, from a label to its top, and from one label to the next.
FOOT_MM, HEAD_MM, _APART_MM = 0.5, 0.4, 1.2
# What is bent goes in steps of so much.
_STEP_MM = 0.4
_RISE_MM, _CELL_MM = 0.25, 0.5
# Around a label on the underside.
_EDGE_MM = 1.0
# Lines that the cavity keeps off stand so near to one another that between them the wall is thinner by 0.04 mm at most.
_LINES_MM, _PIECES_MM = 0.75, 2.0
# Lines that other things keep off, a drain's own width away.
_ROWS_MM = 4.0
# A quarter of a circle of bend costs as much as one step to a place that is liked less; a millimetre off the middle far less.
_BEND_MM, _OFF_COST = 10.0, 0.03
# Spots that differ by less are liked alike: of them the middle of a stretch is best.
_ALIKE, _ALONG_COST = 0.1, 0.004
# Which way a wall looks counts as a side from this share of it on.
_FACES = 0.7


@dataclass(frozen=True)
class Spot:
    """x, y : the middle of a label on its surface, mm; turn : counter-clockwise as it is read, radians"""

    x: float
    y: float
    turn: float


@dataclass(frozen=True)
class Surface:
    """Where labels can stand, as it is seen by who reads them: x to the right, y up.

    free  : (nx, ny) cells; step : their sides (mm); low : where cell 0, 0 begins; wraps : x goes round
    cost  : (nx, ny) how little a place is liked
    laid  : ((k, 2) places, (k,) mm out of the body) -> (k, 3)
    flat  : (3,) -> the place (2,) next to it
    where : what it is called
    """

    free: NDArray[np.bool_]
    step: tuple[float, float]
    low: tuple[float, float]
    wraps: bool
    cost: NDArray[np.float64]
    laid: Callable[[NDArray, NDArray], NDArray]
    flat: Callable[[NDArray], NDArray]
    where: str

    def middles(self) -> tuple[NDArray, NDArray]:
        """Of the cells, along x and y."""
        return tuple(low + (np.arange(count) + 0.5) * step for low, count, step in zip(self.low, self.free.shape, self.step, strict=True))  # type: ignore[return-value]

    def room(self, wide: float, tall: float, turn: float) -> NDArray[np.bool_]:
        """(nx, ny) which cells can be the middle of a box."""
        box = _box(wide, tall, turn, self.step)
        (nx, ny), reach = self.free.shape, box.shape[1]
        taken = np.ones((nx if self.wraps else nx + box.shape[0], ny + reach))
        taken[:nx, :ny] = ~self.free
        if box.shape[0] > taken.shape[0]:
            return np.zeros_like(self.free)
        kernel = np.zeros_like(taken)
        kernel[: box.shape[0], : box.shape[1]] = box
        kernel = np.roll(kernel, (-(box.shape[0] // 2), -(box.shape[1] // 2)), (0, 1))
        # A box that is its own mirror image: correlation and convolution are one.
        met = np.fft.irfft2(np.fft.rfft2(taken) * np.fft.rfft2(kernel), s=taken.shape)
        return self.free & (met[:nx, :ny] < 0.5)

    def place(self, written: Written, turn: float, asked: NDArray[np.float64] | None) -> tuple[Spot, float] | None:
        """(where it stands best, how far that is from the place asked for); None where there is no room."""
        room = self.room(written.width + 2 * self._beside, written.height + 2 * self._beside, turn)
        at = np.argwhere(room)
        if len(at) == 0:
            return None
        xs, ys = self.middles()
        spots = np.c_[xs[at[:, 0]], ys[at[:, 1]]]
        if asked is None:
            best = spots[int(self._liked(written, at, spots).argmin())]
            return Spot(float(best[0]), float(best[1]), turn), 0.0
        way = spots - asked
        if self.wraps:
            around = self.free.shape[0] * self.step[0]
            way[:, 0] = (way[:, 0] + around / 2) % around - around / 2
        off = np.linalg.norm(way, axis=1)
        best_at = int(off.argmin())
        # Within the cell it was asked for it stands exactly there.
        near = bool((np.abs(way[best_at]) <= np.array(self.step) / 2 + 1e-9).all())
        x, y = asked if near else spots[best_at]
        return Spot(float(x), float(y), turn), 0.0 if near else float(off[best_at])

    @property
    def _beside(self) -> float:
        return 0.0 if self.wraps else _EDGE_MM

    def _liked(self, written: Written, at: NDArray, spots: NDArray) -> NDArray[np.float64]:
        cost = self.cost[at[:, 0], at[:, 1]]
        if not self.wraps:
            return cost
        # In the middle between the foot of the wall and its top, as far as that is free all along.
        long = max(int(np.ceil(written.width / self.step[0])), 1)
        high = ndimage.minimum_filter1d(self.free.sum(1), long, mode="wrap") * self.step[1]
        first = ndimage.maximum_filter1d(np.where(self.free.any(1), self.free.argmax(1), 0), long, mode="wrap") * self.step[1]
        middle = (first + high / 2)[at[:, 0]]
        liked = cost + _OFF_COST * np.abs(spots[:, 1] - middle)
        return liked + self._off_middle(at[:, 0], liked)

    def _off_middle(self, column: NDArray, liked: NDArray) -> NDArray[np.float64]:
        """How far along the wall each spot is off the middle of the stretch it lies in, of what is liked about as much as the best."""
        count = self.free.shape[0]
        best = np.full(count, np.inf)
        np.minimum.at(best, column, liked)
        alike = best < best.min() + _ALIKE
        off = np.full(count, 0.0)
        if alike.all():
            return off[column]
        # Begun where none is, so that no stretch goes over the seam.
        first = int(np.flatnonzero(~alike)[0])
        label, stretches = ndimage.label(np.roll(alike, -first))
        for k in range(1, stretches + 1):
            where = np.flatnonzero(label == k)
            off[(where + first) % count] = _ALONG_COST * self.step[0] * np.abs(where - where.mean())
        return off[column]

    def without(self, written: Written, spot: Spot) -> Surface:
        """The same, with the place of a label taken."""
        xs, ys = self.middles()
        dx = xs[:, None] - spot.x
        if self.wraps:
            around = self.free.shape[0] * self.step[0]
            dx = (dx + around / 2) % around - around / 2
        dy = ys[None, :] - spot.y
        u, v = dx * np.cos(spot.turn) + dy * np.sin(spot.turn), dy * np.cos(spot.turn) - dx * np.sin(spot.turn)
        taken = (np.abs(u) <= written.width / 2 + _APART_MM) & (np.abs(v) <= written.height / 2 + _APART_MM)
        return Surface(self.free & ~taken, self.step, self.low, self.wraps, self.cost, self.laid, self.flat, self.where)

    def solid(self, written: Written, spot: Spot, *, inner: float, outer: float) -> Mesh:
        """A label as a solid that reaches so far into the body and out of it."""
        prism = written.shape.extrude(inner + outer).refine_to_length(_STEP_MM)

        def bent(points: NDArray) -> NDArray:
            return self.laid(self.turned(points[:, :2], written, spot), points[:, 2] - inner)

        return _mesh(prism.warp_batch(bent))

    def turned(self, points: NDArray, written: Written, spot: Spot) -> NDArray[np.float64]:
        """(k, 2) places on the surface from places in the label's own box."""
        x, y = points[:, 0] - written.width / 2, points[:, 1] - written.height / 2
        cos, sin = np.cos(spot.turn), np.sin(spot.turn)
        return np.c_[spot.x + x * cos - y * sin, spot.y + x * sin + y * cos]

    def lines(self, written: Written, spot: Spot, deep: float) -> NDArray[np.float64]:
        """(k, 2, 3) lines over the label, so deep in the body: what a cavity has to keep off."""
        rows = np.linspace(0, written.height, int(np.ceil(written.height / _LINES_MM)) + 1)
        stops = np.linspace(0, written.width, int(np.ceil(written.width / _PIECES_MM)) + 1)
        grid = np.stack(np.meshgrid(stops, rows), -1).reshape(-1, 2)
        points = self.laid(self.turned(grid, written, spot), np.full(len(grid), -deep)).reshape(len(rows), len(stops), 3)
        return np.stack([points[:, :-1], points[:, 1:]], 2).reshape(-1, 2, 3)

    def rows(self, written: Written, spot: Spot) -> NDArray[np.float64]:
        """(k, n, 3) lines along a label on the surface, from its foot to its top."""
        rows = np.linspace(0, written.height, int(np.ceil(written.height / _ROWS_MM)) + 1)
        stops = np.linspace(0, written.width, int(np.ceil(written.width / _PIECES_MM)) + 1)
        grid = np.stack(np.meshgrid(stops, rows), -1).reshape(-1, 2)
        return self.laid(self.turned(grid, written, spot), np.zeros(len(grid))).reshape(len(rows), len(stops), 3)

    def axes(self, written: Written, spot: Spot) -> tuple[NDArray, NDArray, NDArray]:
        """(the middle on the surface, along the line, up): (3,) each, the last two of length one."""
        middle = np.array([written.width / 2, written.height / 2])
        points = self.laid(self.turned(middle + np.array([[0, 0], [0.5, 0], [0, 0.5]]), written, spot), np.zeros(3))
        along, up = points[1] - points[0], points[2] - points[0]
        return points[0], along / np.linalg.norm(along), up / np.linalg.norm(up)


def on_wall(wall: Free, *, sides: NDArray[np.float64], likes: Callable[[str], float | None], left: int) -> Surface:
    """The outer wall, unrolled: x along its foot, y up from there.

    sides : (2,) to the front; left : +1 where x of the body is to the patient's left
    likes : how little a side (front, back, left, right) is liked; None: never
    """
    count = len(wall.tall)
    s = (np.arange(count) + 0.5) * wall.step_mm
    out = wall.bend.outward(s)
    cost = np.array([np.inf if (c := likes(side)) is None else c for side in _sides(out, sides, left)])
    sharp, outside = wall.sharpness(), wall.outside()
    # A cell lies between two places of the wall: the lower of them counts.
    tall = np.minimum(wall.tall, np.roll(wall.tall, -1))
    good = outside & (sharp <= wall.sharpest) & np.isfinite(cost)
    highest = float(tall.max(initial=0.0))
    rise = (np.arange(max(int(highest / _RISE_MM), 1)) + 0.5) * _RISE_MM
    free = good[:, None] & (rise >= FOOT_MM) & (rise <= tall[:, None] - HEAD_MM)
    costs = np.broadcast_to((np.where(np.isfinite(cost), cost, 0) + _BEND_MM * sharp)[:, None], free.shape)

    def laid(at: NDArray, far: NDArray) -> NDArray:
        along = at[:, 0]
        plan = wall.bend.at(along) + wall.bend.outward(along) * (far - wall.leans(along) * at[:, 1])[:, None]
        return np.c_[plan, wall.floor + at[:, 1]]

    def flat(point: NDArray) -> NDArray:
        return np.array([wall.bend.nearest(point[:2]), point[2] - wall.floor])

    return Surface(free, (wall.step_mm, _RISE_MM), (0.0, 0.0), True, costs, laid, flat, "wall")


def _sides(out: NDArray, front: NDArray, left: int) -> list[str]:
    ahead = out @ front
    beside = np.where(out[:, 0] * left > 0, "left", "right")
    return [str(x) for x in np.where(ahead > _FACES, "front", np.where(ahead < -_FACES, "back", beside))]


def underneath(body: Mesh, front: NDArray[np.float64], *, thick_mm: float = 0.0) -> Surface | None:
    """The flat underside, read from below with the front up; None where there is none. front : (2,) of length one;
    thick_mm : where the body is thinner over it nothing stands"""
    floor = float(body.vertices_mm[:, 2].min())
    on_floor = np.asarray((body.vertices_mm[body.faces][:, :, 2] < floor + 1e-6).all(1))
    bottom = body.of_faces(on_floor)
    if bottom.triangles == 0:
        return None
    # Seen from below x runs the other way.
    across = np.array([-front[1], front[0]])
    turn = np.stack([across, front])
    cells, low = filled(bottom.vertices_mm[:, :2] @ turn.T, bottom.faces.astype(np.int64), _CELL_MM)
    middle = np.argwhere(cells).mean(0)
    over = np.c_[body.vertices_mm[:, :2] @ turn.T, body.vertices_mm[:, 2]]
    free = cells & (heights(over, body.faces[~on_floor], low, cells.shape, _CELL_MM)[0] >= floor + thick_mm)
    cost = 0.02 * _CELL_MM * np.linalg.norm(np.indices(cells.shape) - middle[:, None, None], axis=0)

    def laid(at: NDArray, far: NDArray) -> NDArray:
        return np.c_[at @ turn, floor - far]

    corner = low - _CELL_MM / 2
    step = (_CELL_MM, _CELL_MM)
    return Surface(free, step, (float(corner[0]), float(corner[1])), False, cost, laid, lambda p: turn @ p[:2], "underneath")


def _box(wide: float, tall: float, turn: float, step: tuple[float, float]) -> NDArray[np.bool_]:
    """Cells that a turned box touches, its middle in the middle one; odd numbers of them."""
    cos, sin = abs(np.cos(turn)), abs(np.sin(turn))
    reach = [int(np.ceil((a + 1e-9) / 2 / d)) for a, d in zip((wide * cos + tall * sin, wide * sin + tall * cos), step, strict=True)]
    x, y = (np.arange(-r, r + 1) * d for r, d in zip(reach, step, strict=True))
    c, s = np.cos(turn), np.sin(turn)
    u, v = x[:, None] * c + y[None, :] * s, y[None, :] * c - x[:, None] * s
    # A cell counts whose own half reaches into the box.
    half = [(abs(c) * step[0] + abs(s) * step[1]) / 2, (abs(s) * step[0] + abs(c) * step[1]) / 2]
    box: NDArray[np.bool_] = (np.abs(u) < wide / 2 + half[0] - 1e-9) & (np.abs(v) < tall / 2 + half[1] - 1e-9)
    return box


def _mesh(solid: manifold3d.Manifold) -> Mesh:
    out = solid.to_mesh64()
    faces = np.asarray(out.tri_verts).astype(np.int64)
    made = Mesh.of(np.asarray(out.vert_properties)[:, :3], faces, np.full(len(faces), GROUP_CUT, np.uint8))
    return made if solid.volume() > 0 else made.turned_inside_out()
