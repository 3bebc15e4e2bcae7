"""Bodies laid flat and set side by side on a build plate."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import pairwise

import numpy as np
from numpy.typing import ArrayLike, NDArray

from ..mesh import Mesh, face_areas_mm2, face_normals
from ..ops.closest import ClosestPoints
from ..ops.rigid import placed, turned, unit

# Around a place and so much alike in direction: what counts as its face.
_FACE_MM, _FACE_DEG = 3.0, 12.0
# Rafts of bodies that stand no farther apart are joined; the bar between them keeps so far off what else lies there.
_JOINED_MM, _BAR_ROOM_MM = 15.0, 1.5

Laid = tuple[NDArray[np.float64], NDArray[np.float64]]


def flat(body: Mesh, up: ArrayLike, front: ArrayLike) -> Laid:
    """(4, 4) home to a place with the base on z = 0, the front to -y and the box's corner at the origin; and the size (mm)."""
    z = unit(up)
    y = unit(-np.asarray(front, float) + z * (np.asarray(front, float) @ z))
    rotation = np.stack([np.cross(y, z), y, z])
    p = body.vertices_mm @ rotation.T
    return placed(rotation, -p.min(0)), np.ptp(p, axis=0)


def face_towards(body: Mesh, at: ArrayLike) -> NDArray[np.float64]:
    """(3,) the outward direction of the body's face at a place on it: the mean over what lies around and faces the same way."""
    normal, middle = face_normals(body), body.vertices_mm[body.faces].mean(1)
    area = face_areas_mm2(body)
    hit = int(ClosestPoints(body).query(np.asarray(at, float)[None]).face[0])
    like = (np.linalg.norm(middle - np.asarray(at, float), axis=1) < _FACE_MM) & (normal @ normal[hit] > np.cos(np.radians(_FACE_DEG)))
    like[hit] = True
    return unit((normal[like] * area[like, None]).sum(0))


def raised(body: Mesh, up: ArrayLike, front: ArrayLike, *, tilt_deg: float, by_mm: float, room_mm: float) -> Laid:
    """As flat, then tilted about the left-right axis so that its front comes up, with by_mm of air under its lowest point and room
    around it."""
    matrix, _ = flat(body, up, front)
    matrix = placed(turned(tilt_deg=-tilt_deg, roll_deg=0.0, turn_deg=0.0), [0, 0, 0]) @ matrix
    p = body.vertices_mm @ matrix[:3, :3].T + matrix[:3, 3]
    room = np.array([room_mm, room_mm, by_mm])
    size = np.ptp(p, axis=0) + [2 * room_mm, 2 * room_mm, by_mm]
    return placed(np.eye(3), room - p.min(0)) @ matrix, size


def as_placed(body: Mesh, place: NDArray[np.float64]) -> Laid:
    """Turned as it lies somewhere already, its box's corner at the origin; what made up for a resin's shrinking there is left out."""
    rotation = place[:3, :3] / np.linalg.norm(place[:3, :3], axis=1, keepdims=True)
    p = body.vertices_mm @ rotation.T
    return placed(rotation, -p.min(0)), np.ptp(p, axis=0)


def turned_flat(laid: Laid, body: Mesh, turn_deg: float) -> Laid:
    """The same turned about the upright, counter-clockwise seen from above."""
    matrix = placed(turned(tilt_deg=0.0, roll_deg=0.0, turn_deg=turn_deg), [0, 0, 0]) @ laid[0]
    low, high = box_of(matrix, body)
    return shifted(matrix, -low[0], -low[1]), high - low


def larger(laid: Laid, sizes: NDArray[np.float64]) -> Laid:
    """With room to be printed so much larger (width, depth, up), whichever way it is turned then; narrowed says which."""
    grown = np.array([sizes[:2].max(), sizes[:2].max(), sizes[2]])
    return placed(np.diag(grown), np.zeros(3)) @ laid[0], laid[1] * grown


