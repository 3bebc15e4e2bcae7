"""Bite: the relation of lower to upper. Keeps the one in which the scans came, and says how they stand."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ...anatomy.contacts import Relation, relation
from ...ops.rigid import unit
from ...progress import Run
from ..model import Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings, setting
from ..store import ByPiece


class BiteSettings(StepSettings):
    hard_mm: float = setting(
        0.15, ge=0.0, le=2.0, unit="mm", label="Too hard above",
        help="An overlap deeper than this is flagged: the models would not close.",
    )  # fmt: skip
    open_mm: float = setting(0.5, ge=0.0, le=10.0, unit="mm", label="Open above", help="A smallest gap wider than this is flagged.")


def apply(inputs: Inputs, settings: BiteSettings, run: Run) -> StepResult:
    eye = np.eye(4).tolist()
    piece_of = {jaw: piece for piece, jaw in inputs.jaws.items()}
    if len(piece_of) < 2:
        (piece, jaw), *_ = inputs.jaws.items()
        flag = Flag("one-jaw", "note", f"Only the {jaw} jaw is here: there is no bite to keep.")
        return StepResult({"home_to_bite": ByPiece({piece: eye}), "related": False}, (), (flag,), f"{jaw} alone")
    upper, lower = piece_of["upper"], piece_of["lower"]
    run.tick(0.1, "measuring overlap and gap")
    about = inputs["about"]
    guessed = [_guessed(about, inputs.jaws)] if any(about[p]["jaw"] != j for p, j in inputs.jaws.items()) else []
    facing = float(unit(about[upper]["up"]) @ unit(about[lower]["up"]))
    ahead = float(unit(about[upper]["front"]) @ unit(about[lower]["front"]))
    meet = relation(inputs["mesh"][upper], inputs["mesh"][lower], lower_to_upper=np.eye(4), lower_up=about[lower]["up"])
    if facing > -0.7 or ahead < 0.5 or meet.gap_mm > 12 or meet.overlap_mm > 2.5:
        flag = Flag(
            "no-relation", "look",
            "The scans came in different coordinates, so the bite is missing. Each jaw is levelled by itself.",
        )  # fmt: skip
        return StepResult({"home_to_bite": ByPiece({upper: eye, lower: None}), "related": False}, (), (flag, *guessed), "missing")
    run.tick(0.9, "judging")
    return _kept(upper, lower, meet, settings, guessed)


def _guessed(about: dict, jaws: Mapping[str, str]) -> Flag:
    """Two scans that look like the same jaw: said, whichever way they were taken."""
    piece, jaw = next((p, j) for p, j in jaws.items() if about[p]["jaw"] != j)
    text = f"Both scans look like the {about[piece]['jaw']} jaw; one of them was taken as the {jaw}. Look whether it is, or choose."
    return Flag("jaw-guessed", "look", text)


def _kept(upper: str, lower: str, meet: Relation, settings: BiteSettings, guessed: list[Flag]) -> StepResult:
    eye = np.eye(4).tolist()
    stand = f"overlap {meet.overlap_mm:.2f} mm" if meet.overlap_mm > 0 else f"gap {meet.gap_mm:.2f} mm"
    flags = [*guessed, Flag("kept-relation", "note", f"The jaws came in one relation and keep it: {stand}.")]
    deep = meet.deepest_mm
    place = Place(lower, (deep[0], deep[1], deep[2]), 2.0)
    if meet.overlap_mm > settings.hard_mm:
        text = f"The bite is too hard: the jaws overlap by {meet.overlap_mm:.2f} mm."
        flags.append(Flag("too-hard", "look", text, place))
    if meet.gap_mm > settings.open_mm:
        text = f"The bite is open: nothing touches, the smallest gap is {meet.gap_mm:.2f} mm."
        flags.append(Flag("open-bite", "look", text, place))
    readings = (
        Reading("deepest overlap", meet.overlap_mm, "mm"),
        Reading("smallest gap", meet.gap_mm, "mm"),
        Reading("crown surface within 0.3 mm", 100 * meet.near_share, "%"),
    )
    return StepResult({"home_to_bite": ByPiece({upper: eye, lower: eye}), "related": True}, readings, tuple(flags), stand)


STEP = Step(
    name="bite",
    title="Bite",
    number=2,
    version=1,
    scope="case",
    settings=BiteSettings,
    needs={"mesh": Need("intake", "mesh", each=True), "about": Need("intake", "about", each=True)},
    apply=apply,
    about="How lower stands to upper.",
)
