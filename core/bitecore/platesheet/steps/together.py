"""Together: all bodies of the plate in one file, as they lie."""

from __future__ import annotations

import numpy as np

from ...engine.gives import FILES, Files, FileValue
from ...engine.model import WHOLE, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings
from ...errors import StepFailed
from ...files import threemf
from ...progress import Run


class TogetherSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: TogetherSettings, run: Run) -> StepResult:
    placed = {ident: rows for ident, rows in inputs["home_to_plate"].items() if rows is not None}
    if not placed:
        raise StepFailed("Nothing lies on this plate.", code="empty-plate")
    models = []
    for number, (ident, rows) in enumerate(placed.items()):
        run.tick(number / len(placed), "writing")
        models.append((inputs["stand"][ident]["name"], inputs["body"][ident].moved(np.array(rows))))
    data = threemf.write(models, title="plate")
    flag = Flag("file-made", "note", f"{len(models)} bodies as they lie on the plate.")
    size = Reading("size", len(data) / 1e6, "MB")
    return StepResult({"file": Files([FileValue("plate.3mf", data)])}, (size,), (flag,), f"{len(models)} bodies")


STEP = Step(
    name="together",
    title="Plate file",
    number=2,
    version=1,
    over=WHOLE,
    on_demand=True,
    settings=TogetherSettings,
    needs={
        "body": Need("source", "mesh", each=True),
        "stand": Need("source", "stand", each=True),
        "home_to_plate": Need("pack", "home_to_plate", each=True, optional=True),
    },
    gives={"file": FILES},
    apply=apply,
    about="The whole plate as one file.",
)
