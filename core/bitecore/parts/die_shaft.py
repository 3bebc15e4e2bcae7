"""Shafts and their sockets. A shaft is the plan of its head drawn in, flat on the tongue's side, a little tapered; its foot is a roof of
two planes at 45°, steeper where it is short, whose ridge runs along it. The roof is the seat: standing in its groove a die neither turns
nor slides across, whatever air its walls have, and both print without supports. A hole from below pushes it out; a window on the cheek's
side shows that it is down.

All in the frame of a die: x, y and z along the way it comes out (mm).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import manifold3d
import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..mesh import GROUP_CUT, Mesh
from ..ops.clip import triangulate
from .die_plan import ROUND, SIDES, DieSizes, largest

# The shaft reaches so far into its head; the head stands so far over the model, so that it is the seat that bears.
ROOT_MM, UNDER_MM = 0.3, 0.1
# Off the tongue's side; corners of shafts are not sharper; places round an outline.
_FLAT_MM, _CORNER_MM, _PLACES = 0.4, 0.4, 128
# Corners are rounder than the taper draws them in by so much; no rounder than this.
_SPARE_MM, _ROUNDEST_MM = 0.15, 1.0
# A shaft is not shorter than this.
LEAST_LONG_MM = 4.0
BEYOND_MM, _LEAST_HOLE_MM = 1.0, 1.2
# Outlines are polygons: asked for so much more, a wall is not thinner than asked.
_SURE_MM = 0.02
# A short foot is so steep that it turns no farther than this, lifted by _LIFTED_MM; steeper than this, mm a mm, it would jam.
_TURNS_DEG, _LIFTED_MM, _STEEPEST = 0.28, 0.01, 2.2
# How high over the foot's edge a window looks in.
_OVER_EDGE_MM = 0.3


def ring_of(shape: manifold3d.CrossSection, count: int = _PLACES) -> NDArray[np.float64]:
    """(count, 2) along the outline of a shape in one piece, evenly, counter-clockwise."""
    ring = np.asarray(max(shape.to_polygons(), key=len))
    closed = np.vstack([ring, ring[:1]])
    far = np.r_[0, np.cumsum(np.linalg.norm(np.diff(closed, axis=0), axis=1))]
    at = np.linspace(0, far[-1], count, endpoint=False)
    return np.c_[np.interp(at, far, closed[:, 0]), np.interp(at, far, closed[:, 1])]


def grown(ring: NDArray[np.float64], mm: float) -> NDArray[np.float64]:
    """The same corners in the same order, each edge moved outwards by exactly so much."""
    edge = np.roll(ring, -1, axis=0) - ring
    normal = np.c_[edge[:, 1], -edge[:, 0]] / np.linalg.norm(edge, axis=1)[:, None]
    before = np.roll(normal, 1, axis=0)
    return ring + mm * (normal + before) / np.maximum(1 + (normal * before).sum(1), 0.3)[:, None]


@dataclass(frozen=True)
class Shaft:
    """ring : (k, 2) at its top; top, foot : z of the top and of the ridge under it; ridge : (2,) along it; centre : (2,) on it"""

    ring: NDArray[np.float64]
    top: float
    foot: float
    ridge: NDArray[np.float64]
    centre: NDArray[np.float64]
    sizes: DieSizes

    @classmethod
    def of(cls, ring: NDArray[np.float64], top: float, foot: float, sizes: DieSizes) -> Shaft:
        centre = np.asarray(ring).mean(0)
        # Along the longer side, where the ridge holds best against turning.
        ridge = np.linalg.svd(ring - centre, full_matrices=False)[2][0]
        return cls(ring, top, foot, ridge * np.sign(ridge[np.abs(ridge).argmax()]), centre, sizes)

    @property
    def length(self) -> float:
        return self.top - self.foot

    def at(self, z: float, air: float = 0.0) -> NDArray[np.float64]:
        """(k, 2) its outline at a height, with so much air round it."""
        return grown(self.ring, air - self.slope * (self.top - z))

    @property
    def slope(self) -> float:
        """mm a mm; less than asked where corners that are as round as they can be would fold."""
        return min(float(np.tan(np.radians(self.sizes.taper_deg))), (_ROUNDEST_MM - _SPARE_MM) / (self.length + BEYOND_MM))

    def across(self, points: NDArray[np.float64]) -> NDArray[np.float64]:
        """How far places in the plan lie beside the ridge."""
        return np.abs((points - self.centre) @ np.array([-self.ridge[1], self.ridge[0]]))

    @property
    def steep(self) -> float:
        """Of the planes it stands on, mm a mm."""
        return float(np.clip(_LIFTED_MM / (self._half * np.tan(np.radians(_TURNS_DEG))), 1.0, _STEEPEST))

    @property
    def _half(self) -> float:
        """From the middle of the ridge to its farther end."""
        return float(np.abs((self.at(self.foot) - self.centre) @ self.ridge).max())

    def edge(self, points: NDArray[np.float64]) -> NDArray[np.float64]:
        """z of the foot at places in the plan."""
        return self.foot + self.steep * self.across(points)

    def solid(self, air: float = 0.0) -> manifold3d.Manifold:
        """The shaft, or with air the room it needs: the foot is the same, for there it stands."""
        high, low = self.top + ROOT_MM, self.foot - 0.5
        above, below = self.at(high, air), self.at(low, air)
        k = len(above)
        i, j = np.arange(k), np.roll(np.arange(k), -1)
        points = np.vstack([np.c_[above, np.full(k, high)], np.c_[below, np.full(k, low)]])
        faces = np.vstack(
            [np.c_[i, i + k, j], np.c_[j, i + k, j + k], triangulate([above]), (triangulate([below]) + k)[:, ::-1]]
        )  # fmt: skip
        prism = manifold3d.Manifold(manifold3d.Mesh64(points, faces.astype(np.uint64)))
        return prism ^ self.roof(0.0)

    def roof(self, lifted: float) -> manifold3d.Manifold:
        """All that is over the planes of the foot, lifted by so much."""
        wide, high = 60.0, 60.0 * self.steep
        wedge = manifold3d.CrossSection([np.array([[0.0, lifted], [wide, high + lifted], [-wide, high + lifted]])])
        rows = np.zeros((3, 4))
        rows[:2, 0], rows[2, 1], rows[:2, 2] = [-self.ridge[1], self.ridge[0]], 1.0, self.ridge
        rows[:, 3] = [*self.centre, self.foot]
        return manifold3d.Manifold.extrude(wedge, 2 * wide).translate([0, 0, -wide]).transform(rows)

    @property
    def hole_mm(self) -> float:
        """Of the hole from below: it leaves most of a narrow foot."""
        narrow = float(2 * self.across(self.at(self.foot)).max())
        hole = min(self.sizes.hole, 0.4 * narrow)
        return hole if hole >= _LEAST_HOLE_MM else 0.0

    @property
    def seat_mm2(self) -> float:
        """What it stands on, seen from above."""
        x, y = self.at(self.foot).T
        area = 0.5 * float(x @ np.roll(y, -1) - y @ np.roll(x, -1))
        return area - np.pi * self.hole_mm**2 / 4

    def turns_deg(self, lifted_mm: float = _LIFTED_MM) -> float:
        """How far it turns in its groove before it is lifted by so much: the ends of the ridge climb the planes."""
        return float(np.degrees(np.arctan(lifted_mm / (self.steep * self._half))))


def shaft_shape(
    plan: manifold3d.CrossSection, tongue: NDArray[np.float64], body: Sequence[manifold3d.CrossSection], sizes: DieSizes
) -> manifold3d.CrossSection | None:
    """The outline of a shaft at its top. tongue : (2,) the way to the tongue; body : slices of the body over the shaft's height, within
    which a wall has to stay. None where there is no room."""
    shape = rounded_off(plan.offset(-sizes.inset, ROUND, 2.0, SIDES), sizes)
    if shape is None:
        return None
    tongue = tongue / np.linalg.norm(tongue)
    ring = np.asarray(shape.to_polygons()[0])
    shape ^= half_plane(tongue * (float((ring @ tongue).max()) - _FLAT_MM), -tongue)
    for slice_ in body:
        shape ^= slice_.offset(-(sizes.wall + sizes.air + _SURE_MM), ROUND, 2.0, SIDES)
    return rounded_off(shape, sizes)


def rounded_off(shape: manifold3d.CrossSection, sizes: DieSizes) -> manifold3d.CrossSection | None:
    """Without corners outwards that the taper would fold; never larger."""
    radius = float(np.clip(sizes.drawn + _SPARE_MM, _CORNER_MM, _ROUNDEST_MM))
    return largest(shape.offset(-radius, ROUND, 2.0, SIDES).offset(radius, ROUND, 2.0, SIDES).simplify(0.002))


def half_plane(at: NDArray[np.float64], way: NDArray[np.float64]) -> manifold3d.CrossSection:
    """All that lies beyond a place along a way."""
    along, far = np.array([way[1], -way[0]]), 200.0
    return manifold3d.CrossSection(
        [np.array([at - along * far, at + along * far, at + along * far + way * far, at - along * far + way * far])]
    )


def give_way(shapes: list[manifold3d.CrossSection], sizes: DieSizes) -> list[manifold3d.CrossSection | None]:
    """Shafts of dies side by side: where two would leave less than a wall between their sockets, both give way along the middle."""
    out: list[manifold3d.CrossSection | None] = list(shapes)
    apart = sizes.wall + 2 * sizes.air + _SURE_MM
    for i in range(len(shapes)):
        for j in range(i + 1, len(shapes)):
            one, two = out[i], out[j]
            if one is None or two is None:
                continue
            a, b = ring_of(one, 400), ring_of(two, 400)
            far, which = cKDTree(a).query(b)
            k = int(far.argmin())
            if far[k] >= apart:
                continue
            way = b.mean(0) - a.mean(0)
            way /= np.linalg.norm(way)
            middle = (a[which[k]] + b[k]) / 2
            out[i] = rounded_off(one ^ half_plane(middle - way * apart / 2, -way), sizes)
            out[j] = rounded_off(two ^ half_plane(middle + way * apart / 2, way), sizes)
    return out


def least_apart(a: NDArray[np.float64], b: NDArray[np.float64]) -> float:
    """Between two outlines in the plan, told at a twentieth of a millimetre."""
    return float(cKDTree(dense(a)).query(dense(b))[0].min())


def dense(ring: NDArray[np.float64]) -> NDArray[np.float64]:
    long = float(np.linalg.norm(np.roll(ring, -1, axis=0) - ring, axis=1).sum())
    return ring_of(manifold3d.CrossSection([ring], manifold3d.FillRule.EvenOdd), max(int(long / 0.05), 8))


def hole_of(shaft: Shaft, floor: float) -> manifold3d.Manifold | None:
    """From under the floor to over the ridge."""
    wide = shaft.hole_mm
    if not wide:
        return None
    low = floor - BEYOND_MM
    return manifold3d.Manifold.cylinder(shaft.foot + wide - low, wide / 2, wide / 2, SIDES).translate([*shaft.centre, low])


@dataclass(frozen=True)
class Window:
    """A round hole from a socket to the outside. centre : z of its middle; way : (2,); far : how far out from the shaft's centre it goes"""

    centre: float
    way: NDArray[np.float64]
    far: float


