"""Layers: every body in layers, the same wherever it lies on the plate."""

from __future__ import annotations

from ...engine.gives import FILES, Files, FileValue, json_of
from ...engine.model import BODIES, Inputs, Need, Reading, Step, StepResult, StepSettings
from ...mesh import joined
from ...ops.layers import Layers, layers
from ...parts.printing import LayerSum
from ...progress import Run


class LayersSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: LayersSettings, run: Run) -> StepResult:
    if inputs["laid"] is None:
        return StepResult({}, figure="no room")
    body = inputs["body"] if inputs["supports"] is None else joined([inputs["body"], inputs["supports"]])
    heights, pixel = inputs["heights"], inputs["plate"]["pixel_mm"]
    made: Layers | None = None
    files: list[FileValue] = []
    # Every height in whole pixels; where edges are grey, in parts of them too.
    for parts in sorted({1, inputs["parts"]}):
        for number, high in enumerate(heights):
            run.tick(0.25 * len(files), "layers")
            cut = layers(body, inputs["laid"], pixel_mm=pixel / parts, layer_mm=high)
            made = made or cut
            name = f"{inputs.piece}{'.thick' * number}{'.grey' * (parts > 1)}.layers"
            files.append(FileValue(name, cut.to_bytes()))
    assert made is not None
    runs = Files(files)
    readings = (Reading("layers", made.count), Reading("cured", made.volume_ml, "ml"))
    summed = {"layers": made.count, "ml": round(made.volume_ml, 6)}
    return StepResult({"runs": runs, "sum": summed}, readings, (), f"{made.count} layers")


STEP = Step(
    name="layers",
    title="Layers",
    number=2,
    version=3,
    over=BODIES,
    settings=LayersSettings,
    needs={
        "body": Need("source", "mesh"),
        "supports": Need("source", "supports"),
        "laid": Need("pack", "laid"),
        "plate": Need("pack", "plate"),
        "heights": Need("pack", "heights"),
        "parts": Need("pack", "parts"),
    },
    gives={"runs": FILES, "sum": json_of(LayerSum)},
    apply=apply,
    about="What the printer cures.",
)
