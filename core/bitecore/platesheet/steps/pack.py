"""Pack: every body flat on its base, by what it covers of the plate of the chosen printer."""

from __future__ import annotations

import numpy as np

from ...engine.gives import ByPiece, by_piece, json_of
from ...engine.model import WHOLE, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings, setting
from ...errors import StepFailed
from ...ops.rigid import rows
from ...parts.arranging import by_shape
from ...parts.laying import box_of, flat, shifted
from ...parts.shelf import Printer
from ...progress import Run

Row = tuple[float, float, float, float]


class PackSettings(StepSettings):
    printer: str = setting("wren", label="Printer", help="Whose plate the bodies lie on.", shelf="printer", max_length=60)
    gap_mm: float = setting(3.0, ge=0.5, le=30, unit="mm", label="Gap between bodies", help="Room for a spatula.")
    margin_mm: float = setting(2.0, ge=0, le=20, unit="mm", label="Keep off the edge", help="Nothing is placed nearer to the plate's edge.")


def apply(inputs: Inputs, settings: PackSettings, run: Run) -> StepResult:
    if inputs["printer"] is None:
        raise StepFailed(f"There is no printer “{settings.printer}” on the shelf of the house. Choose another.", code="no-printer")
    printer, title = Printer(**inputs["printer"]["data"]), inputs["printer"]["name"]
    laid = {}
    for number, (ident, body) in enumerate(inputs["body"].items()):
        run.tick(number / len(inputs["body"]), "laying flat")
        laid[ident] = flat(body, inputs["stand"][ident]["up"], inputs["stand"][ident]["front"])
    room = np.array([printer.width_mm, printer.depth_mm]) - 2 * settings.margin_mm
    places, left = by_shape(laid, dict(inputs["body"].items()), room, gap_mm=settings.gap_mm)
    places = {ident: shifted(m, settings.margin_mm, settings.margin_mm) for ident, m in places.items()}
    flags = []
    if left:
        names = ", ".join(inputs["stand"][ident]["name"] for ident in left)
        size = f"{printer.width_mm:.0f} × {printer.depth_mm:.0f} mm"
        flags.append(Flag("no-room", "look", f"No room on the {title} ({size}) for {names}. Take some off, or choose a larger printer."))
    boxes = [box_of(m, inputs["body"][ident]) for ident, m in places.items()]
    tall = max((float(high[2]) for _, high in boxes), default=0.0)
    if tall > printer.height_mm:
        text = f"The tallest body is {tall:.1f} mm; the {title} builds up to {printer.height_mm:.0f} mm."
        flags.append(Flag("too-tall", "stop", text))
    readings = (
        Reading("bodies on the plate", len(places)),
        Reading("plate width", printer.width_mm, "mm"),
        Reading("plate depth", printer.depth_mm, "mm"),
        Reading("height", tall, "mm"),
    )
    value = ByPiece({ident: rows(places[ident]) if ident in places else None for ident in inputs["body"]})
    return StepResult({"home_to_plate": value}, readings, tuple(flags), f"{len(places)} of {len(laid)} bodies")


STEP = Step(
    name="pack",
    title="Pack",
    number=1,
    version=2,
    over=WHOLE,
    settings=PackSettings,
    needs={
        "body": Need("source", "mesh", each=True),
        "stand": Need("source", "stand", each=True),
        "printer": Need("shelf", "printer"),
    },
    gives={"home_to_plate": by_piece(json_of(tuple[Row, Row, Row, Row] | None))},
    apply=apply,
    about="Every body flat on the plate, none on another.",
)
