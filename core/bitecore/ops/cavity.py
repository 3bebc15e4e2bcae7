"""What is taken out of a body to leave a wall: everything deeper than the wall under its surface, smooth and in one piece.

A grid of cells, distances exact near the wall; an opening by a ball takes fissures and lone crowns off the cavity, in which resin
would stay and which no drain would reach.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import manifold3d
import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from skimage.measure import marching_cubes

from ..mesh import GROUP_CUT, Mesh
from ..progress import QUIET, Run
from .closest import ClosestPoints
from .crossing import crossing_faces
from .nearby import nearby
from .ribs import Stiffened
from .segments import to_segment
from .shallows import without_shallows
from .standoff import StandOff
from .voxels import Voxels, voxels

_CELL_MM = 0.4
# Of the ball that opens the cavity; how many cells either side of the wall the distance is asked exactly.
_ROUND_MM, _BAND = 1.0, 1.5
# Of the blur that rounds it, cells to each side.
_BLUR = 3
# Less than this is no room worth having (ml); a room beside a larger one is worth its two drains only from so much on.
_LEAST_ML, _BESIDE_ML = 0.05, 0.3
# Corners that change the surface by less than this are left out.
_EVEN_MM = 0.02
# Corners stand so much farther off than asked: between them flat triangles lie nearer to the surface.
_SPARE_MM = 0.03
# Where sides and faces dip in by more than this, their corners go back, so often.
_EASE_OVER_MM, _EASINGS = 0.01, 4
_UNTANGLINGS, _HAIR_MM = 12, 0.01
# Nobody asks how thick the wall is where it is so much thicker than asked.
_THICK_MM = 0.3
# An open cavity goes on so far under the floor.
_THROUGH_MM = 1.0


@dataclass(frozen=True)
class Keep:
    """What the cavity keeps its wall from: all within radius_mm of the line between two points (3,)."""

    start: NDArray[np.float64]
    end: NDArray[np.float64]
    radius_mm: float

    def distance(self, points: NDArray) -> NDArray[np.float64]:
        return to_segment(points, self.start, self.end) - self.radius_mm


@dataclass(frozen=True)
class Cavity:
    """mesh : a closed solid in the frame of the body, None where no room is left; thinnest_mm : measured from all its corners,
    edge and face middles above the floor to the body's surface; ribbed : it is stiffened"""

    mesh: Mesh | None
    thinnest_mm: float
    ribbed: bool = False


@dataclass(frozen=True)
class Thicker:
    """So thick is the wall at least under these faces of the surface (teeth)."""

    under: Mesh
    mm: float


