"""The plan of a die: what it takes of the body, seen along the way it comes out. It ends a little outside its tooth, and half way to its
neighbours where they stand nearer; so whatever its way, its own walls run along it, and what a neighbour hangs over is cut from both.

The plan is found on a raster of half a tenth of a millimetre: lines where a signed distance is nought, evened with round offsets.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field

import manifold3d
import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from skimage.draw import polygon2mask
from skimage.measure import find_contours

from ..mesh import Mesh
from ..ops.heights import heights

CELL_MM = 0.05
# Steps of a raster are evened over so many cells.
_STEPS = 2.0
# Around the tooth; and so far from it other teeth are looked at.
_AROUND_MM, _NEAR_MM = 2.0, 4.0
# Beside a tooth on its way out more room than this is no matter.
_BESIDE_MM = 1.0
# No corner of a plan is rounder than this; what lies so near to a line is on it.
_ROUND_MM, _PLAIN_MM = 0.25, 0.005
# A margin where teeth meet is as sure as this (docs/trial.md has how sure they are).
_TAIL_MM = 0.3
# So near to its outline a tooth that is prepared is kept whole.
_KEPT_MM = 0.02
# Two that come out are both kept whole where there is so much between them.
_BOTH_MM = 0.1
ROUND = manifold3d.JoinType.Round
SIDES = 32


@dataclass(frozen=True)
class DieSizes:
    """Lengths in mm.

    air       : between shaft and socket, on each side
    taper_deg : of the shaft's walls
    inset     : the shaft within the plan of its head
    strip     : of gum that stays round the tooth; ditch : how far the gum outside of it goes down
    room      : between the head and what stands beside it
    wall      : of the model round a socket and between two of them
    under     : of the model under the seat; deep : a shaft is no longer
    hole, window, vent : their diameters, nought for none
    """

    air: float = 0.06
    taper_deg: float = 1.0
    inset: float = 0.35
    strip: float = 0.35
    ditch: float = 1.2
    room: float = 0.15
    wall: float = 1.0
    under: float = 2.0
    deep: float = 10.0
    hole: float = 3.0
    window: float = 2.5
    vent: float = 1.5

    @property
    def drawn(self) -> float:
        """How far the taper draws the longest shaft in."""
        return float(np.tan(np.radians(self.taper_deg))) * self.deep

    @property
    def rim(self) -> float:
        """How far the plan goes outside of the tooth."""
        return self.strip + 0.6


@dataclass(frozen=True)
class Near:
    """A tooth of a body and those beside it, in the body's home. own, others (by number) : surfaces; centre : (3,) of its own"""

    fdi: int
    own: Mesh
    others: Mapping[int, Mesh]
    centre: NDArray[np.float64]


def near(body: Mesh, tooth: NDArray, fdi: int) -> Near | None:
    """tooth : (m,) the number of every face, 0 gum. None where there is no such tooth."""
    teeth = np.flatnonzero(tooth > 0)
    which = tooth[teeth]
    own = which == fdi
    if not own.any():
        return None
    a, b, c = (body.vertices_mm[corner] for corner in body.faces[teeth].T)
    middle = (a + b + c) / 3
    centre = middle[own].mean(0)
    away = np.linalg.norm(middle - centre, axis=1)
    close = ~own & (away < float(away[own].max()) + _NEAR_MM)
    others = {int(n): body.of_faces(teeth[close & (which == n)]) for n in np.unique(which[close])}
    return Near(fdi, body.of_faces(teeth[own]), others, centre)


@dataclass(frozen=True)
class Seen:
    """Teeth along a way, as signed distances (mm, below nought inside) from their outlines in the plan, at every place of a raster.

    low : (2,) the place of cell 0, 0; own : (nx, ny); others : by number
    """

    low: NDArray[np.float64]
    cell: float
    own: NDArray[np.float64]
    others: Mapping[int, NDArray[np.float64]]

    def nearest(self, of: Collection[int]) -> NDArray[np.float64]:
        """From the nearest of these teeth; far where there is none."""
        fields = [self.others[n] for n in of if n in self.others]
        return np.minimum.reduce(fields) if fields else np.full(self.own.shape, 9.0)


