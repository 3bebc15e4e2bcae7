"""Level: the occlusal plane horizontal, the midline forward, the upper above the lower."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, field_validator

from ...anatomy.occlusal import OcclusalFrame, bench_of, by_teeth, occlusal_frame
from ...engine.gives import ByPiece, by_piece, json_of
from ...engine.model import WHOLE, Beside, Fix, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings, setting
from ...errors import StepFailed
from ...ops.rigid import angle_deg, placed, rounded, rows, turned, unit
from ...progress import Run
from ..unbitten import left_open
from ..values import Auto, Matrix, Point, Stand


class LevelMarks(BaseModel):
    """Three points in the home of the jaw that is levelled (mm): between the incisal edges, and a cusp on each side."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)
    on: str
    front: tuple[float, float, float]
    left: tuple[float, float, float]
    right: tuple[float, float, float]


class Automatic(BaseModel):
    """Where a jaw was put without the correction by hand: (4, 4) rows, from its home to the bench."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)
    on: str
    matrix: tuple[tuple[float, float, float, float], ...]

    @field_validator("matrix")
    @classmethod
    def _rigid(cls, given: tuple) -> tuple:
        turn = np.array(given)[:3, :3] if len(given) == 4 else np.zeros((3, 3))
        if not np.allclose(turn @ turn.T, np.eye(3), atol=1e-6):
            raise ValueError("is no rigid placement")
        return given


class LevelSettings(StepSettings):
    tilt_deg: float = setting(0.0, ge=-180, le=180, unit="°", label="Tilt", help="About the left-right axis; plus lifts the back.")
    roll_deg: float = setting(
        0.0, ge=-180, le=180, unit="°", label="Roll", help="About the front-back axis; plus lowers the patient's left."
    )
    turn_deg: float = setting(
        0.0, ge=-180, le=180, unit="°", label="Turn", help="About the vertical; plus turns the front to the patient's left."
    )
    left_mm: float = setting(0.0, ge=-100, le=100, unit="mm", label="To the left", help="The patient's left.", main=False)
    back_mm: float = setting(0.0, ge=-100, le=100, unit="mm", label="To the back", help="Away from the lips.", main=False)
    up_mm: float = setting(0.0, ge=-100, le=100, unit="mm", label="Up", help="Against gravity on the bench.", main=False)
    marks: LevelMarks | None = setting(
        None, label="Three marks", help="Between the incisal edges, and a cusp on each side: the plane through them.", main=False
    )
    auto: Automatic | None = setting(
        None, label="Corrected from", help="Where the automatic part stood when the correction by hand was made.", main=False
    )


_HAND = ("tilt_deg", "roll_deg", "turn_deg", "left_mm", "back_mm", "up_mm")
# The automatic part may move so far under a correction by hand before it is told (docs/decisions.md, Settings in space).
_FAR_DEG, _FAR_MM = 1.0, 0.5


def apply(inputs: Inputs, settings: LevelSettings, run: Run) -> StepResult:
    to_bite = {p: None if m is None else np.array(m) for p, m in inputs["home_to_bite"].items()}
    anchor = next(iter(inputs.jaws))
    # The plane belongs to the lower jaw where there is one in relation, else to the jaw itself.
    leader = next((p for p, jaw in inputs.jaws.items() if jaw == "lower" and to_bite.get(p) is not None), anchor)
    frames = {}
    for number, piece in enumerate(inputs.jaws):
        run.tick(number / 2, "occlusal plane")
        if piece == leader or to_bite.get(piece) is None:
            about = inputs["about"][piece]
            up, front = np.array(about["up"]), np.array(about["front"])
            middle = about["incisal"] if "part" in about else None
            shaped = occlusal_frame(inputs["mesh"][piece], up=up, front=front, midline_mm=middle)
            frames[piece] = by_teeth(shaped, {t["fdi"]: np.array(t["tips_mm"]) for t in inputs["teeth"].get(piece) or ()})
    marks = settings.marks
    marked = marks is not None and marks.on in frames
    if marks is not None and marked:
        frames[marks.on] = by_marks(frames[marks.on], marks)
    hand = placed(
        turned(tilt_deg=settings.tilt_deg, roll_deg=settings.roll_deg, turn_deg=settings.turn_deg),
        [settings.left_mm, settings.back_mm, settings.up_mm],
    )
    lead = bench_of(frames[leader], inputs.jaws[leader])
    to_leader = np.linalg.inv(np.asarray(to_bite[leader], np.float64))
    bench, stand, auto = ByPiece(), ByPiece(), {}
    alone = inputs["method"] == "missing"
    for piece, jaw in inputs.jaws.items():
        own = to_bite.get(piece)
        auto[piece] = bench_of(frames[piece], jaw) if own is None else lead @ to_leader @ own
        matrix = hand @ auto[piece]
        bench[piece] = rows(matrix)
        stand[piece] = _stand(matrix, jaw) | ({"alone": True} if alone else {})
    result = _result(frames[leader], inputs.jaws[leader], bench, stand, settings, lead)
    now = {"on": leader, "matrix": rows(auto[leader])}
    said = (*left_open(alone), *_drifted(settings, auto, now), *result.flags)
    readings = (*result.readings, *_midlines(inputs, bench, alone))
    result = replace(result, values={**result.values, "auto": now}, flags=said, readings=readings)
    if marked:
        by_hand = Flag("levelled-by-marks", "note", "Levelled by three marks set by hand.")
        return replace(result, flags=(by_hand, *(f for f in result.flags if f.code != "levelled")))
    if marks is not None:
        text = "The three marks lie on a scan that is not levelled by itself now; they do not count. Set them again."
        return replace(result, flags=(Flag("stale-marks", "look", text), *result.flags))
    return result


def _midlines(inputs: Inputs, bench: ByPiece, alone: bool) -> tuple[Reading, ...]:
    """Between the central incisors of both jaws, across the bench."""
    found = inputs["midline"]
    left = {jaw: (np.array(bench[p]) @ [*found[p], 1.0])[0] for p, jaw in inputs.jaws.items() if found.get(p)}
    if len(left) < 2 or alone:
        return ()
    apart = float(left["upper"] - left["lower"])
    side = "left" if apart > 0 else "right"
    return (Reading(f"upper midline to the patient’s {side} of the lower’s", abs(apart), "mm"),)


def _drifted(settings: LevelSettings, auto: Mapping[str, NDArray], now: dict) -> tuple[Flag, ...]:
    """Has what the correction by hand was made on moved since? It is asked of the jaw that led then."""
    before = settings.auto
    if before is None or not any(getattr(settings, key) for key in _HAND):
        return ()
    text = "The scan on which Level was corrected by hand is not levelled any more."
    if before.on in auto:
        step = auto[before.on] @ np.linalg.inv(np.array(before.matrix))
        turned_deg, off_mm = angle_deg(step[:3, :3]), float(np.linalg.norm(step[:3, 3]))
        if turned_deg <= _FAR_DEG and off_mm <= _FAR_MM:
            return ()
        text = f"Since the correction by hand, what it corrects has moved by {turned_deg:.1f}° and {off_mm:.2f} mm."
    keep = Fix("level", "*", {"auto": now})
    return (Flag("hand-moved", "look", f"{text} Look whether it still fits; Fix says that it does.", fix=keep),)


def by_marks(frame: OcclusalFrame, marks: LevelMarks) -> OcclusalFrame:
    """The plane through three points, the midline from the front one square to the line between the other two. Raises
    StepFailed where the points lie in one line."""
    front, left, right = (np.array(p) for p in (marks.front, marks.left, marks.right))
    normal = np.cross(left - front, right - front)
    if np.linalg.norm(normal) < 5.0:
        raise StepFailed("The three marks lie nearly in one line, so they make no plane. Set them apart.", code="marks-in-line")
    up = unit(normal) * (1.0 if normal @ frame.up > 0 else -1.0)
    across = unit(left - right)
    ahead = unit(np.cross(up, across))
    ahead *= 1.0 if ahead @ frame.front > 0 else -1.0
    tips = frame.tips_mm
    off = (tips - front) @ up
    return OcclusalFrame(front, up, ahead, tips, float(np.sqrt(np.mean(off**2))))


def _stand(matrix: NDArray, jaw: str) -> dict:
    """What the jaw's own steps need of the bench, in its home: origin, up (to the tips) and front."""
    back = np.linalg.inv(matrix)
    up = back[:3, 2] if jaw == "lower" else -back[:3, 2]
    return {"origin": rounded(back[:3, 3]), "up": rounded(up), "front": rounded(-back[:3, 1])}