def cavity(
    body: Mesh, *, wall_mm: float, floor_mm: float | None, keep: Sequence[Keep] = (), thicker: Thicker | None = None,
    stiffened: Stiffened | None = None, run: Run = QUIET,
) -> Cavity:  # fmt: skip
    """Of a closed body, z up, flat underneath at its lowest. floor_mm : how thick the floor is; None: it is open underneath."""
    grid = voxels(body, cell=_CELL_MM, pad=2 * _CELL_MM)
    run.tick(0.15, "how deep")
    bottom = float(body.vertices_mm[:, 2].min())
    skin = _skin(body, bottom, open_below=floor_mm is None)
    if floor_mm is None:
        grid = _without_floor(grid, bottom, wall_mm)
    depth = _depth(grid, wall_mm)
    run.tick(0.3, "how deep")
    most = _kept_from(depth, grid, wall_mm, keep)
    if thicker is not None and thicker.mm > wall_mm and thicker.under.triangles:
        teeth = ClosestPoints(thicker.under)
        _thickened(most, depth, grid, teeth, wall_mm, thicker.mm)
    if floor_mm is not None:
        rise = np.arange(depth.shape[2]) * _CELL_MM + grid.low[2] - bottom
        np.minimum(most, (wall_mm + rise - floor_mm).astype(np.float32), out=most)
    opened = _opened(np.minimum(depth, most), wall_mm)
    run.tick(0.4, "how deep")
    _exact(depth, opened, grid, skin, wall_mm)
    run.tick(0.6, "smoothing the cavity")
    level = np.minimum(opened, np.minimum(depth, most) - np.float32(wall_mm))
    if floor_mm is None:
        first = int((bottom - grid.low[2]) / grid.cell)
        level = without_shallows(level, cell_mm=grid.cell, first=first, least_mm=2 * _ROUND_MM)
    kept = _kept(level, through=floor_mm is None)
    if kept is None:
        return Cavity(None, np.inf)
    ribs = stiffened.field(kept > 0, grid, bottom + (floor_mm or 0.0)) if stiffened else None
    if ribs is not None:
        # Under a sloping roof they shut corners off.
        stiff = _kept(np.minimum(kept, ribs), through=floor_mm is None)
        ribs, kept = (None, kept) if stiff is None else (ribs, stiff)
    kept = _sealed(kept)
    run.tick(0.75, "its surface")
    drawn = _surface(kept, grid)
    made = _held_off(drawn, skin, wall_mm, bottom if floor_mm is None else bottom + floor_mm)
    if thicker is not None and thicker.mm > wall_mm and thicker.under.triangles:
        made = _held_off(made, teeth, thicker.mm, bottom)
    # As it was drawn it goes nowhere through itself.
    moved = (made.vertices_mm != drawn.vertices_mm).any(1)
    made = _evened(_untangled(made, _CELL_MM / 2, among=moved[made.faces].any(1)))
    wall = StandOff(made, skin, wall_mm + _SPARE_MM, bottom)
    # With fewer triangles, large flat ones may go through each other by a hair.
    made = _untangled(_eased(made, wall, wall_mm), _HAIR_MM)
    run.tick(0.9, "measuring the wall")
    return Cavity(made, wall.least(made, up_to_mm=wall_mm + _THICK_MM), ribs is not None)


def _skin(body: Mesh, bottom: float, *, open_below: bool) -> ClosestPoints:
    """The surface to keep the wall from: without the floor, where that is open."""
    if not open_below:
        return ClosestPoints(body)
    return ClosestPoints(body.of_faces(~(body.vertices_mm[body.faces][:, :, 2] < bottom + 1e-6).all(1)))


def _without_floor(grid: Voxels, bottom: float, wall_mm: float) -> Voxels:
    """The solid carried on downwards, so that no wall stands off its floor."""
    first = int(np.ceil((bottom - grid.low[2]) / grid.cell))
    more = int(np.ceil((wall_mm + _ROUND_MM + _THROUGH_MM) / grid.cell))
    inside = np.concatenate([np.repeat(grid.inside[:, :, first : first + 1], more, 2), grid.inside[:, :, first:]], 2)
    return Voxels(inside, grid.low + [0, 0, (first - more) * grid.cell], grid.cell)


def _depth(grid: Voxels, wall_mm: float) -> NDArray[np.float32]:
    """mm under the surface, by the grid."""
    # How deep it is where the ball fits with room to spare is no matter.
    deepest = int(np.ceil((wall_mm + _ROUND_MM) / grid.cell)) + 2
    depth = (nearby(~grid.inside, within=deepest)[0] - np.float32(0.5)) * np.float32(grid.cell)
    depth[~grid.inside] = -1
    return depth


def _exact(depth: NDArray[np.float32], opened: NDArray[np.float32], grid: Voxels, skin: ClosestPoints, wall_mm: float) -> None:
    """Exact where the cavity's surface may run: near the wall, and not where the opening takes it off the wall anyway."""
    band = np.abs(depth - wall_mm) < _BAND * grid.cell
    # The grid is wrong by less than a cell.
    band &= (opened > -grid.cell) & (opened > depth - np.float32(wall_mm + grid.cell))
    depth[band] = skin.query(grid.middles(band), within_mm=wall_mm + _BAND * grid.cell).distance_mm


