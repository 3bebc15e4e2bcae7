"""Hinged backs: on the lower two cheeks, on the upper a tongue between them, on one axis behind both; and how far the pair opens.

Every half stands on its mounting face, so it prints as the base does. A cheek that snaps is strained by 1.5 t d / l² (a beam held at one
end: thickness, way, free length; from memory).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import manifold3d
import numpy as np
from numpy.typing import NDArray

from ..mesh import GROUP_CUT, Mesh
from .hinge_places import ROOT_MM, Backs, Hinge, Knuckles

# Halves stand so much over the mounting face: no two faces in one plane.
_OVER_FACE_MM = 0.001
# A cone that snaps: how far it stands out, and how wide it is at its root. It prints at 45° either way up.
CONE_MM, _ROOT_MM = 1.3, 2.1
_SIDES = 64
# The head of a pin, and what is cut off an arm that is stuck on.
_HEAD_MM, GLUE_MM = 1.5, 0.1
_TINY_MM3 = 1e-3
# Where the opening is looked at; so far open the bodies are far apart.
_LOOKED_DEG = (6.0, 10.0, 15.0, 20.0, 30.0, *range(40, 180, 10))
_APART_DEG = 30.0


@dataclass(frozen=True)
class Halves:
    """Of one hinge, on the bench."""

    lower: Mesh
    upper: Mesh


def halves(hinge: Hinge, backs: Backs, sizes: Knuckles, *, floor: float, ceiling: float) -> Halves:
    """floor, ceiling : the mounting faces"""
    return Halves(
        _mesh(_lower(hinge, backs.axis, sizes, floor + _OVER_FACE_MM)), _mesh(_upper(hinge, backs.axis, sizes, ceiling - _OVER_FACE_MM))
    )


def _lower(hinge: Hinge, axis: tuple[float, float], sizes: Knuckles, low: float) -> manifold3d.Manifold:
    y, z = axis
    r, half, inner = sizes.radius_mm, sizes.half, sizes.half - sizes.cheek_mm
    column = _disc(r, y, z) + _rect(y - r, low, y + r, z)
    fork = _along_x(column, hinge.x - half, hinge.x - inner) + _along_x(column, hinge.x + inner, hinge.x + half)
    # Only in front of the axis: behind it the tongue goes down.
    foot = _box((hinge.x - half, y - r, low), (hinge.x + half, y, z - max(sizes.free_mm, r + sizes.air_mm)))
    arm = _box((hinge.x - half, hinge.walls[0] - ROOT_MM, low), (hinge.x + half, y, hinge.ends[0]))
    return _bored(fork + foot + arm, hinge.x, axis, sizes, dimple=True)


def _upper(hinge: Hinge, axis: tuple[float, float], sizes: Knuckles, high: float) -> manifold3d.Manifold:
    y, z = axis
    r, half = sizes.radius_mm, sizes.tongue_mm / 2
    tongue = _along_x(_disc(r, y, z) + _rect(y - r, z, y + r, high), hinge.x - half, hinge.x + half)
    arm = _box((hinge.x - half, hinge.walls[1] - ROOT_MM, hinge.ends[1]), (hinge.x + half, y, high))
    return _bored(tongue + arm, hinge.x, axis, sizes, dimple=False)


def _bored(half: manifold3d.Manifold, x: float, axis: tuple[float, float], sizes: Knuckles, *, dimple: bool) -> manifold3d.Manifold:
    """With the hole for the pin, or with what snaps into what."""
    y, z = axis
    if sizes.hole_mm > 0:
        return half - _along_x(_disc(sizes.hole_mm / 2, y, z), x - sizes.half - 1, x + sizes.half + 1)
    # A cone at 45° that is moved along its axis by d and is as much wider keeps the air square to its side all round.
    more = sizes.air_mm * (np.sqrt(2.0) - 1.0) if dimple else 0.0
    wide, tip = _ROOT_MM + more, _ROOT_MM - CONE_MM + more
    start = x + sizes.tongue_mm / 2 + (sizes.air_mm if dimple else 0.0)
    cone = manifold3d.Manifold.cylinder(CONE_MM, wide, tip, _SIDES).rotate([0, 90, 0]).translate([start - (0.0 if dimple else 1e-3), y, z])
    if dimple:
        # Its mouth has no skin.
        cone += manifold3d.Manifold.cylinder(0.2, wide + 0.1, wide + 0.1, _SIDES).rotate([0, 90, 0]).translate([start - 0.199, y, z])
        cone = cone ^ _box((start - 0.1, y - 9, z - 9), (start + sizes.cheek_mm, y + 9, z + 9))
    both = cone + cone.mirror([1, 0, 0]).translate([2 * x, 0, 0])
    return half - both if dimple else half + both


def strain_percent(sizes: Knuckles) -> float:
    """Of a cheek while the cone snaps in."""
    return 150.0 * sizes.cheek_mm * (CONE_MM - sizes.air_mm) / sizes.free_mm**2


def pin(sizes: Knuckles, *, thick_mm: float) -> Mesh:
    """To be printed: upright on its head, which keeps it from going through."""
    head, shaft = thick_mm / 2 + 1.0, 2 * sizes.half + 1.0
    made = manifold3d.Manifold.cylinder(_HEAD_MM, head, head, _SIDES) + manifold3d.Manifold.cylinder(
        _HEAD_MM + shaft - 0.4, thick_mm / 2, thick_mm / 2, _SIDES
    )
    tip = manifold3d.Manifold.cylinder(0.4, thick_mm / 2, thick_mm / 2 - 0.4, _SIDES).translate([0, 0, _HEAD_MM + shaft - 0.4])
    return _mesh(made + tip)


@dataclass(frozen=True)
class Side:
    """One jaw's body and the halves it holds, as solids of the library."""

    body: manifold3d.Manifold
    halves: manifold3d.Manifold

    @classmethod
    def of(cls, body: Mesh, parts: Sequence[Mesh]) -> Side:
        return cls(_solid(body), manifold3d.Manifold.batch_boolean([_solid(p) for p in parts], manifold3d.OpType.Add))