def seen(teeth: Near, rotation: NDArray[np.float64]) -> Seen:
    """rotation : (3, 3) rows x, y and the way."""
    low, own, others = _rasters(teeth, rotation, CELL_MM, _AROUND_MM)
    return Seen(low, CELL_MM, _evened(own, CELL_MM), {n: _evened(on, CELL_MM) for n, on in others.items()})


def overlap_along(teeth: Near, rotation: NDArray[np.float64], cell: float) -> float:
    """How deep a tooth and others lie over one another along a way (mm); below nought: the room between them, as far as a millimetre."""
    _, own_on, others = _rasters(teeth, rotation, cell, _BESIDE_MM)
    if not others:
        return -_BESIDE_MM
    own, other = _evened(own_on, cell), _evened(np.logical_or.reduce(list(others.values())), cell)
    deep = float(np.minimum(-own, -other).max())
    return deep if deep > 0 else max(-float(other[own <= 0].min(initial=_BESIDE_MM)), -_BESIDE_MM)


def _rasters(
    teeth: Near, rotation: NDArray[np.float64], cell: float, around_mm: float
) -> tuple[NDArray[np.float64], NDArray[np.bool_], dict[int, NDArray[np.bool_]]]:
    """(the place of cell 0, 0; where the tooth is, without holes; where each other is), so far around the tooth."""
    flat = teeth.own.vertices_mm @ rotation.T
    low = np.floor((flat[:, :2].min(0) - around_mm) / cell) * cell
    x, y = (np.ceil((flat[:, :2].max(0) + around_mm - low) / cell).astype(int) + 1).tolist()
    own = ndimage.binary_fill_holes(_covered(teeth.own, rotation, low, (x, y), cell))
    others = {n: _covered(mesh, rotation, low, (x, y), cell) for n, mesh in teeth.others.items()}
    return low, own, {n: on for n, on in others.items() if on.any()}


def _covered(mesh: Mesh, rotation: NDArray, low: NDArray, shape: tuple[int, int], cell: float) -> NDArray[np.bool_]:
    _, high = heights(mesh.vertices_mm @ rotation.T, mesh.faces, low, shape, cell)
    return np.isfinite(high)


def _evened(on: NDArray[np.bool_], cell: float) -> NDArray[np.float64]:
    """Without the steps of the raster, which would stand in every wall."""
    return ndimage.gaussian_filter(signed(on, cell), _STEPS)


def signed(on: NDArray[np.bool_], cell: float) -> NDArray[np.float64]:
    """Distances from the outline of a region of cells, below nought inside."""
    inside, outside = ndimage.distance_transform_edt(on), ndimage.distance_transform_edt(~on)
    return np.where(on, 0.5 - inside, outside - 0.5) * cell


@dataclass(frozen=True)
class Opened:
    """What a wall took of a tooth that stays: how deep it goes into its outline (mm), and where (2,) in the plan."""

    mm: float
    at: NDArray[np.float64]


@dataclass(frozen=True)
class WallTo:
    """The wall to another tooth: where (2,) in the plan it comes nearest to that, which way (2,) it moves towards it, and how far it
    stands off the line half way between the two, less half the room (mm)."""

    at: NDArray[np.float64]
    towards: NDArray[np.float64]
    moved_mm: float


@dataclass(frozen=True)
class DiePlan:
    """shape : in the plan; lost_mm : how deep it cuts into its own tooth; opened : by the number of the tooth that stays; walls : by the
    number of the tooth beside it"""

    shape: manifold3d.CrossSection
    lost_mm: float
    opened: Mapping[int, Opened] = field(default_factory=dict)
    walls: Mapping[int, WallTo] = field(default_factory=dict)


def planned(view: Seen, sizes: DieSizes, *, out: Collection[int] = (), moved: Mapping[int, float] | None = None) -> DiePlan | None:
    """The plan of a die. out : numbers of teeth that come out too; moved : how far (mm) the wall to a tooth is moved towards it. None where
    nothing is left of it."""
    limit = _limit(view, sizes, out, moved or {})
    asked = _shape(np.maximum(view.own - sizes.rim, limit), view)
    if asked is None:
        return None
    even = asked.offset(-_ROUND_MM, ROUND, 2.0, SIDES).offset(2 * _ROUND_MM, ROUND, 2.0, SIDES).offset(-_ROUND_MM, ROUND, 2.0, SIDES)
    within = _shape(limit, view)
    tooth = _shape(np.maximum(view.own - _KEPT_MM, limit), view)
    # Evening takes nothing of the tooth itself.
    even = even + tooth if tooth is not None else even
    shape = largest((even ^ within if within is not None else even).simplify(_PLAIN_MM))
    if shape is None:
        return None
    on = inside(shape, view)
    return DiePlan(shape, _lost(view, on), _opened(view, on, sizes, out), _walls(view, on, sizes))


