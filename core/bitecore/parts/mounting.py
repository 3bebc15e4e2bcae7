"""Mounting plates: what makes the underside of a base the face that lies on a block of an articulator. A plate closes the open side of the
arch, three wedge-shaped grooves key it so that it goes on in one way only, and its back edge says which case and which block it is.

All on the bench (mm; x to the patient's left, y back, z up). Grooves with sides at 45° print without supports and centre by
themselves (the way of a split cast: common practice, no source); the sizes are judgements of this house.
"""

from __future__ import annotations

from dataclasses import dataclass

import manifold3d
import numpy as np
from numpy.typing import NDArray

from ..mesh import GROUP_CUT, Mesh, volume_ml
from ..ops.written import Written

# The plate stands so far within the walls and over the mounting face: no two faces in one plane.
_WITHIN_MM, _OVER_FACE_MM = 0.01, 0.001
# How far a groove goes in from the edge; how far those at the sides are off from one another, so that it goes on in one way only.
GROOVE_MM, _ODD_MM = 9.0, 12.0
_CUT_MM, _DEEP_MM, _STRAIGHT_MM = 0.5, 0.4, 0.02
# Besides letters.
_EDGE_MM = 0.8


@dataclass(frozen=True)
class Key:
    """A groove: from outside of the edge inwards, (2,) each; wide_mm : at the face, twice as wide as deep."""

    start: NDArray[np.float64]
    end: NDArray[np.float64]
    wide_mm: float


@dataclass(frozen=True)
class Underside:
    """A base's underside. outline : (k, 2) of its hull, counter-clockwise; face : z of the mounting face; sign : of up, away from it"""

    outline: NDArray[np.float64]
    face: float
    sign: float


def foot_of(body: Mesh, sign: float) -> Underside:
    """sign : +1 where the face is below, -1 where it is above."""
    points = body.vertices_mm
    face = float((sign * points[:, 2]).min())
    low = points[(sign * points[:, 2] < face + 1e-4)]
    # What is straight is one edge, however many corners lie along it.
    hull = manifold3d.CrossSection.hull_points(low[:, :2].tolist()).simplify(_STRAIGHT_MM)
    return Underside(np.asarray(hull.to_polygons()[0], float), sign * face, sign)


def keys(foot: Underside, wide_mm: float) -> list[Key]:
    """One to the back, one to each side."""
    low, high = foot.outline.min(0), foot.outline.max(0)
    middle = (low + high) / 2
    asked = (
        (np.array([middle[0], middle[1]]), np.array([0.0, 1.0])),
        (middle + [0.0, _ODD_MM / 2], np.array([1.0, 0.0])),
        (middle - [0.0, _ODD_MM / 2], np.array([-1.0, 0.0])),
    )
    out = []
    for inside, way in asked:
        edge = inside + way * _out(foot.outline, inside, way)
        out.append(Key(edge + way, edge - way * GROOVE_MM, wide_mm))
    return out


def _out(outline: NDArray[np.float64], inside: NDArray[np.float64], way: NDArray[np.float64]) -> float:
    """How far it is to the edge of a convex outline."""
    a, b = outline, np.roll(outline, -1, axis=0)
    normal = np.c_[(b - a)[:, 1], -(b - a)[:, 0]]
    facing = normal @ way
    ahead = facing > 1e-12
    return float((((a - inside) * normal).sum(1)[ahead] / facing[ahead]).min())


def plate(foot: Underside, thick_mm: float) -> Mesh:
    outline = manifold3d.CrossSection([foot.outline]).offset(-_WITHIN_MM, manifold3d.JoinType.Miter)
    solid = manifold3d.Manifold.extrude(outline, thick_mm - _OVER_FACE_MM).translate([0, 0, _OVER_FACE_MM])
    return _there(solid, foot)


def groove(key: Key, foot: Underside) -> Mesh:
    """A prism on its edge, a little through the face."""
    way = key.end - key.start
    half = key.wide_mm / 2
    wedge = manifold3d.CrossSection([np.array([[-half - _CUT_MM, -_CUT_MM], [half + _CUT_MM, -_CUT_MM], [0.0, half]])])
    turn = float(np.degrees(np.arctan2(way[1], way[0])))
    # Extruded upwards, laid over so that its length goes along x and its edge up.
    solid = manifold3d.Manifold.extrude(wedge, float(np.hypot(*way))).transform(np.array([[0, 0, 1, 0], [1, 0, 0, 0], [0, 1, 0, 0]], float))
    return _there(solid.rotate([0, 0, turn]).translate([key.start[0], key.start[1], 0.0]), foot)


def back_edge(foot: Underside) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The ends of the edge across the middle of the back, the patient's left first."""
    middle = (foot.outline.min(0) + foot.outline.max(0)) / 2
    a, b = foot.outline, np.roll(foot.outline, -1, axis=0)
    # Counter-clockwise: at the back from left (+x) to right.
    across = np.flatnonzero((a[:, 0] > middle[0]) & (b[:, 0] <= middle[0]) & ((a + b)[:, 1] / 2 > middle[1]))
    return a[across[0]], b[across[0]]


def tallest(foot: Underside, thick_mm: float) -> float:
    """Of letters on the back edge."""
    return thick_mm - 2 * _EDGE_MM


def written(foot: Underside, words: tuple[Written, Written], thick_mm: float, key_mm: float) -> list[Mesh]:
    """What is cut into the back edge, before and after the groove in its middle, read upright as the base stands. Empty where there is no
    room."""
    left, right = back_edge(foot)
    along = (right - left) / np.linalg.norm(right - left)
    # Read from behind, an upper stands on its head: its letters begin at the patient's right.
    first, way = (left, along) if foot.sign > 0 else (right, -along)
    half = float(np.linalg.norm(right - left)) / 2
    room = half - key_mm / 2 - 2 * _EDGE_MM
    if any(room < each.width for each in words):
        return []
    # Counter-clockwise the outside is on the right.
    outward = np.array([along[1], -along[0]])
    starts = (_EDGE_MM + (room - words[0].width) / 2, half + key_mm / 2 + _EDGE_MM + (room - words[1].width) / 2)
    out = []
    for each, start in zip(words, starts, strict=True):
        rows = np.zeros((3, 4))
        rows[:2, 0], rows[:2, 2], rows[2, 1] = way, outward, 1.0
        rows[:, 3] = [*(first + way * start - outward * (_DEEP_MM + _WITHIN_MM)), (thick_mm - each.height) / 2]
        out.append(_there(manifold3d.Manifold.extrude(each.shape, _DEEP_MM + _CUT_MM).transform(rows), foot))
    return out


def _there(solid: manifold3d.Manifold, foot: Underside) -> Mesh:
    """From heights over a face at nought to where the face is."""
    out = solid.to_mesh64()
    faces = np.asarray(out.tri_verts).astype(np.int64)
    points = np.asarray(out.vert_properties)[:, :3] * [1, 1, foot.sign] + [0, 0, foot.face]
    made = Mesh.of(points, faces, np.full(len(faces), GROUP_CUT, np.uint8))
    return made if volume_ml(made) > 0 else made.turned_inside_out()


def fitting(needed_mm: float, blocks: list[float]) -> float | None:
    """The lowest block that both bases find room in."""
    return min((b for b in blocks if b >= needed_mm - 1e-9), default=None)
