"""Part of Plate: every body as it lies there in layers, worked out once."""

from __future__ import annotations

import hashlib

from ...engine.gives import FILES, Files, FileValue, json_of
from ...engine.model import BODIES, Inputs, Need, Reading, Step, StepResult, StepSettings
from ...mesh import joined
from ...ops.layers import layers
from ...parts.printing import LayerSum
from ...progress import Run


class LayersSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: LayersSettings, run: Run) -> StepResult:
    plate, printing = inputs["plate"], inputs["printing"]
    body = inputs["body"] if inputs["supports"] is None else joined([inputs["body"], inputs["supports"]])
    made = layers(body, inputs["place"], pixel_mm=plate["pixel_mm"], layer_mm=printing["layer_mm"])
    readings = (Reading("layers", made.count), Reading("cured", made.volume_ml, "ml"))
    data = made.to_bytes()
    runs = Files([FileValue(f"{inputs.piece}.layers", data)])
    summed = {"layers": made.count, "ml": round(made.volume_ml, 6)}
    return StepResult({"runs": runs, "sum": summed, "sha256": hashlib.sha256(data).hexdigest()}, readings, (), f"{made.count} layers")


STEP = Step(
    name="layers",
    title="Layers",
    number=9,
    version=3,
    over=BODIES,
    part_of="plate",
    settings=LayersSettings,
    needs={
        "body": Need("assemble", "body"),
        "supports": Need("supports", "mesh", optional=True),
        "place": Need("plate", "home_to_plate"),
        "plate": Need("plate", "plate"),
        "printing": Need("plate", "printing"),
    },
    gives={"runs": FILES, "sum": json_of(LayerSum), "sha256": json_of(str)},
    nameless=("runs", "sum", "sha256"),
    apply=apply,
    about="What the printer cures.",
)