def _lost(view: Seen, on: NDArray[np.bool_]) -> float:
    """Tails of a tooth that are thinner than its margin is sure do not count; nor does what the raster does not tell."""
    whole = signed(view.own < -_TAIL_MM, view.cell) - _TAIL_MM
    lost = float(-whole[~on & (whole < 0)].min(initial=0.0))
    return lost if lost > view.cell else 0.0


def _limit(view: Seen, sizes: DieSizes, out: Collection[int], moved: Mapping[int, float]) -> NDArray[np.float64]:
    """Below nought where a die may be, for its neighbours."""
    limit = np.full(view.own.shape, -9.0)
    for number, other in view.others.items():
        half = (view.own - other) / 2 + sizes.room / 2 - moved.get(number, 0.0)
        gap = float(other[view.own < 0].min(initial=9.0))
        if number not in moved and gap > (_BOTH_MM if number in out else 0.0):
            # The one that stays gives way, and of two that come out each is kept whole where there is air between them.
            half = np.minimum(half, view.own - (_KEPT_MM if number not in out else 0.0))
        limit = np.maximum(limit, half)
    return limit


def _opened(view: Seen, on: NDArray[np.bool_], sizes: DieSizes, out: Collection[int]) -> dict[int, Opened]:
    reach = signed(on, view.cell) <= sizes.room
    found = {}
    for number, other in view.others.items():
        into = np.where(reach & (other < 0), -other, 0.0)
        if number not in out and into.max() > view.cell:
            at = np.unravel_index(int(into.argmax()), into.shape)
            found[number] = Opened(float(into.max()), view.low + np.array(at) * view.cell)
    return found


def _walls(view: Seen, on: NDArray[np.bool_], sizes: DieSizes) -> dict[int, WallTo]:
    """Half way between two teeth the wall moves as the difference of their distances grows."""
    edge = np.argwhere(on & ~ndimage.binary_erosion(on))
    found = {}
    for number, other in view.others.items():
        at = tuple(edge[int(other[tuple(edge.T)].argmin())])
        away = np.array([np.gradient(view.own - other, axis=axis)[at] for axis in (0, 1)])
        long = float(np.linalg.norm(away))
        if long > 0:
            off = float(view.own[at] - other[at] + sizes.room) / 2
            found[number] = WallTo(view.low + np.array(at) * view.cell, away / long, off)
    return found


def _shape(value: NDArray[np.float64], view: Seen) -> manifold3d.CrossSection | None:
    """The largest region where a number of the raster is below nought."""
    rings = [ring[:-1] for ring in find_contours(np.pad(value, 1, constant_values=9.0), 0.0) if len(ring) > 3]
    if not rings:
        return None
    shape = manifold3d.CrossSection([(ring - 1) * view.cell + view.low for ring in rings], manifold3d.FillRule.EvenOdd)
    return largest(shape)


def largest(shape: manifold3d.CrossSection) -> manifold3d.CrossSection | None:
    """Its largest piece, without holes."""
    best = max(shape.to_polygons(), key=lambda p: _area(np.asarray(p)), default=None)
    if best is None or _area(np.asarray(best)) <= 0:
        return None
    return manifold3d.CrossSection([np.asarray(best)])


def _area(ring: NDArray) -> float:
    x, y = ring.T
    return 0.5 * float(x @ np.roll(y, -1) - y @ np.roll(x, -1))


def inside(shape: manifold3d.CrossSection, view: Seen) -> NDArray[np.bool_]:
    """(nx, ny) which places of the raster lie in a shape."""
    on = np.zeros(view.own.shape, bool)
    for ring in shape.to_polygons():
        on |= polygon2mask(view.own.shape, (np.asarray(ring) - view.low) / view.cell)
    return on