def window_of(shaft: Shaft, cheek: NDArray[np.float64], body: manifold3d.Manifold, longest_mm: float) -> Window | None:
    """On the cheek's side, where it shows the edge of the foot. None where it would go through more than so much, or higher than the
    shaft."""
    size, cheek = shaft.sizes.window, cheek / np.linalg.norm(cheek)
    if size <= 0:
        return None
    ring = shaft.at(shaft.foot)
    outermost = ring[int(((ring - shaft.centre) @ cheek).argmax())]
    centre = float(shaft.edge(outermost[None])[0]) + _OVER_EDGE_MM
    if centre + size / 2 > shaft.top - UNDER_MM - 0.5:
        return None
    out = way_to_outline(body.slice(centre), shaft.centre, cheek)
    wall = out - float((outermost - shaft.centre) @ cheek)
    return Window(centre, cheek, out + BEYOND_MM) if 0 < wall <= longest_mm else None


def way_to_outline(slice_: manifold3d.CrossSection, at: NDArray[np.float64], way: NDArray[np.float64]) -> float:
    """How far it is from a place inside to the first outline along a way."""
    along = np.array([-way[1], way[0]])
    strip = [at + along * s * 0.02 + way * f for s, f in ((1, 0), (-1, 0), (-1, 80), (1, 80))]
    found = slice_ ^ manifold3d.CrossSection([np.array(strip)], manifold3d.FillRule.EvenOdd)
    ends = [(np.asarray(ring) - at) @ way for ring in found.to_polygons()]
    return float(min((e for e in ends if e.min() < 0.5), key=lambda e: e.min(), default=np.array([0.0])).max())


def tunnel(window: Window, shaft: Shaft) -> manifold3d.Manifold:
    turn = float(np.degrees(np.arctan2(window.way[1], window.way[0])))
    size = shaft.sizes.window / 2
    lying = manifold3d.Manifold.cylinder(window.far, size, size, SIDES).rotate([0, 90, 0]).rotate([0, 0, turn])
    return lying.translate([*shaft.centre, window.centre])


def lifted(mesh: Mesh, rotation: NDArray[np.float64]) -> manifold3d.Manifold:
    """A closed mesh in the frame of a die."""
    points = np.ascontiguousarray(mesh.vertices_mm @ rotation.T)
    return manifold3d.Manifold(manifold3d.Mesh64(points, np.array(mesh.faces, np.uint64)))


def home_mesh(solid: manifold3d.Manifold, rotation: NDArray[np.float64]) -> Mesh:
    """A solid in the frame of a die as a made mesh at home."""
    out = solid.to_mesh64()
    faces = np.asarray(out.tri_verts).astype(np.int64)
    points = np.asarray(out.vert_properties)[:, :3] @ rotation
    return Mesh.of(points, faces, np.full(len(faces), GROUP_CUT, np.uint8))
