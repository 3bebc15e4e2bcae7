"""Bodies set on a plate: models by what they cover of it, small ones of one case in a row that stays together."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import ArrayLike, NDArray

from ..mesh import Mesh
from ..ops.packing import BEYOND_MM, CELL_MM, Foot, box_foot, foot_of, packed
from ..ops.rigid import placed
from .laying import Laid, box_of, in_rows, shifted

# By so much a body may lie farther off for its front to look to the middle: it is reached there, and seen (common practice, no source).
_INWARDS_MM = 3.0
_ROW = "the row"
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
    laid: Mapping[str, Laid], bodies: Mapping[str, Mesh], room_mm: ArrayLike, *, gap_mm: float, row: Sequence[str] = (),
    rafts_mm: Mapping[str, float] | None = None,
) -> tuple[Places, list[str]]:  # fmt: skip
    """({name: place}, those there is no room for), in the middle of a room (width, depth in mm) that begins at the origin.

    row : those that stay together in one, where it has room; rafts_mm : so much around these is their own too
    """
    room, rafts = np.asarray(room_mm, float), rafts_mm or {}
    tries = [row, ()] if len(row) > 1 else [()]
    made = [_by_shape(laid, bodies, room, gap_mm, kept, rafts) for kept in tries[:1]]
    if made[0][1]:
        made += [_by_shape(laid, bodies, room, gap_mm, kept, rafts) for kept in tries[1:]]
        # Boxes are measured to the micrometre, what a body covers to the cell of a raster.
        made.append(in_rows(laid, room, gap_mm=gap_mm))
    out, left = min(made, key=lambda done: len(done[1]))
    return _in_the_middle(out, bodies, room, rafts), left


def _by_shape(
    laid: Mapping[str, Laid], bodies: Mapping[str, Mesh], room: NDArray[np.float64], gap_mm: float, row: Sequence[str],
    rafts: Mapping[str, float],
) -> tuple[Places, list[str]]:  # fmt: skip
    inner = room - 2 * BEYOND_MM
    kit, used = in_row({name: laid[name] for name in row}, 0, gap_mm) if row else ({}, np.zeros(2))
    feet: dict[str, Foot] = {}
    for name, (matrix, _) in laid.items():
        if name not in kit:
            points = bodies[name].vertices_mm @ matrix[:3, :3].T + matrix[:3, 3]
            feet[name] = foot_of(points, bodies[name].faces, front=(0.0, -1.0), room_mm=rafts.get(name, 0.0))
    if kit:
        feet[_ROW] = box_foot(used)
    done = packed(feet, inner, gap_mm=gap_mm, inwards_mm=_INWARDS_MM)
    out: Places = {}
    for name, spot in done.spots.items():
        to = _onto(feet[name], spot.turn, spot.at + BEYOND_MM)
        out |= {one: to @ kit[one] for one in kit} if name == _ROW else {name: to @ laid[name][0]}
    return out, [one for name in done.left for one in (kit if name == _ROW else (name,))]


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