def _kept_from(depth: NDArray[np.float32], grid: Voxels, wall_mm: float, keep: Sequence[Keep]) -> NDArray[np.float32]:
    """How deep it is at most, for what the cavity keeps its wall from."""
    most = np.full(depth.shape, np.inf, np.float32)
    for each in keep:
        reach = each.radius_mm + wall_mm + _ROUND_MM + 2 * grid.cell
        first = np.maximum(np.floor((np.minimum(each.start, each.end) - reach - grid.low) / grid.cell).astype(int), 0)
        last = np.maximum(np.ceil((np.maximum(each.start, each.end) + reach - grid.low) / grid.cell).astype(int) + 1, 0)
        box = tuple(slice(int(a), int(b)) for a, b in zip(first, last, strict=True))
        near = most[box]
        cells = np.stack(np.meshgrid(*(np.arange(n) for n in near.shape), indexing="ij"), -1).reshape(-1, 3)
        off = each.distance((cells + first) * grid.cell + grid.low)
        near[...] = np.minimum(near, off.reshape(near.shape).astype(np.float32))
    return most


def _thickened(
    most: NDArray[np.float32], depth: NDArray[np.float32], grid: Voxels, teeth: ClosestPoints, wall_mm: float, thick_mm: float
) -> None:
    """Cells nearer to the teeth than their wall count as that much less deep."""
    reach = thick_mm + _ROUND_MM + _BAND * grid.cell
    near = (depth > wall_mm - _BAND * grid.cell) & (depth < reach)
    # What is deep by the grid's own reckoning may lie beyond its reach.
    near |= depth >= wall_mm + _ROUND_MM
    hits = teeth.query(grid.middles(near), within_mm=reach)
    off = np.where(hits.face >= 0, hits.distance_mm, np.inf) - (thick_mm - wall_mm)
    most[near] = np.minimum(most[near], off)


def _opened(depth: NDArray[np.float32], wall_mm: float) -> NDArray[np.float32]:
    """Above nought: within a ball of _ROUND_MM that lies whole under the wall; rounded."""
    deep = depth >= wall_mm + _ROUND_MM
    if not deep.any():
        return np.full_like(depth, -1)
    away, nearest = nearby(deep, within=int(_ROUND_MM / _CELL_MM) + _BLUR + 2)
    # How far the nearest of the deep cells is past the level: finer than the grid.
    past = np.clip(depth.ravel()[nearest] - (wall_mm + _ROUND_MM), 0, _CELL_MM) * (away > 0)
    level = (_ROUND_MM - (away * _CELL_MM - past)).astype(np.float32)
    level[deep] = _ROUND_MM
    return ndimage.gaussian_filter(level, 1.0, radius=_BLUR)


def _kept(level: NDArray[np.float32], *, through: bool) -> NDArray[np.float32] | None:
    """Without pockets that no drain would reach: of an open cavity all that does not come out at the floor, and of any what is too small
    for drains of its own."""
    label, count = ndimage.label(level > 0)
    ml = np.bincount(label.ravel(), minlength=count + 1) * _CELL_MM**3 / 1000
    ml[0] = 0.0
    if through:
        ml[np.setdiff1d(np.arange(count + 1), label[:, :, 0])] = 0.0
    keep = (ml >= _LEAST_ML) & ((ml >= _BESIDE_ML) | (ml >= ml.max()))
    if not keep.any():
        return None
    return np.where(keep[label] | (label == 0), level, np.minimum(level, -np.abs(level) - np.float32(1e-3)))


def _sealed(level: NDArray[np.float32]) -> NDArray[np.float32]:
    """Shut at the ends of the grid, so that its surface is closed."""
    for axis in range(3):
        side = np.moveaxis(level, axis, 0)
        side[0], side[-1] = -1, -1
    return level


