"""Part of Plate: what a raised body stands on."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from ...engine.entries import Entry, EntryId
from ...engine.gives import MESH, json_of
from ...engine.model import BODIES, Fix, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings, setting
from ...mesh import Mesh, face_components, volume_ml
from ...ops.held import MOST_TIPS, tips_for
from ...ops.layers import layers
from ...parts.supports import DENSE, Sizes, supports
from ...parts.tips import Said, set_by_hand
from ...parts.window_props import WindowLine, window_props
from ...progress import Run
from ..part_names import is_die, part_of, stands_held
from ..tips_said import Says, kept_free
from ..values import Tip

_Mm = Annotated[float, Field(ge=-1e5, le=1e5)]


class SetTip(Entry):
    """A tip that a person wants.

    at      : where it touches, in the scan's own coordinates (mm); none: no tip stands there
    to      : the other end, of a row along an edge
    instead : of the one by itself that it moves or takes away
    """

    at: tuple[_Mm, _Mm, _Mm] | None = None
    to: tuple[_Mm, _Mm, _Mm] | None = None
    instead: tuple[_Mm, _Mm, _Mm] | None = None


class SupportsSettings(StepSettings):
    dense: Literal["few", "more", "many"] = setting(
        "few", label="Tips", help="So many that nothing hangs farther than it may, or closer together.", main=False,
        words={"few": "As few as hold", "more": "More", "many": "Many"},
    )  # fmt: skip
    tip_mm: float = setting(
        0.4, ge=0.2, le=1.2, unit="mm", label="Tips, thick", main=False,
        help="Where they touch. Thinner ones break off more cleanly, thicker ones hold more.",
    )  # fmt: skip
    foot_mm: float = setting(3.0, ge=1.5, le=5, unit="mm", label="Feet, wide", help="Under every pillar.", main=False)
    raft: Literal["each", "joined", "none"] = setting(
        "each", label="Raft", main=False, words={"each": "One each", "joined": "Joined with the next", "none": "None"},
        help="What the feet stand on. Joined, it holds more firmly to the plate; those of dies always are. None: every foot by itself.",
    )  # fmt: skip
    tips: dict[EntryId, SetTip] = setting({}, label="Tips by hand", help="Which are added, moved, taken away.", form=False, max_length=400)

    def sizes(self) -> Sizes:
        return Sizes(self.tip_mm, self.foot_mm, self.raft != "none")


# Steeper than 60° its underside is turned away from the plate.
_DOWN = 0.5
# Tips are looked for in layers so coarse at least; those of dies in the printer's own.
_LAYER_MM, _PIXEL_MM = 0.1, 0.05


def apply(inputs: Inputs, settings: SupportsSettings, run: Run) -> StepResult:
    if not stands_held(inputs.piece, inputs["wanted"], inputs["stands"]):
        return _propped(inputs)
    matrix, plate = np.array(inputs["place"]), inputs["plate"]
    body: Mesh = inputs["body"].moved(matrix)
    run.tick(0.05, "where it hangs")
    layer = inputs["printing"]["layer_mm"]
    # A die's underside leans, and has a number cut into it: specks begin in every layer.
    fine = is_die(part_of(inputs.piece))
    sliced = layers(body, np.eye(4), pixel_mm=_PIXEL_MM, layer_mm=layer if fine else max(layer, _LAYER_MM))
    free = kept_free(inputs, matrix)
    tips, left = tips_for(sliced, reach_mm=inputs["reach"] * DENSE[settings.dense], free=free.points, fine=fine)
    chosen = set_by_hand(body, tips, {who: _said(tip, matrix) for who, tip in settings.tips.items()})
    run.tick(0.4, "pillars")
    joins = inputs["joins"] if fine or settings.raft == "joined" else []
    made = supports(body, chosen.tips, np.array(joins, float).reshape(-1, 2), settings.sizes())
    says = Says(inputs.piece, np.linalg.inv(matrix), chosen, made.stands, free.tooth_at(chosen.tips))
    flags = [*_bearing(inputs, matrix), *says.by_hand()]
    if len(tips) >= MOST_TIPS:
        flags.append(Flag("too-many-tips", "look", f"It would need more than {MOST_TIPS} tips: let it hang freely farther, or tilt it."))
    else:
        flags += says.cannot(len(left))
    if made.mesh is None:
        flags.append(Flag("no-supports", "look", "No tip was set, so nothing holds the body: lay it on the plate."))
        return StepResult({"tips": says.tips()}, (), tuple(flags), "no tips")
    low, high = made.mesh.vertices_mm.min(0), made.mesh.vertices_mm.max(0)
    if (low[:2] < 0).any() or high[0] > plate["width_mm"] or high[1] > plate["depth_mm"]:
        flags.append(
            Flag("raft-off-plate", "stop", "The raft stands over the plate's edge. Choose a larger printer, or keep off the edge.")
        )
    ml, count = volume_ml(made.mesh), int(made.stands.sum())
    on = "feet without a raft" if settings.raft == "none" else "a raft"
    flags.append(Flag("supported", "note", f"It stands on {count} tips of {settings.tip_mm:.1f} mm and {on}, {ml:.1f} ml in all."))
    readings = (Reading("tips", count), Reading("supports and raft", ml, "ml"))
    return StepResult({"mesh": made.mesh.moved(np.linalg.inv(matrix)), "tips": says.tips()}, readings, tuple(flags), f"{count} tips")


def _said(tip: SetTip, matrix: NDArray) -> Said:
    at, instead, to = (None if p is None else matrix[:3, :3] @ p + matrix[:3, 3] for p in (tip.at, tip.instead, tip.to))
    return Said(at, instead, to)


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


STEP = Step(
    name="supports",
    title="Supports",
    number=9,
    version=18,
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
        "stands": Need("plate", "stands", setting=True),
        "teeth": Need("teeth", "mesh", optional=True),
        "letters": Need("label", "letters", optional=True),
        "reach": Need("plate", "reach_mm", setting=True),
        "joins": Need("plate", "joins"),
        "dies": Need("dies", "dies", optional=True),
    },
    gives={"mesh": MESH, "tips": json_of(list[Tip])},
    nameless=("mesh", "tips"),
    apply=apply,
    about="Pillars and rafts.",
    shows=("mesh",),
)
