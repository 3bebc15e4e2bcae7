"""Part of Bite: where the jaws touch, as foil of a given thickness would show it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...anatomy.contacts import Contact as Met
from ...anatomy.contacts import Touching, area_of, balance, touching
from ...anatomy.jaw import Jaw
from ...anatomy.teeth.numbers import numbers_at
from ...engine.gives import MESH, ByPiece, by_piece, json_of
from ...engine.model import WHOLE, Inputs, Need, Reading, Step, StepResult, StepSettings, setting
from ...mesh import Mesh
from ...progress import Run
from ..printed import PRINTED, printed
from ..values import Contact

_MOST_LISTED = 60


class ContactSettings(StepSettings):
    foil_um: float = setting(
        40.0, ge=1, le=400, unit="µm", label="Foil",
        help="Thickness of the articulating foil or paper; 8 to 200 µm are in use (common practice).",
    )  # fmt: skip
    deep_um: float = setting(
        50.0, ge=0, le=2000, unit="µm", label="Deep above", help="Overlap deeper than this is marked apart.", main=False
    )


def apply(inputs: Inputs, settings: ContactSettings, run: Run) -> StepResult:
    piece_of = {jaw: piece for piece, jaw in inputs.jaws.items()}
    to_bite = inputs["home_to_bite"]
    if len(piece_of) < 2 or any(to_bite[p] is None for p in piece_of.values()):
        return StepResult({"touch": ByPiece(), "deep": ByPiece(), "contacts": []})
    made = {p: printed(inputs, p) for p in inputs.jaws}
    found: dict[str, Touching] = {}
    for number, (jaw, other) in enumerate((("upper", "lower"), ("lower", "upper"))):
        run.tick(number / 2, "contacts")
        own, facing = piece_of[jaw], piece_of[other]
        to_other = np.linalg.inv(np.array(to_bite[facing])) @ np.array(to_bite[own])
        found[own] = touching(
            Jaw.seen(made[own], inputs["about"][own]), made[facing], to_other,
            foil_mm=settings.foil_um / 1000, hard_mm=settings.deep_um / 1000, upper=jaw == "upper",
        )  # fmt: skip
    lower = found[piece_of["lower"]]
    left, right = balance(lower)
    return StepResult(
        {
            "touch": ByPiece({p: t.touch for p, t in found.items() if t.touch is not None}),
            "deep": ByPiece({p: t.deep for p, t in found.items() if t.deep is not None}),
            "contacts": _listed(piece_of, to_bite, lower.contacts[:_MOST_LISTED], inputs["teeth"]),
        },
        _readings(lower, left, right),
    )


def _readings(lower: Touching, left: float, right: float) -> tuple[Reading, ...]:
    both = left + right
    readings = [
        Reading("contacts", len(lower.contacts)),
        Reading("area in contact", area_of(lower.touch), "mm²"),
        Reading("deepest", 1000 * max((c.depth_mm for c in lower.contacts), default=0.0), "µm"),
    ]
    if both > 0:
        readings.append(Reading("left : right", f"{100 * left / both:.0f} : {100 * right / both:.0f} %"))
    return tuple(readings)


def _listed(piece_of: dict[str, str], to_bite: dict, contacts: Sequence[Met], teeth: dict[str, Mesh | None]) -> list[dict]:
    lower, upper = piece_of["lower"], piece_of["upper"]
    points = np.array([c.point_mm for c in contacts]).reshape(-1, 3)
    to_upper = np.linalg.inv(np.array(to_bite[upper])) @ np.array(to_bite[lower])
    under = numbers_at(teeth.get(lower), points)
    over = numbers_at(teeth.get(upper), points @ to_upper[:3, :3].T + to_upper[:3, 3])
    return [
        {
            "teeth": (own, other),
            "piece": lower,
            "point_mm": [round(float(x), 4) for x in c.point_mm],
            "depth_mm": round(c.depth_mm, 5),
            "area_mm2": round(c.area_mm2, 4),
            "side": c.side,
            "behind_mm": round(c.behind_mm, 2),
        }
        for c, own, other in zip(contacts, under, over, strict=True)
    ]


STEP = Step(
    name="contacts",
    title="Contacts",
    number=2,
    version=5,
    over=WHOLE,
    part_of="bite",
    settings=ContactSettings,
    needs={
        **PRINTED,
        "home_to_bite": Need("bite", "home_to_bite", each=True, optional=True),
        "teeth": Need("teeth", "mesh", each=True, optional=True),
    },
    gives={"touch": by_piece(MESH), "deep": by_piece(MESH), "contacts": json_of(list[Contact])},
    apply=apply,
    about="Contacts as articulating foil shows them.",
)
