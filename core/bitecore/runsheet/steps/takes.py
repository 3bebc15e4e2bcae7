"""Part of Plate: what the whole plate takes of resin and time."""

from __future__ import annotations

from ...engine.gives import json_of
from ...engine.model import WHOLE, Inputs, Need, Reading, Step, StepResult, StepSettings
from ...progress import Run
from ..values import Takes


class TakesSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: TakesSettings, run: Run) -> StepResult:
    printing, sums = inputs["printing"], list(inputs["sum"].values())
    ml, count = sum(s["ml"] for s in sums), max(s["layers"] for s in sums)
    first = min(count, printing["first_layers"])
    seconds = first * printing["first_layer_s"] + (count - first) * printing["layer_s"]
    price = printing["price_l"]
    takes = {
        "layers": count, "ml": round(ml, 6), "grams": round(ml * printing["density_g_ml"], 6), "minutes": round(seconds / 60, 6),
        "cost": None if price is None else round(ml / 1000 * price, 6),
    }  # fmt: skip
    readings = [
        Reading("resin", takes["ml"], "ml"), Reading("weight", takes["grams"], "g"), Reading("printing", takes["minutes"], "min"),
        Reading("layers", count),
    ]  # fmt: skip
    if price is not None:
        readings.append(Reading("cost of the resin", takes["cost"]))
    return StepResult({"takes": takes}, tuple(readings), (), f"{ml:.1f} ml")


STEP = Step(
    name="takes",
    title="What it takes",
    number=9,
    version=1,
    over=WHOLE,
    part_of="plate",
    settings=TakesSettings,
    needs={"sum": Need("layers", "sum", each=True), "printing": Need("plate", "printing")},
    gives={"takes": json_of(Takes)},
    apply=apply,
    about="Resin and time of the whole plate.",
)
