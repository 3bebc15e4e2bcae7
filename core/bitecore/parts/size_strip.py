"""A body with three known lengths: what a printer and a resin make of them, measured, tells how much larger bodies have to be printed."""

from __future__ import annotations

import manifold3d
import numpy as np

from ..errors import BadSetting
from ..mesh import GROUP_CUT, Mesh
from ..ops.written import text

# Outer lengths along the plate's width, its depth and upwards (mm).
LENGTHS_MM = (60.0, 60.0, 30.0)
_NAMES = ("width", "depth", "height")
_THICK_MM, _LETTER_MM, _CUT_MM = 7.0, 3.0, 0.5
# What is farther off was measured wrong, or not printed as it is.
MOST_PERCENT = 5.0


def size_strip() -> Mesh:
    """Two bars at a right angle and a post where they meet, as they lie on the plate, from the origin on; each says how long it is."""
    wide, deep, high = LENGTHS_MM
    whole = manifold3d.Manifold.batch_boolean(
        [
            manifold3d.Manifold.cube(size)
            for size in ([wide, _THICK_MM, _THICK_MM], [_THICK_MM, deep, _THICK_MM], [_THICK_MM, _THICK_MM, high])
        ],
        manifold3d.OpType.Add,
    )
    lost = []
    for name, length in zip(_NAMES, LENGTHS_MM, strict=True):
        written = text([f"{name} {length:.0f}"], tall_mm=_LETTER_MM)
        flat = manifold3d.Manifold.extrude(written.shape, 2 * _CUT_MM)
        side = (_THICK_MM - written.height) / 2
        if name == "width":
            lost.append(flat.translate([_THICK_MM + 4, side, _THICK_MM - _CUT_MM]))
        elif name == "depth":
            lost.append(flat.rotate([0, 0, 90]).translate([_THICK_MM - side, _THICK_MM + 4, _THICK_MM - _CUT_MM]))
        else:
            # Up the post, on the side in front.
            lost.append(flat.rotate([0, 0, 90]).rotate([90, 0, 0]).translate([_THICK_MM - side, _CUT_MM, _THICK_MM + 2]))
    made = (whole - manifold3d.Manifold.batch_boolean(lost, manifold3d.OpType.Add)).to_mesh64()
    faces = np.asarray(made.tri_verts).astype(np.int64)
    return Mesh.of(np.asarray(made.vert_properties)[:, :3], faces, np.full(len(faces), GROUP_CUT, np.uint8))


def correction_percent(axis: int, measured_mm: float) -> float:
    """How much larger bodies have to be printed along an axis where this was measured (%). Raises BadSetting for what cannot be."""
    asked = LENGTHS_MM[axis]
    percent = (asked / measured_mm - 1) * 100 if measured_mm > 0 else np.inf
    if not abs(percent) <= MOST_PERCENT:
        said = f"A {_NAMES[axis]} of {measured_mm:.2f} mm where {asked:.0f} mm were printed is more than {MOST_PERCENT:.0f} % off."
        raise BadSetting(f"{said} Measure again.")
    return round(percent, 2)