def _result(frame: OcclusalFrame, jaw: str, bench: ByPiece, stand: ByPiece, settings: LevelSettings, lead: NDArray) -> StepResult:
    moved = angle_deg(turned(tilt_deg=settings.tilt_deg, roll_deg=settings.roll_deg, turn_deg=settings.turn_deg))
    flags = [Flag("levelled", "note", f"Levelled by {len(frame.tips_mm)} tips and edges of the {jaw} jaw.")]
    if frame.spread_mm > 1.2:
        text = f"The tips lie {frame.spread_mm:.1f} mm off one plane. Look at the level from the side."
        flags.append(Flag("level-unsure", "look", text))
    readings = (
        Reading("turned from the scan", angle_deg(lead[:3, :3]), "°"),
        Reading("tips off the plane (RMS)", frame.spread_mm, "mm"),
        Reading("tips used", len(frame.tips_mm)),
        Reading("turned by hand", moved, "°"),
    )
    figure = f"by hand {moved:.1f}°" if moved > 0.005 else f"±{frame.spread_mm:.2f} mm"
    tips = rounded(frame.tips_mm)
    return StepResult({"home_to_bench": bench, "stand": stand, "tips": tips}, readings, tuple(flags), figure)


STEP = Step(
    name="level",
    title="Level",
    number=3,
    version=7,
    over=WHOLE,
    settings=LevelSettings,
    beside={"auto": Beside(_HAND)},
    needs={
        "mesh": Need("intake", "mesh", each=True),
        "about": Need("intake", "about", each=True),
        "teeth": Need("teeth", "teeth", each=True, optional=True),
        "midline": Need("teeth", "midline", each=True, optional=True),
        "home_to_bite": Need("bite", "home_to_bite", each=True, optional=True),
        "method": Need("bite", "method", optional=True),
    },
    gives={
        "home_to_bench": by_piece(json_of(Matrix)),
        "stand": by_piece(json_of(Stand)),
        "tips": json_of(list[Point]),
        "auto": json_of(Auto),
    },
    apply=apply,
    about="Occlusal plane horizontal, midline forward.",
)
