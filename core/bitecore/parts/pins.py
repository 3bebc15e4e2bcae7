"""Pins and sleeves that hold a pair in its bite: a post from each mounting face to the seat where both meet, a pin on the upper's, a
sleeve in the lower's, all parallel to the vertical of the bench, so the pair comes apart along it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import manifold3d
import numpy as np
from numpy.typing import NDArray
from scipy.optimize import linprog

from ..mesh import GROUP_CUT, Mesh
from .pin_places import ROOT_MM, USUAL, Place, Sizes

CHAMFER_MM = 0.6
# Under the pin; the hole through which resin and air leave the sleeve; what loose pins have more of air.
_BELOW_MM, _VENT_MM, LOOSE_MM = 0.8, 0.6, 0.07
# Posts and struts stand so much over the mounting face: no two faces in one plane.
_OVER_FACE_MM = 0.001
_SIDES = 64


@dataclass(frozen=True)
class Pair:
    """What one pin puts on and takes out, on the bench: on the lower and on the upper, and the sleeve out of the lower."""

    lower: Mesh
    upper: Mesh
    sleeve: Mesh


def pair(place: Place, *, seat: float, floor: float, ceiling: float, air_mm: float, sizes: Sizes = USUAL) -> Pair:
    """air_mm : between pin and sleeve, on each side."""
    x, y = place.at
    post, pin, deep = sizes.radius, sizes.pin_mm / 2, sizes.deep_mm
    low, high = floor + _OVER_FACE_MM, ceiling - _OVER_FACE_MM
    cylinder = manifold3d.Manifold.cylinder
    lower = cylinder(seat - low, post, post, _SIDES).translate([x, y, low]) + _strut(place, 0, (low, place.ends[0]), sizes)
    upper = cylinder(high - seat, post, post, _SIDES).translate([x, y, seat]) + _strut(place, 1, (place.ends[1], high), sizes)
    # Into its post, so that no face lies in the seat.
    upper += cylinder(deep - CHAMFER_MM + 0.2, pin, pin, _SIDES).translate([x, y, seat - deep + CHAMFER_MM])
    upper += cylinder(CHAMFER_MM, pin - CHAMFER_MM, pin, _SIDES).translate([x, y, seat - deep])
    return Pair(_mesh(lower), _mesh(upper), _mesh(_sleeve(place, seat, pin + air_mm, sizes)))


def _strut(place: Place, jaw: int, height: tuple[float, float], sizes: Sizes) -> manifold3d.Manifold:
    low, high = height
    way = place.wall[jaw] - place.at
    turn = float(np.degrees(np.arctan2(way[1], way[0])))
    wide = sizes.strut_mm
    box = manifold3d.Manifold.cube([float(np.hypot(*way)) + ROOT_MM, wide, high - low]).translate([0, -wide / 2, 0])
    return box.rotate([0, 0, turn]).translate([place.at[0], place.at[1], low])


def _sleeve(place: Place, seat: float, radius: float, sizes: Sizes) -> manifold3d.Manifold:
    x, y = place.at
    cylinder = manifold3d.Manifold.cylinder
    bottom = seat - sizes.deep_mm - _BELOW_MM
    hole = cylinder(sizes.deep_mm + _BELOW_MM + 0.5, radius, radius, _SIDES).translate([x, y, bottom])
    lead = cylinder(CHAMFER_MM + 0.2, radius, radius + CHAMFER_MM + 0.2, _SIDES).translate([x, y, seat - CHAMFER_MM])
    # Away from the strut, so that it comes out in the open.
    away = place.at - place.wall[0]
    turn = float(np.degrees(np.arctan2(away[1], away[0])))
    vent = cylinder(sizes.radius + 1.0, _VENT_MM, _VENT_MM, 24).rotate([0, 90, 0]).rotate([0, 0, turn]).translate([x, y, bottom + _VENT_MM])
    return hole + lead + vent


def _mesh(solid: manifold3d.Manifold) -> Mesh:
    out = solid.to_mesh64()
    faces = np.asarray(out.tri_verts).astype(np.int64)
    return Mesh.of(np.asarray(out.vert_properties)[:, :3], faces, np.full(len(faces), GROUP_CUT, np.uint8))


def airs(places: Sequence[Place], air_mm: float) -> list[float]:
    """The air of every pin: the two that stand farthest apart guide, the others have more, so that none jams."""
    at = np.array([p.at for p in places])
    apart = np.linalg.norm(at[:, None] - at[None], axis=2)
    guides = set(np.unravel_index(apart.argmax(), apart.shape)) if len(at) > 1 else {0}
    return [air_mm if k in guides else air_mm + LOOSE_MM for k in range(len(at))]


def play(at: NDArray[np.float64], air: NDArray[np.float64], point: NDArray[np.float64]) -> float:
    """How far a point can be moved level while every pin stays in its sleeve (mm): (k, 2) pins, (k,) their air, (2,) the point.

    Linear programming over small movements (shift and turn); a round sleeve counts as a polygon of 32 sides around it.
    """
    if len(at) < 2:
        return float("inf")
    angle = np.arange(32) / 32 * 2 * np.pi
    ways = np.stack([np.cos(angle), np.sin(angle)], 1)

    def moved(where: NDArray) -> NDArray[np.float64]:
        # (32, 3): along each way, by shift x, shift y and turn.
        arm = where - point
        return np.c_[ways, ways @ np.array([-arm[1], arm[0]])]

    rows = np.vstack([moved(p) for p in at])
    limits = np.repeat(air, len(ways))
    best = 0.0
    for way in ways:
        found = linprog(-np.r_[way, 0.0], A_ub=rows, b_ub=limits, bounds=[(None, None)] * 3)
        best = max(best, -float(found.fun)) if found.success else float("inf")
    return best
