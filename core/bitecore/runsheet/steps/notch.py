"""Part of Base: a notch at the rim, for a spatula. It keeps clear of what stands on the wall."""

from __future__ import annotations

import numpy as np

from ...engine.gives import RESERVES, SOLIDS, Solid, Solids, json_of
from ...engine.model import BODIES, Flag, Inputs, Need, Place, Step, StepResult, StepSettings
from ...mesh import Mesh
from ...ops.clip import frame_of
from ...ops.free_wall import free_wall
from ...ops.notch import WIDE_MM, notch
from ...progress import Run
from ..values import Notched

# From a strut to the notch, and from where it was put to where it can be: nearer is there (mm).
_CLEAR_MM, _TOLD_MM = 0.5, 1.0


class NotchSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: NotchSettings, run: Run) -> StepResult:
    if not inputs["on"]:
        return StepResult({"solids": Solids(), "reserves": [], "notch": None})
    body: Mesh = inputs["body"]
    foot, walls = inputs["foot"], inputs["walls"]
    rotation, origin = frame_of(foot["up"], foot["front"]), np.array(foot["origin"])
    local = body.with_vertices((body.vertices_mm - origin) @ rotation.T)
    wall = free_wall(local, edge_mm=walls["edge_mm"] if walls else 0.0)
    asked = None if inputs["at"] is None else rotation @ (np.array(inputs["at"]) - origin)
    struts = [tuple(rotation @ (np.array(s[k]) - origin) for k in ("from_mm", "to_mm")) for s in inputs["struts"] or ()]
    wide = max((s["wide_mm"] for s in inputs["struts"] or ()), default=0.0)
    made = None
    if wall is not None:
        bottom = float(local.vertices_mm[:, 2].min())
        made = notch(wall.clear_of([(a, b) for a, b in struts], wide / 2 + _CLEAR_MM), bottom=bottom, asked=asked)
    if made is None:
        text = "There is no room for a notch: the walls are too low or too sharply bent. A thicker base gives it."
        return StepResult({"solids": Solids(), "reserves": [], "notch": None}, (), (Flag("no-notch", "look", text, unmet=True),))

    def home(point: np.ndarray) -> tuple[float, float, float]:
        x, y, z = (np.round(point @ rotation + origin, 6) + 0.0).tolist()
        return (x, y, z)

    solid = Solid("cut", made.mesh.with_vertices(made.mesh.vertices_mm @ rotation + origin), "the notch")
    reserves = [{"name": "notch", "from_mm": list(home(a)), "to_mm": list(home(b)), "radius_mm": 0.01} for a, b in made.lines]
    at = home(made.at_mm)
    flags = [Flag("notched", "note", f"A notch {WIDE_MM:.0f} mm wide at the rim, for a spatula.", Place(inputs.piece, at, 5.0))]
    if asked is not None and (off := float(np.linalg.norm(made.at_mm[:2] - asked[:2]))) > _TOLD_MM:
        flags.append(Flag("notch-moved", "note", f"The notch stands {off:.1f} mm from where it was put: nearer there is no room for it."))
    ends = [list(home(p)) for p in made.lines[0]]
    return StepResult({"solids": Solids([solid]), "reserves": reserves, "notch": {"at_mm": list(at), "line": ends}}, (), tuple(flags))


STEP = Step(
    name="notch",
    title="Notch",
    number=5,
    version=3,
    over=BODIES,
    part_of="base",
    settings=NotchSettings,
    needs={
        "body": Need("base", "body"),
        "walls": Need("base", "walls", optional=True),
        "foot": Need("foot", "foot"),
        "on": Need("base", "notch", setting=True),
        "at": Need("base", "notch_at", setting=True),
        "struts": Need("articulate", "struts", optional=True),
    },
    gives={"solids": SOLIDS, "reserves": RESERVES, "notch": json_of(Notched | None)},
    apply=apply,
    about="A notch for a spatula.",
)
