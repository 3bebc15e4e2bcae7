"""Part of Hollow: how thick the wall of a hollow body is everywhere, as a map: from each place of its skin to the nearest of the cavity,
and back."""

from __future__ import annotations

import numpy as np

from ...engine.gives import MESH, SOLIDS
from ...engine.model import BODIES, Inputs, Need, Reading, Step, StepResult, StepSettings
from ...mesh import Mesh
from ...ops.closest import ClosestPoints
from ...progress import Run

# What lies so near to the cavity is its surface; so much thicker than asked no two walls are told apart.
_ON_MM, _MORE_MM, _ENDS_MM = 1e-4, 4.0, 2.0


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
    skin = ClosestPoints(inputs["solid"])
    off[inner] = skin.query(body.vertices_mm[inner], within_mm=reach).distance_mm
    # The rim of an open body, where both meet, has no thickness of its own.
    both = inner & (off < _ON_MM)
    thick = np.where(both, np.nan, np.minimum(off, reach))
    wall = inputs["wall"]
    shown = body.with_channel(f"Wall beyond {wall:.1f} mm", "mm", _MORE_MM, thick - wall, ends=_ENDS_MM)
    sound = thick[~both & ~inner]
    readings = (Reading("half of the wall is thinner than", float(np.median(sound)), "mm"),) if len(sound) else ()
    return StepResult({"map": shown}, readings)


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
        "wall": Need("hollow", "wall_mm", setting=True),
    },
    gives={"map": MESH},
    apply=apply,
    about="How thick the wall is.",
)
