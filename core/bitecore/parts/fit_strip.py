"""A strip with five sockets and a peg: which of them the peg goes into, and comes out of, by hand without play tells how much air a printer
and its resin need round a die's shaft. Both print without supports, the strip on its underside, the peg on its head.
"""

from __future__ import annotations

import manifold3d
import numpy as np
from numpy.typing import NDArray

from ..mesh import GROUP_CUT, Mesh
from ..ops.written import text
from .die_plan import ROUND, SIDES, DieSizes
from .die_shaft import Shaft, half_plane, hole_of, ring_of

# Air on each side (mm), each written before its socket.
AIRS_MM = (0.02, 0.04, 0.06, 0.09, 0.12)
# A shaft like that of a premolar: half its sides, what is cut off one of them, how long it is.
_HALF_MM, _FLAT_MM, _LONG_MM = (3.0, 2.3), 0.4, 9.0
_CELL_MM, _DEEP_MM, _UNDER_MM = 10.0, 9.0, 2.0
_LETTER_MM, _CUT_MM, _HEAD_MM, _BESIDE_MM = 2.2, 0.5, 7.0, 6.0
# A groove under the strip from each hole to the back lets air in while it is printed: the plate shuts what opens downwards.
_GROOVE_MM = (1.5, 1.0)
_SIZES = DieSizes(hole=3.0, window=0.0, vent=0.0, under=_UNDER_MM)


def shaft() -> Shaft:
    """Of the peg, about the origin, its top at z = 0."""
    turn = np.arange(128) / 128 * 2 * np.pi
    oval = manifold3d.CrossSection([np.c_[np.cos(turn), np.sin(turn)] * _HALF_MM])
    cut = oval ^ half_plane(np.array([0.0, _HALF_MM[1] - _FLAT_MM]), np.array([0.0, -1.0]))
    return Shaft.of(ring_of(cut.offset(-0.3, ROUND, 2.0, SIDES).offset(0.3, ROUND, 2.0, SIDES)), 0.0, -_LONG_MM, _SIZES)


def socket_at(number: int) -> NDArray[np.float64]:
    """(3,) where a shaft stands in the strip, by its place from the left."""
    return np.array([(number + 0.5) * _CELL_MM, _DEEP_MM / 2, _UNDER_MM + _LONG_MM])


def fit_strip() -> list[tuple[str, Mesh]]:
    """[(name, body)], both as they lie on the plate."""
    return [("fit strip", _mesh(_strip())), ("peg", _mesh(_peg()))]


def _strip() -> manifold3d.Manifold:
    one, high = shaft(), _UNDER_MM + _LONG_MM
    lost = []
    for number, air in enumerate(AIRS_MM):
        at = socket_at(number).tolist()
        lost.append(one.solid(air).translate(at))
        hole = hole_of(one, -high)
        lost += [hole.translate(at)] if hole is not None else []
        wide, tall = _GROOVE_MM
        lost.append(manifold3d.Manifold.cube([wide, _DEEP_MM, tall]).translate([at[0] - wide / 2, at[1], 0.0]))
        written = text([f"{air:.2f}"], tall_mm=_LETTER_MM)
        flat = manifold3d.Manifold.extrude(written.shape, 2 * _CUT_MM).rotate([90, 0, 0])
        lost.append(flat.translate([at[0] - written.width / 2, _CUT_MM, (high - written.height) / 2]))
    block = manifold3d.Manifold.cube([len(AIRS_MM) * _CELL_MM, _DEEP_MM, high])
    return block - manifold3d.Manifold.batch_boolean(lost, manifold3d.OpType.Add)


def _peg() -> manifold3d.Manifold:
    """On its head, which is flat where the shaft is, behind the strip."""
    one = shaft()
    shape = manifold3d.CrossSection([one.ring]).offset(0.8, ROUND, 2.0, SIDES)
    head = manifold3d.Manifold.extrude(shape, _HEAD_MM)
    upside_down = (one.solid() + head).rotate([180, 0, 0]).translate([0, 0, _HEAD_MM])
    return upside_down.translate([_CELL_MM / 2, _DEEP_MM + _BESIDE_MM, 0])


def _mesh(solid: manifold3d.Manifold) -> Mesh:
    out = solid.to_mesh64()
    faces = np.asarray(out.tri_verts).astype(np.int64)
    return Mesh.of(np.asarray(out.vert_properties)[:, :3], faces, np.full(len(faces), GROUP_CUT, np.uint8))
