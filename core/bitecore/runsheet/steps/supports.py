"""Part of Plate: what a raised body stands on."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ...engine.gives import MESH
from ...engine.model import BODIES, Fix, Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings
from ...mesh import Mesh, face_components, volume_ml
from ...ops.held import MOST_TIPS, tips_for
from ...ops.layers import layers
from ...parts.supports import supports
from ...parts.window_props import WindowLine, window_props
from ...progress import Run
from ..part_names import is_die, part_of


class SupportsSettings(StepSettings):
    pass


# What lies so near under the occlusal plane, or above it, counts as tooth (common practice, no source: crowns are 7 to 11 mm tall).
_CROWN_MM = 8.0
# Steeper than 60° its underside is turned away from the plate.
_DOWN = 0.5
# Tips are looked for in layers so coarse at least; those of dies in the printer's own.
_LAYER_MM, _PIXEL_MM = 0.1, 0.05


def apply(inputs: Inputs, settings: SupportsSettings, run: Run) -> StepResult:
    if inputs["wanted"] != "all" and not is_die(part_of(inputs.piece)):
        return _propped(inputs)
    body: Mesh = inputs["body"]
    matrix, plate = np.array(inputs["place"]), inputs["plate"]
    run.tick(0.05, "where it hangs")
    layer = inputs["printing"]["layer_mm"]
    # A die's underside leans, and has a number cut into it: specks begin in every layer.
    fine = is_die(part_of(inputs.piece))
    sliced = layers(body, matrix, pixel_mm=_PIXEL_MM, layer_mm=layer if fine else max(layer, _LAYER_MM))
    tips, left = tips_for(sliced, reach_mm=inputs["reach"], bar=_teeth(inputs["stand"], matrix), fine=fine)
    run.tick(0.4, "pillars")
    joins = np.array(inputs["joins"], float).reshape(-1, 2)
    made = supports(body.with_vertices(body.vertices_mm @ matrix[:3, :3].T + matrix[:3, 3]), tips, joins)
    back = np.linalg.inv(matrix)
    flags = _bearing(inputs, matrix)
    if len(tips) >= MOST_TIPS:
        flags.append(Flag("too-many-tips", "look", f"It would need more than {MOST_TIPS} tips: let it hang freely farther, or tilt it."))
    elif len(made.blocked) or left:
        flags.append(_cannot(inputs.piece, back, made.blocked, len(left)))
    if made.mesh is None:
        flags.append(Flag("no-supports", "look", "No tip was set, so nothing holds the body: lay it on the plate."))
        return StepResult({}, (), tuple(flags), "no tips")
    low, high = made.mesh.vertices_mm.min(0), made.mesh.vertices_mm.max(0)
    if (low[:2] < 0).any() or high[0] > plate["width_mm"] or high[1] > plate["depth_mm"]:
        flags.append(
            Flag("raft-off-plate", "stop", "The raft stands over the plate's edge. Choose a larger printer, or keep off the edge.")
        )
    ml = volume_ml(made.mesh)
    flags.append(Flag("supported", "note", f"It stands on {len(made.tips)} tips of 0.4 mm and a raft, {ml:.1f} ml in all."))
    readings = (Reading("tips", len(made.tips)), Reading("supports and raft", ml, "ml"))
    home = made.mesh.with_vertices(made.mesh.vertices_mm @ back[:3, :3].T + back[:3, 3])
    return StepResult({"mesh": home}, readings, tuple(flags), f"{len(made.tips)} tips")


def _propped(inputs: Inputs) -> StepResult:
    """What lies flat needs no pillars; its windows are kept round."""
    windows = [each["window"] for each in inputs["dies"] or () if each.get("window")]
    if not windows or part_of(inputs.piece):
        return StepResult({})
    matrix, body = np.array(inputs["place"]), inputs["body"]

    def there(point: list[float]) -> NDArray[np.float64]:
        return matrix[:3, :3] @ np.array(point) + matrix[:3, 3]

    lines = [WindowLine(there(w["from_mm"]), there(w["to_mm"]), w["wide_mm"]) for w in windows]
    made = window_props(body.with_vertices(body.vertices_mm @ matrix[:3, :3].T + matrix[:3, 3]), lines)
    if made is None:
        return StepResult({})
    count = face_components(made)[0]
    text = f"{count} prop{'s keep' if count > 1 else ' keeps'} the windows of its sockets round: break {'them' if count > 1 else 'it'} out."
    back = np.linalg.inv(matrix)
    home = made.with_vertices(made.vertices_mm @ back[:3, :3].T + back[:3, 3])
    return StepResult({"mesh": home}, (Reading("props in windows", count),), (Flag("propped", "note", text),), f"{count} props")


def _bearing(inputs: Inputs, matrix: NDArray) -> list[Flag]:
    """The face that lies on an articulator's block stays free of tips (common practice, no source)."""
    if inputs["held"] != "plates" or part_of(inputs.piece) or (matrix[:3, :3] @ np.array(inputs["stand"]["up"]))[2] < _DOWN:
        return []
    text = "Tips stand on the face that lies on the block. Fix lays the models flat; or lay this one on its back."
    return [Flag("on-bearing", "look", text, fix=Fix("plate", "*", {"supports": "none"}))]


def _teeth(stand: dict, matrix: NDArray) -> tuple[float, float, float, float]:
    """On the plate: where a x + b y + c z > d there are teeth."""
    up = matrix[:3, :3] @ np.array(stand["up"])
    origin = matrix[:3, :3] @ np.array(stand["origin"]) + matrix[:3, 3]
    return float(up[0]), float(up[1]), float(up[2]), float(up @ origin) - _CROWN_MM


def _cannot(piece: str, back: NDArray, blocked: NDArray, barred: int) -> Flag:
    said = []
    if len(blocked):
        said.append(f"{len(blocked)} tip{'s have' if len(blocked) > 1 else ' has'} no way down to the plate")
    if barred:
        said.append(f"{barred} place{'s' * (barred > 1)} could be held on teeth only")
    place = None
    if len(blocked):
        x, y, z = (back[:3, :3] @ blocked[0] + back[:3, 3]).tolist()
        place = Place(piece, (x, y, z), 2.0)
    return Flag("not-held", "look", f"{' and '.join(said)}: lay the body another way.".capitalize(), place)


STEP = Step(
    name="supports",
    title="Supports",
    number=9,
    version=6,
    over=BODIES,
    part_of="plate",
    settings=SupportsSettings,
    needs={
        "body": Need("assemble", "body"),
        "stand": Need("level", "stand"),
        "place": Need("plate", "home_to_plate"),
        "plate": Need("plate", "plate"),
        "printing": Need("plate", "printing"),
        "held": Need("articulate", "style", setting=True),
        "wanted": Need("plate", "supports", setting=True),
        "reach": Need("plate", "reach_mm", setting=True),
        "joins": Need("plate", "joins"),
        "dies": Need("dies", "dies", optional=True),
    },
    gives={"mesh": MESH},
    apply=apply,
    about="Pillars and rafts.",
    shows=("mesh",),
)
