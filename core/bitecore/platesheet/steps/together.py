"""Together: all bodies of the plate as they lie, in one file: 3MF, where each has its name, and STL."""

from __future__ import annotations

import numpy as np

from ...engine.gives import FILES, Files, FileValue
from ...engine.model import WHOLE, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings, setting
from ...errors import StepFailed
from ...files import stl, threemf
from ...mesh import joined
from ...progress import Run


class TogetherSettings(StepSettings):
    supports: bool = setting(True, label="With supports", help="What bodies stand on is in the file too.")


def apply(inputs: Inputs, settings: TogetherSettings, run: Run) -> StepResult:
    placed = {ident: rows for ident, rows in inputs["home_to_plate"].items() if rows is not None}
    if not placed:
        raise StepFailed("Nothing lies on this plate.", code="empty-plate")
    models = []
    for number, (ident, rows) in enumerate(placed.items()):
        run.tick(number / len(placed), "writing")
        name, held = inputs["stand"][ident]["name"], inputs["supports"].get(ident)
        models.append((name, inputs["body"][ident].moved(np.array(rows))))
        if settings.supports and held is not None:
            models.append((f"{name} supports", held.moved(np.array(rows))))
    data = threemf.write(models, title="plate")
    flag = Flag("file-made", "note", f"{len(placed)} bodies as they lie on the plate.")
    plain = stl.write_binary(joined([mesh for _, mesh in models]))
    sizes = (Reading("size of the 3MF", len(data) / 1e6, "MB"), Reading("size of the STL", len(plain) / 1e6, "MB"))
    files = Files([FileValue("plate.3mf", data), FileValue("plate.stl", plain)])
    return StepResult({"file": files}, sizes, (flag,), f"{len(placed)} bodies")


STEP = Step(
    name="together",
    title="Plate file",
    number=5,
    version=3,
    over=WHOLE,
    on_demand=True,
    settings=TogetherSettings,
    needs={
        "body": Need("source", "mesh", each=True),
        "supports": Need("source", "supports", each=True),
        "stand": Need("source", "stand", each=True),
        "home_to_plate": Need("pack", "home_to_plate", each=True, optional=True),
    },
    gives={"file": FILES},
    apply=apply,
    about="The whole plate as one file, 3MF and STL.",
)