def narrowed(matrix: NDArray[np.float64], body: Mesh, sizes: NDArray[np.float64]) -> NDArray[np.float64]:
    """Of one that lies with room for the larger of width and depth: with that of each, about its middle."""
    share = np.array([*(sizes[:2] / sizes[:2].max()), 1.0])
    low, high = box_of(matrix, body)
    return placed(np.diag(share), (1 - share) * (low + high) / 2) @ matrix


def shifted(matrix: NDArray, x: float, y: float) -> NDArray[np.float64]:
    return placed(np.eye(3), [x, y, 0.0]) @ matrix


def quarter(laid: Laid) -> Laid:
    """The same turned by a quarter about z."""
    matrix, size = laid
    return placed([[0, -1, 0], [1, 0, 0], [0, 0, 1]], [size[1], 0, 0]) @ matrix, size[[1, 0, 2]]


def box_of(matrix: NDArray, body: Mesh) -> tuple[NDArray, NDArray]:
    p = body.vertices_mm @ matrix[:3, :3].T + matrix[:3, 3]
    return p.min(0), p.max(0)


def in_rows(laid: Mapping[str, Laid], room: ArrayLike, *, gap_mm: float) -> tuple[dict[str, NDArray[np.float64]], list[str]]:
    """({name: place}, those there is no room for), from the corner of the room (width, depth in mm) on.

    Shelves: the deepest first, each set into the first row with room for it, else a new row behind (first-fit by decreasing
    height, as in textbooks of strip packing). Tried with all bodies as they are and with all turned by a quarter, a body lying
    the other way where only that fits; what leaves the fewest out counts.
    """
    width, depth = np.asarray(room, float)
    turned = {name: quarter(one) for name, one in laid.items()}
    tries = [_shelved(first, second, width, depth, gap_mm) for first, second in ((laid, turned), (turned, laid))]
    return min(tries, key=lambda done: len(done[1]))


def _shelved(
    first: Mapping[str, Laid], second: Mapping[str, Laid], width: float, depth: float, gap_mm: float
) -> tuple[dict[str, NDArray[np.float64]], list[str]]:  # fmt: skip
    rows: list[list[float]] = []  # where the row begins, how deep it is, how far it is filled
    out: dict[str, NDArray[np.float64]] = {}
    left: list[str] = []
    for name in sorted(first, key=lambda n: (-float(first[n][1][1]), n)):
        if not any(_set(name, one[name], rows, out, width, depth, gap_mm) for one in (first, second)):
            left.append(name)
    return out, left


def _set(name: str, laid: Laid, rows: list[list[float]], out: dict[str, NDArray], width: float, depth: float, gap_mm: float) -> bool:
    matrix, (w, d, _) = laid
    for row in rows:
        if d <= row[1] + 1e-9 and row[2] + w <= width + 1e-9:
            out[name] = shifted(matrix, row[2], row[0])
            row[2] += float(w) + gap_mm
            return True
    start = rows[-1][0] + rows[-1][1] + gap_mm if rows else 0.0
    if start + d > depth + 1e-9 or w > width + 1e-9:
        return False
    rows.append([start, float(d), float(w) + gap_mm])
    out[name] = shifted(matrix, 0.0, start)
    return True


def joined_rafts(boxes: Mapping[str, NDArray[np.float64]], which: Sequence[str]) -> dict[str, list[NDArray[np.float64]]]:
    """Where (2,) the rafts of bodies in a row meet, by body: half way between two that stand next to each other with nothing between
    them. boxes : (2, 2) of all bodies on the plate, low and high; which : those that are joined, in their order."""
    out: dict[str, list[NDArray[np.float64]]] = {each: [] for each in which}
    for one, two in pairwise(which):
        ends = boxes[one].mean(0), boxes[two].mean(0)
        apart = np.maximum(boxes[one][0] - boxes[two][1], boxes[two][0] - boxes[one][1]).max()
        low, high = np.minimum(*ends) - _BAR_ROOM_MM, np.maximum(*ends) + _BAR_ROOM_MM
        others = [box for name, box in boxes.items() if name not in (one, two)]
        if apart < _JOINED_MM and not any((box[0] < high).all() and (box[1] > low).all() for box in others):
            middle = (ends[0] + ends[1]) / 2
            out[one].append(middle)
            out[two].append(middle)
    return out
