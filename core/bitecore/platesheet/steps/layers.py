"""Layers: every body in layers, the same wherever it lies on the plate."""

from __future__ import annotations

from ...engine.gives import FILES, Files, FileValue, json_of
from ...engine.model import BODIES, Inputs, Need, Reading, Step, StepResult, StepSettings
from ...mesh import joined
from ...ops.layers import layers
from ...parts.printing import LayerSum
from ...progress import Run


class LayersSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: LayersSettings, run: Run) -> StepResult:
    if inputs["laid"] is None:
        return StepResult({}, figure="no room")
    body = inputs["body"] if inputs["supports"] is None else joined([inputs["body"], inputs["supports"]])
    heights, pixel = inputs["heights"], inputs["plate"]["pixel_mm"]
    made = layers(body, inputs["laid"], pixel_mm=pixel, layer_mm=heights[0])
    runs = Files([FileValue(f"{inputs.piece}.layers", made.to_bytes())])
    for high in heights[1:]:
        run.tick(0.5, "thick layers")
        thick = layers(body, inputs["laid"], pixel_mm=pixel, layer_mm=high)
        runs.append(FileValue(f"{inputs.piece}.thick.layers", thick.to_bytes()))
    readings = (Reading("layers", made.count), Reading("cured", made.volume_ml, "ml"))
    summed = {"layers": made.count, "ml": round(made.volume_ml, 6)}
    return StepResult({"runs": runs, "sum": summed}, readings, (), f"{made.count} layers")


STEP = Step(
    name="layers",
    title="Layers",
    number=2,
    version=2,
    over=BODIES,
    settings=LayersSettings,
    needs={
        "body": Need("source", "mesh"),
        "supports": Need("source", "supports"),
        "laid": Need("pack", "laid"),
        "plate": Need("pack", "plate"),
        "heights": Need("pack", "heights"),
    },
    gives={"runs": FILES, "sum": json_of(LayerSum)},
    apply=apply,
    about="What the printer cures.",
)
