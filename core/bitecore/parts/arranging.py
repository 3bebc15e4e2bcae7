"""Bodies set on a plate: models by what they cover of it, kits staying together."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy import ndimage
from scipy.spatial import cKDTree

from ..mesh import Mesh
from ..ops.packing import BEYOND_MM, CELL_MM, Foot, Spot, box_foot, foot_of, packed
from ..ops.rigid import placed
from .laying import Laid, box_of, in_rows, shifted

# By so much a body may lie farther off for its front to look to the middle: it is reached there, and seen (common practice, no source).
_INWARDS_MM = 3.0
_KIT, _FRONT = "kit", (0.0, -1.0)
# How near two bodies are is told so finely, and up to so far.
_FINE_MM, _TOLD_MM = 0.2, 30.0
Places = dict[str, NDArray[np.float64]]


def in_row(bodies: Mapping[str, Laid], axis: int, gap_mm: float) -> tuple[Places, NDArray[np.float64]]:
    """(places, (2,) what they take) side by side along x or y, from the origin on."""
    at, across, out = 0.0, 0.0, {}
    for piece, (matrix, size) in bodies.items():
        # To whole micrometres: a body that became another by less moves none beside it, and no layer of it.
        size = np.ceil(size * 1000 - 1e-3) / 1000
        out[piece] = shifted(matrix, at if axis == 0 else 0.0, at if axis == 1 else 0.0)
        at += size[axis] + gap_mm
        across = max(across, size[1 - axis])
    used = np.array([at - gap_mm, across])
    return out, used if axis == 0 else used[::-1]


def by_shape(
    laid: Mapping[str, Laid], bodies: Mapping[str, Mesh], room_mm: ArrayLike, *, gap_mm: float, kits: Sequence[Places] = (),
    rafts_mm: Mapping[str, float] | None = None, locked: Places | None = None, unturned: Collection[str] = (),
) -> tuple[Places, list[str]]:  # fmt: skip
    """({name: place}, those there is no room for) in a room (width, depth in mm) that begins at the origin; in its middle, where none is
    locked.

    kits : those that stay together as they lie to each other, where there is room for that; rafts_mm : so much around a body is its own
    too; locked : those that stay where they are; unturned : those that are not turned, and belong to no kit
    """
    room, rafts, stay = np.asarray(room_mm, float), rafts_mm or {}, locked or {}
    free = {name: one for name, one in laid.items() if name not in stay}
    together = [kit for kit in kits if len(kit) > 1]
    made = [_by_shape(free, bodies, room, gap_mm, together, rafts, stay, unturned)]
    if made[0][1] and together:
        made.append(_by_shape(free, bodies, room, gap_mm, (), rafts, stay, unturned))
    if made[0][1] and not stay and not unturned:
        # Boxes are measured to the micrometre, what a body covers to the cell of a raster.
        made.append(in_rows(free, room, gap_mm=gap_mm))
    out, left = min(made, key=lambda done: len(done[1]))
    return (out | stay if stay else _in_the_middle(out, bodies, room, rafts)), left


def _by_shape(
    laid: Mapping[str, Laid], bodies: Mapping[str, Mesh], room: NDArray[np.float64], gap_mm: float, kits: Sequence[Places],
    rafts: Mapping[str, float], stay: Places, unturned: Collection[str],
) -> tuple[Places, list[str]]:  # fmt: skip
    feet: dict[str, Foot] = {}
    members: dict[str, Places] = {}
    for number, kit in enumerate(kits):
        name = f"{_KIT} {number}"
        members[name], feet[name] = _as_one(kit, bodies, rafts)
    within = {one for kit in members.values() for one in kit}
    for name, (matrix, _) in laid.items():
        if name not in within:
            members[name] = {name: matrix}
            front = (0.0, 0.0) if name in unturned else _FRONT
            feet[name] = foot_of(_points(bodies[name], matrix), bodies[name].faces, front=front, room_mm=rafts.get(name, 0.0))
    fixed: dict[str, Spot] = {}
    for name, matrix in stay.items():
        foot = foot_of(_points(bodies[name], matrix) - [BEYOND_MM, BEYOND_MM, 0.0], bodies[name].faces, room_mm=rafts.get(name, 0.0))
        feet[name], fixed[name] = foot, Spot(0, 0, foot.low)
    still = dict.fromkeys(unturned, (0,))
    done = packed(feet, room - 2 * BEYOND_MM, gap_mm=gap_mm, inwards_mm=_INWARDS_MM, locked=fixed, turns=still)
    out: Places = {}
    for name, spot in done.spots.items():
        if name not in fixed:
            to = _onto(feet[name], spot.turn, spot.at + BEYOND_MM)
            out |= {one: to @ matrix for one, matrix in members[name].items()}
    return out, [one for name in done.left for one in members[name]]


def _points(body: Mesh, matrix: NDArray[np.float64]) -> NDArray[np.float64]:
    return body.vertices_mm @ matrix[:3, :3].T + matrix[:3, 3]


def _as_one(kit: Places, bodies: Mapping[str, Mesh], rafts: Mapping[str, float]) -> tuple[Places, Foot]:
    """Of those that stay together: their places from the corner of the box of all on, and that box."""
    boxes = np.array([box_of(matrix, bodies[name]) for name, matrix in kit.items()])[:, :, :2]
    around = np.array([[rafts.get(name, 0.0)] for name in kit])
    low, high = (boxes[:, 0] - around).min(0), (boxes[:, 1] + around).max(0)
    return {name: shifted(matrix, -low[0], -low[1]) for name, matrix in kit.items()}, box_foot(high - low)


def _onto(foot: Foot, turn: int, at: NDArray[np.float64]) -> NDArray[np.float64]:
    """(4, 4) by so many quarters, what it covers then beginning at a place."""
    rotation = np.linalg.matrix_power(np.array([[0.0, -1, 0], [1, 0, 0], [0, 0, 1]]), turn)
    corners = rotation[:2, :2] @ np.array([foot.low, foot.low + CELL_MM * (np.array(foot.cells.shape) - 1)]).T
    return placed(rotation, [*(at - corners.min(1)), 0.0])


def _in_the_middle(places: Places, bodies: Mapping[str, Mesh], room: NDArray[np.float64], rafts: Mapping[str, float]) -> Places:
    if not places:
        return places
    boxes = np.array([box_of(matrix, bodies[name]) for name, matrix in places.items()])[:, :, :2]
    around = np.array([[rafts.get(name, 0.0)] for name in places])
    low, high = (boxes[:, 0] - around).min(0), (boxes[:, 1] + around).max(0)
    x, y = np.floor(((room - (high - low)) / 2 - low) * 1000) / 1000
    return {name: shifted(matrix, x, y) for name, matrix in places.items()}


def apart_mm(bodies: Mapping[str, Mesh], places: Places, which: Sequence[str]) -> list[tuple[str, str, float]]:
    """(one, another, how far apart seen from above at least: nought where they overlap) of each of `which` and all others that lie nearer
    than _TOLD_MM. Told on a raster: by _FINE_MM too little at most."""
    feet = {name: foot_of(_points(bodies[name], matrix), bodies[name].faces, cell_mm=_FINE_MM) for name, matrix in places.items()}
    rims = {name: (np.argwhere(_rim(foot.cells)) * _FINE_MM + foot.low) for name, foot in feet.items()}
    trees = {name: cKDTree(rim) for name, rim in rims.items()}
    out = []
    for one in which:
        for two in places:
            if two == one or (two in which and two < one) or _boxes_apart(rims[one], rims[two]) > _TOLD_MM:
                continue
            far = 0.0 if _overlap(feet[one], feet[two]) else float(trees[two].query(rims[one])[0].min()) - _FINE_MM
            if far < _TOLD_MM:
                out.append((one, two, max(far, 0.0)))
    return out


def _rim(cells: NDArray[np.bool_]) -> NDArray[np.bool_]:
    return cells & ~ndimage.binary_erosion(cells)


def _boxes_apart(one: NDArray, two: NDArray) -> float:
    return float(np.maximum(one.min(0) - two.max(0), two.min(0) - one.max(0)).max())


def _overlap(one: Foot, two: Foot) -> bool:
    off = np.round((two.low - one.low) / _FINE_MM).astype(int)
    low, high = np.maximum(off, 0), np.minimum(off + two.cells.shape, one.cells.shape)
    if (low >= high).any():
        return False
    a = one.cells[low[0] : high[0], low[1] : high[1]]
    return bool((a & two.cells[low[0] - off[0] : high[0] - off[0], low[1] - off[1] : high[1] - off[1]]).any())