def turn(axis: tuple[float, float], degrees: float) -> NDArray[np.float64]:
    """(4, 4): an upper opened about the axis, on the bench."""
    y, z = axis
    c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
    # The front, which lies towards -y, goes up.
    return np.array([[1, 0, 0, 0], [0, c, s, y - c * y - s * z], [0, -s, c, z + s * y - c * z], [0, 0, 0, 1]], float)


def opens(
    upper: Side, lower: Side, axis: tuple[float, float], *, least_deg: float, most_deg: float, said: Callable[[float], None]
) -> float:
    """How far the upper opens before it meets anything of the lower (degrees, to a quarter of one), looked at from `least_deg` on up to
    `most_deg`; by exact booleans. Less than least_deg: they meet there already.

    Halves are asked against everything all the way. The bodies lie in front of the axis: past the first angles they only part.
    """
    bodies, all_halves = (upper.body, lower.body), (upper.halves, lower.halves)

    def meets(degrees: float) -> bool:
        there = turn(axis, degrees)[:3]
        pairs = [(all_halves[0], all_halves[1]), (all_halves[0], bodies[1])]
        if degrees <= _APART_DEG or degrees == most_deg:
            pairs.append(bodies)
        # Turned back instead, so that the small one of both is turned.
        back = (all_halves[1].transform(turn(axis, -degrees)[:3]) ^ bodies[0]).volume()
        return bool(back > _TINY_MM3 or any((a.transform(there) ^ b).volume() > _TINY_MM3 for a, b in pairs))

    good = 0.0
    looked = np.unique(np.r_[least_deg, [a for a in _LOOKED_DEG if least_deg < a < most_deg], most_deg])
    for number, degrees in enumerate(looked):
        said(number / len(looked))
        if meets(float(degrees)):
            bad = float(degrees)
            break
        good = float(degrees)
    else:
        return most_deg
    while bad - good > 0.25:
        middle = (good + bad) / 2
        good, bad = (good, middle) if meets(middle) else (middle, bad)
    return good


def _disc(r: float, y: float, z: float) -> manifold3d.CrossSection:
    return manifold3d.CrossSection.circle(r, _SIDES).translate([y, z])


def _rect(y0: float, z0: float, y1: float, z1: float) -> manifold3d.CrossSection:
    return manifold3d.CrossSection([np.array([[y0, z0], [y1, z0], [y1, z1], [y0, z1]], float)])


def _along_x(outline: manifold3d.CrossSection, x0: float, x1: float) -> manifold3d.Manifold:
    """An outline in (y, z)."""
    made = manifold3d.Manifold.extrude(outline, x1 - x0)
    return made.transform(np.array([[0, 0, 1, x0], [1, 0, 0, 0], [0, 1, 0, 0]], float))


def _box(low: tuple[float, float, float], high: tuple[float, float, float]) -> manifold3d.Manifold:
    return manifold3d.Manifold.cube([float(h - a) for a, h in zip(low, high, strict=True)]).translate([float(a) for a in low])


def _solid(mesh: Mesh) -> manifold3d.Manifold:
    # The library wants arrays it may own: locked ones it refuses.
    return manifold3d.Manifold(manifold3d.Mesh64(np.array(mesh.vertices_mm), np.array(mesh.faces, np.uint64)))


def stuck_on(half: Mesh, body: Mesh) -> Mesh:
    """A half by itself: without what would stand in the body, with a film of glue between."""
    low, high = half.vertices_mm.min(0) - 1.0, half.vertices_mm.max(0) + 1.0
    near = _solid(body) ^ _box(tuple(low), tuple(high))
    pieces = (_solid(half) - (near + near.translate([0, GLUE_MM, 0]))).decompose()
    return _mesh(max(pieces, key=lambda piece: piece.volume()))


def _mesh(solid: manifold3d.Manifold) -> Mesh:
    out = solid.to_mesh64()
    faces = np.asarray(out.tri_verts).astype(np.int64)
    return Mesh.of(np.asarray(out.vert_properties)[:, :3], faces, np.full(len(faces), GROUP_CUT, np.uint8))
