"""What stands under a die: its tooth and its case, mirrored so that it is read from below."""

from __future__ import annotations

import itertools

import manifold3d
import numpy as np

from ..ops.written import Written, text
from .die_plan import ROUND, SIDES
from .die_shaft import Shaft

_DEEP_MM, _OFF_EDGE_MM, _BETWEEN_MM = 0.35, 0.35, 0.4
# Heights of capitals that are tried, of the tooth's number and of the case's; the pen of the small ones.
_TOOTH_MM, _CASE_MM, _PEN_MM = (2.6, 2.2, 1.8, 1.5), (1.6, 1.3, 1.1), 0.25


def letters(shaft: Shaft, tooth: str, case: str) -> manifold3d.Manifold | None:
    """What is cut into the foot, in the frame of the die; without the case's number where only the tooth's finds room; None where
    neither does."""
    foot = shaft.at(shaft.foot)
    room = manifold3d.CrossSection([foot]).offset(-_OFF_EDGE_MM, ROUND, 2.0, SIDES)
    turn = float(np.degrees(np.arctan2(shaft.ridge[1], shaft.ridge[0])))
    for tall, small in [*itertools.product(_TOOTH_MM, _CASE_MM if case else ()), *((t, 0.0) for t in _TOOTH_MM)]:
        shape = _together(text([tooth], "narrow", tall_mm=tall), text([case], "line", tall_mm=small, pen_mm=_PEN_MM) if small else None)
        lying = shape.mirror((1.0, 0.0)).rotate(turn).translate(tuple(shaft.centre))
        if (lying - room).area() < 1e-6:
            long = shaft.length
            prism = manifold3d.Manifold.extrude(lying, 2 * long).translate([0, 0, shaft.foot - 1.0])
            # Into both planes of the foot equally deep, and out of it a little.
            return prism ^ (shaft.roof(-0.3) - shaft.roof(_DEEP_MM * float(np.hypot(1, shaft.steep) / np.sqrt(2))))
    return None


def _together(above: Written, below: Written | None) -> manifold3d.CrossSection:
    """One over the other, about the middle."""
    rows = [above] if below is None else [above, below]
    high = sum(r.height for r in rows) + _BETWEEN_MM * (len(rows) - 1)
    out, y = manifold3d.CrossSection(), high / 2
    for row in rows:
        out += row.shape.translate((-row.width / 2, y - row.height))
        y -= row.height + _BETWEEN_MM
    return out
