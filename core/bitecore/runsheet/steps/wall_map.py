"""Part of Hollow: how thick the wall of a hollow body is everywhere, as a map: from each place of its skin to the nearest of the cavity,
and back."""

from __future__ import annotations

import numpy as np

from ...engine.gives import MESH
from ...engine.model import BODIES, Inputs, Need, Reading, Step, StepResult, StepSettings
from ...mesh import Mesh
from ...ops.closest import ClosestPoints
from ...progress import Run

# What lies so near to the cavity is its surface; so much thicker than asked no two walls are told apart.
_ON_MM, _MORE_MM, _ENDS_MM = 1e-4, 4.0, 2.0
# Nor so near to a drain.
_NEAR_MM = 0.05


class WallMapSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: WallMapSettings, run: Run) -> StepResult:
    rooms = [solid.mesh for solid in inputs["cavity"] or () if solid.op == "cut"]
    if not rooms:
        return StepResult({})
    body: Mesh = inputs["body"]
    reach = inputs["wall"] + _MORE_MM
    run.tick(0.2, "how thick the wall is")
    room = ClosestPoints(rooms[0])
    off = room.query(body.vertices_mm, within_mm=reach).distance_mm
    inner = off < _ON_MM
    skin = ClosestPoints(_skin(inputs["solid"], np.array(inputs["foot"]["up"]), inputs["style"] == "open"))
    off[inner] = skin.query(body.vertices_mm[inner], within_mm=reach).distance_mm
    # The rim of an open body, where both meet, has no thickness of its own.
    both = inner & (off < _ON_MM)
    thick = np.where(both, np.nan, np.minimum(off, reach))
    # Where a drain goes through there is no wall.
    for drain in inputs["drains"] or ():
        thick[ClosestPoints(drain.mesh).query(body.vertices_mm, within_mm=_NEAR_MM).face >= 0] = np.nan
    wall = inputs["wall"]
    shown = body.with_channel(f"Wall beyond {wall:.1f} mm", "mm", _MORE_MM, thick - wall, ends=_ENDS_MM)
    sound = thick[np.isfinite(thick) & ~inner]
    readings = (Reading("half of the wall is thinner than", float(np.median(sound)), "mm"),) if len(sound) else ()
    return StepResult({"map": shown}, readings)


def _skin(solid: Mesh, up: np.ndarray, open_below: bool) -> Mesh:
    """Without the flat underside, where that is open."""
    if not open_below:
        return solid
    height = solid.vertices_mm @ up
    return solid.of_faces(~(height[solid.faces] < height.min() + 1e-3).all(1))


STEP = Step(
    name="wall-map",
    title="Wall map",
    number=6,
    version=1,
    over=BODIES,
    part_of="hollow",
    settings=WallMapSettings,
    needs={
        "body": Need("assemble", "body"),
        "solid": Need("base", "body"),
        "cavity": Need("hollow", "solids", optional=True),
        "foot": Need("foot", "foot"),
        "style": Need("hollow", "style", setting=True),
        "drains": Need("drains", "solids", optional=True),
        "wall": Need("hollow", "wall_mm", setting=True),
    },
    gives={"map": MESH},
    apply=apply,
    about="How thick the wall is.",
)
