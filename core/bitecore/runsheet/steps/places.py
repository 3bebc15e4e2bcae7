"""Part of Level: where every scan that is no jaw of the run sheet stands on the bench. All move together."""

from __future__ import annotations

import numpy as np

from ...engine.gives import ByPiece, by_piece, json_of
from ...engine.model import WHOLE, Inputs, Need, Step, StepResult, StepSettings
from ...ops.rigid import rows
from ...progress import Run
from ..kinds import FOLLOWERS
from ..lying import lies_on
from ..values import Matrix


class PlacesSettings(StepSettings):
    pass


def apply(inputs: Inputs, settings: PlacesSettings, run: Run) -> StepResult:
    bench = {p: np.array(m) for p, m in inputs["home_to_bench"].items()}
    to_bite = inputs["home_to_bite"]
    on_bench, on_bite = ByPiece(), ByPiece()

    def put(piece: str, target: str, matrix: np.ndarray) -> None:
        on_bench[piece] = rows(bench[target] @ matrix)
        on_bite[piece] = None if to_bite.get(target) is None else rows(np.array(to_bite[target]) @ matrix)

    for piece in inputs["followers"]:
        end, matrix = lies_on(inputs["followers"], piece)
        if end in bench:
            put(piece, end, matrix)
    upper = next((p for p, jaw in inputs.jaws.items() if jaw == "upper"), None)
    for scan in inputs["bites"] or []:
        if scan["to_upper"] and upper:
            put(scan["piece"], upper, np.array(scan["to_upper"]))
    return StepResult({"home_to_bench": on_bench, "home_to_bite": on_bite})


STEP = Step(
    name="places",
    title="Places",
    number=3,
    version=2,
    over=WHOLE,
    part_of="level",
    settings=PlacesSettings,
    needs={
        "home_to_bench": Need("level", "home_to_bench", each=True),
        "home_to_bite": Need("bite", "home_to_bite", each=True, optional=True),
        "followers": Need("follow", "place", of=FOLLOWERS, optional=True),
        "bites": Need("fit", "scans", optional=True),
    },
    gives={"home_to_bench": by_piece(json_of(Matrix)), "home_to_bite": by_piece(json_of(Matrix | None))},
    apply=apply,
    about="Scans that follow the jaws.",
)