def _surface(level: NDArray[np.float32], grid: Voxels) -> Mesh:
    points, faces, _, _ = marching_cubes(level, 0.0)
    points = points.astype(np.float64) * grid.cell + grid.low
    a, b, c = (points[faces[:, k]] for k in range(3))
    turned = np.einsum("ij,ij->i", a, np.cross(b, c)).sum() < 0
    return Mesh.of(points, faces[:, ::-1].astype(np.int64) if turned else faces.astype(np.int64))


def _held_off(made: Mesh, skin: ClosestPoints, wall_mm: float, above: float) -> Mesh:
    """Corners that stand too near to the surface set off from it by the whole wall."""
    points = made.vertices_mm.copy()
    near = np.flatnonzero(points[:, 2] > above + 0.01)
    # Twice: set off from one side of a narrow place, a corner may come too near to the other.
    for _ in range(2):
        hits = skin.query(points[near], within_mm=wall_mm + _SPARE_MM)
        short = hits.face >= 0
        away = (points[near] - hits.point_mm) / np.maximum(hits.distance_mm, 1e-9)[:, None]
        points[near[short]] = (hits.point_mm + away * (wall_mm + _SPARE_MM))[short]
        near = near[short]
    return made.with_vertices(points)


def _evened(made: Mesh) -> Mesh:
    """With as few triangles as do."""
    solid = manifold3d.Manifold(manifold3d.Mesh64(np.array(made.vertices_mm), made.faces.astype(np.uint64, order="C")))
    out = solid.simplify(_EVEN_MM).to_mesh64()
    faces = np.asarray(out.tri_verts).astype(np.int64)
    return Mesh.of(np.asarray(out.vert_properties)[:, :3], faces, np.full(len(faces), GROUP_CUT, np.uint8))


def _eased(made: Mesh, wall: StandOff, wall_mm: float) -> Mesh:
    """Where the middle of a side or a face comes too near to the surface, its corners go back by what is missing."""
    points = made.vertices_mm.copy()
    groups = np.vstack([made.faces, np.c_[wall.sides, wall.sides[:, 1]]]).astype(np.int64)  # a side counts its second end twice
    for _ in range(_EASINGS):
        place, nearest, distance = (each[len(points) :] for each in wall.of(points))
        short = np.flatnonzero(distance < wall_mm - _EASE_OVER_MM)
        if not len(short):
            break
        which, off = groups[short], np.maximum(distance[short], 1e-9)[:, None]
        away = (place[short] - nearest[short]) / off * (wall_mm - off)
        move, times = np.zeros_like(points), np.bincount(which.ravel(), minlength=len(points))
        for k in range(3):
            np.add.at(move, which[:, k], away)
        moved = (times > 0) & (points[:, 2] > wall.above_mm + 0.01)  # what lies under the floor stays there
        points[moved] += move[moved] / times[moved, None]
    return made.with_vertices(points)


def _untangled(made: Mesh, step_mm: float, *, among: NDArray[np.bool_] | None = None) -> Mesh:
    """Where the surface goes through itself, corners go towards the middle of their neighbours, by so much at a time at most.
    among : (m,) elsewhere it does not."""
    for _ in range(_UNTANGLINGS):
        tangled = crossing_faces(made, among=among)
        if not tangled.any():
            break
        corners = np.unique(made.faces[tangled])
        sides = np.vstack([made.faces[:, [0, 1]], made.faces[:, [1, 2]], made.faces[:, [2, 0]]])
        sides = sides[np.isin(sides[:, 0], corners)]
        total, count = np.zeros_like(made.vertices_mm), np.bincount(sides[:, 0], minlength=len(made.vertices_mm))
        np.add.at(total, sides[:, 0], made.vertices_mm[sides[:, 1]])
        points = made.vertices_mm.copy()
        way = total[corners] / count[corners, None] - points[corners]
        points[corners] += way * np.minimum(1.0, step_mm / np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-9))
        made = made.with_vertices(points)
        # Elsewhere nothing has moved.
        moved = np.zeros(len(points), bool)
        moved[corners] = True
        among = np.asarray(moved[made.faces].any(1))
    return made
