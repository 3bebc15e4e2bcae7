"""Part of Hollow: what every style would take of resin, money and time, side by side; worked out when it is asked for."""

from __future__ import annotations

import numpy as np

from ...engine.gives import json_of
from ...engine.model import BODIES, Inputs, Need, Step, StepResult, StepSettings
from ...mesh import Mesh
from ...ops.assembly import assemble
from ...ops.cavity import cavity
from ...ops.clip import frame_of
from ...ops.ribs import Stiffened
from ...parts.printing import amount_of, printing_of
from ...progress import Run
from ..values import Styles


class StylesSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: StylesSettings, run: Run) -> StepResult:
    if not inputs["on"] or inputs["printer"] is None or inputs["resin"] is None:
        return StepResult({"styles": None})
    printing = printing_of(inputs["printer"], inputs["resin"], inputs["layer"])
    body: Mesh = inputs["body"]
    local = body.with_vertices(body.vertices_mm @ frame_of(inputs["foot"]["up"], inputs["foot"]["front"]).T)
    up = np.array([0.0, 0.0, 1.0])
    out = {"resin": printing["resin"], "solid": amount_of(local, up, printing)}
    stiff = None if inputs["stiff"] == "none" else Stiffened(inputs["stiff"], inputs["stiff_mm"])
    for number, (name, floor) in enumerate((("open", None), ("closed", inputs["floor"]))):
        room = cavity(local, wall_mm=inputs["wall"], floor_mm=floor, stiffened=stiff, run=run.part(number / 2, number / 2 + 0.4)).mesh
        out[name] = room and amount_of(assemble(local, cut=[("the cavity", room)]).body, up, printing)
    return StepResult({"styles": out})


STEP = Step(
    name="styles",
    title="Styles",
    number=6,
    version=1,
    over=BODIES,
    part_of="hollow",
    settings=StylesSettings,
    needs={
        "on": Need("hollow", "compare", setting=True),
        "body": Need("base", "body"),
        "foot": Need("foot", "foot"),
        "wall": Need("hollow", "wall_mm", setting=True),
        "floor": Need("hollow", "floor_mm", setting=True),
        "stiff": Need("hollow", "stiff", setting=True),
        "stiff_mm": Need("hollow", "stiff_mm", setting=True),
        "printer": Need("shelf", "plate.printer"),
        "resin": Need("shelf", "plate.resin"),
        "layer": Need("plate", "layer_mm", setting=True),
    },
    gives={"styles": json_of(Styles | None)},
    apply=apply,
    about="Solid, open and closed, side by side.",
)
