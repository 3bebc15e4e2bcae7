"""Bite: the relation of lower to upper, as the jaws came, from bite scans or from an earlier pair; moved by hand, closed or
eased where asked; and how they stand."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ...anatomy.closing import Opposing, bench_axes, by_hand, closed, eased, raised
from ...anatomy.facing import Facing, as_they_came
from ...anatomy.jaw import Jaw
from ...anatomy.occlusal import bench_of, occlusal_frame
from ...anatomy.overhang import inside, overhang
from ...anatomy.relation import Relation, relation
from ...engine.entries import EntryId
from ...engine.gives import ByPiece, by_piece, json_of
from ...engine.model import WHOLE, Beside, Fix, Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings, setting
from ...ops.rigid import angle_deg, rows
from ...progress import Run
from ..bite_found import AGREE_MM, MEANWHILE, Found, by_earlier, by_scans, missing, odd, of_another
from ..bites import SetBite, Stands, more_bites, told
from ..printed import PRINTED, printed
from ..values import Matrix
from ..values_bites import NamedBite

# Jaws of one frame that do not close as a mouth does lie no farther from their bite (judgement: open by a wax wafer or a splint).
_STRANGERS_MM = 6.0
# Beyond so many times the error to expect, a difference is none of the fit (three standard deviations, by the normal law).
_SURELY = 3.0


class BiteSettings(StepSettings):
    source: Literal["auto", "as they came", "bite scans", "earlier pair", "by hand", "none"] = setting(
        "auto", label="Relation from",
        help="Auto: as the jaws came, but from bite scans where those say otherwise, else from an earlier pair of scans. By hand: "
        "from where each jaw is levelled by itself.",
    )  # fmt: skip
    hard_mm: float = setting(
        0.15, ge=0.0, le=2.0, unit="mm", label="Too hard above",
        help="An overlap deeper than this is flagged: the models would not close.",
    )  # fmt: skip
    open_mm: float = setting(0.5, ge=0.0, le=10.0, unit="mm", label="Open above", help="A smallest gap wider than this is flagged.")
    close: bool = setting(False, label="Close", help="Along the vertical until the jaws first touch.", main=False)
    ease: bool = setting(False, label="Ease", help="The smallest movement that leaves no overlap deeper than allowed.", main=False)
    ease_mm: float = setting(0.02, ge=0.0, le=0.5, unit="mm", label="Ease down to", help="Overlap that may stay.", main=False)
    left_mm: float = setting(0.0, ge=-30, le=30, unit="mm", label="Lower to the left", help="The patient's left.", main=False)
    back_mm: float = setting(0.0, ge=-30, le=30, unit="mm", label="Lower to the back", help="Away from the lips.", main=False)
    up_mm: float = setting(0.0, ge=-30, le=30, unit="mm", label="Lower up", help="Towards the upper.", main=False)
    tilt_deg: float = setting(0.0, ge=-30, le=30, unit="°", label="Lower tilted", help="Plus lifts the back.", main=False)
    roll_deg: float = setting(0.0, ge=-30, le=30, unit="°", label="Lower rolled", help="Plus lowers the patient's left.", main=False)
    turn_deg: float = setting(0.0, ge=-30, le=30, unit="°", label="Lower turned", help="Plus turns its front to the left.", main=False)
    raised_mm: float = setting(
        0.0, ge=0, le=20, unit="mm", label="Raised at the incisors", main=False,
        help="For splints: the lower is opened so far about the average hinge axis (common practice).",
    )  # fmt: skip
    nudged_on: str | None = setting(None, label="Nudged on", help="The relation on which the lower was nudged.", form=False, max_length=20)
    name: str = setting("Habitual", label="The first bite is called", help="Where the pair has more than one.", form=False, max_length=40)
    bites: dict[EntryId, SetBite] = setting(
        {}, label="More bites", help="Forward, open for a splint: each set from the first or from bite scans of its own.", form=False,
        max_length=8,
    )  # fmt: skip
    chosen: EntryId | Literal[""] = setting("", label="Models in", help="The bite the models are made in. Empty: the first.", form=False)

    @property
    def nudged(self) -> bool:
        return any(getattr(self, key) for key in _NUDGE)


_NUDGE = ("left_mm", "back_mm", "up_mm", "tilt_deg", "roll_deg", "turn_deg")


def apply(inputs: Inputs, settings: BiteSettings, run: Run) -> StepResult:
    eye = np.eye(4).tolist()
    piece_of = {jaw: piece for piece, jaw in inputs.jaws.items()}
    if len(piece_of) < 2:
        (piece, jaw), *_ = inputs.jaws.items()
        flag = Flag("one-jaw", "note", f"Only the {jaw} jaw is here: there is no bite to keep.")
        return StepResult({"home_to_bite": ByPiece({piece: eye}), "related": False}, (), (flag,), f"{jaw} alone")
    upper, lower = (Jaw.seen(printed(inputs, piece_of[j]), inputs["about"][piece_of[j]]) for j in ("upper", "lower"))
    run.tick(0.1, "measuring overlap and gap")
    about = inputs["about"]
    guessed = [_guessed(about, inputs.jaws)] if any(about[p]["jaw"] != j for p, j in inputs.jaws.items()) else []
    found = _relation(inputs, settings, upper, lower)
    if found.lower_to_upper is None and settings.source == "auto" and settings.nudged and settings.nudged_on in (None, "by hand"):
        found = _from_level(upper, lower)
    run.tick(0.5, "moving the lower")
    first, meet, moves = _first(upper, lower, found, settings)
    bites = [Stands("", settings.name, found.how, first), *more_bites(upper, lower, first, settings.bites, inputs["named"] or {})]
    nudged_on = "by hand" if first is None else found.how
    chosen = next((b for b in bites if b.ident == settings.chosen), bites[0])
    matrix = chosen.lower_to_upper
    if chosen.ident and matrix is not None and chosen.how == "bite scans":
        # What is said of the first bite is not of this one.
        found = by_scans(inputs["named"][chosen.ident], inputs["scans"], bite=chosen.ident)
        moves = ([], [])
    if meet is None or chosen.ident:
        meet = None if matrix is None else relation(
            upper.mesh, lower.mesh, lower_to_upper=matrix, lower_up=lower.up, upper_up=upper.up
        )  # fmt: skip
    run.tick(0.9, "judging")
    flags = [*guessed, *found.flags, *moves[0], *_chosen(chosen, bites, settings), *_of_named(inputs, chosen.ident)]
    pieces = (piece_of["upper"], piece_of["lower"])
    values = {
        "home_to_bite": ByPiece({pieces[0]: eye, pieces[1]: None if matrix is None else _as_rows(matrix)}),
        "related": matrix is not None,
        "method": "missing" if matrix is None and chosen.ident else chosen.how,
        "nudged_on": nudged_on,
        "bites": told(upper, lower, bites, {chosen.ident: meet} if meet else {}),
    }
    if matrix is None or meet is None:
        return StepResult(values, (), tuple(flags), "missing")
    flags += [*_swapped(upper, lower, matrix, pieces[0]), *_judged(meet, matrix, pieces[1], settings)]
    return StepResult(values, (*found.readings, *moves[1], *_measured(meet)), tuple(flags), _stand(meet))


def _as_rows(matrix: NDArray) -> list[list[float]]:
    return np.eye(4).tolist() if (matrix == np.eye(4)).all() else rows(matrix)


def _first(
    upper: Jaw, lower: Jaw, found: Found, settings: BiteSettings
) -> tuple[NDArray | None, Relation | None, tuple[list[Flag], list[Reading]]]:  # fmt: skip
    """(lower to upper in the first bite, moved and raised as asked; how they meet, where that is known already; what is said)."""
    if found.lower_to_upper is None:
        return None, None, ([], [])
    matrix, moves = _moved(upper, lower, found, settings)
    if settings.raised_mm:
        matrix, said = _raised(upper, lower, matrix, settings.raised_mm)
        moves[0].append(said)
    return matrix, found.meet if (matrix == found.lower_to_upper).all() else None, moves


def _of_named(inputs: Inputs, chosen: str) -> list[Flag]:
    """What scans of bites that the models are not in do not agree about."""
    named = (inputs["named"] or {}).items()
    return [f for ident, fit in named if ident != chosen for f in odd(fit, inputs["scans"], bite=ident)]


def _chosen(chosen: Stands, bites: list[Stands], settings: BiteSettings) -> list[Flag]:
    """Which bite the models are in, where there are several; and what is not there of it."""
    first = Fix("bite", "*", {"chosen": ""}, label=f"Take “{bites[0].name}”")
    if settings.chosen and chosen.ident != settings.chosen:
        return [Flag("bite-gone", "look", f"The bite chosen for the models is gone: they are in “{chosen.name}”.", fix=first)]
    if chosen.ident and chosen.lower_to_upper is None:
        return [Flag("no-relation", "look", f"“{chosen.name}”, chosen for the models, is missing: {chosen.why}.", fix=first)]
    return [Flag("bite-chosen", "note", f"The models are in “{chosen.name}”, one of {len(bites)} bites.")] if len(bites) > 1 else []


def _guessed(about: dict, jaws: Mapping[str, str]) -> Flag:
    """Two scans that look like the same jaw: said, whichever way they were taken."""
    piece, jaw = next((p, j) for p, j in jaws.items() if about[p]["jaw"] != j)
    text = f"Both scans look like the {about[piece]['jaw']} jaw; one of them was taken as the {jaw}. Look whether it is, or choose."
    return Flag("jaw-guessed", "look", text)


def _swapped(upper: Jaw, lower: Jaw, matrix: NDArray, piece: str) -> tuple[Flag, ...]:
    """Where the upper's teeth stand inside the lower's all round, the two may have been taken for each other."""
    off = overhang(upper, lower, matrix)
    if not inside(off):
        return ()
    text = (
        f"In this bite the upper's teeth stand inside the lower's all round, {-off['left']:.1f} mm left and {-off['right']:.1f} mm right: "
        "the two may be taken for each other. Fix makes the upper the lower."
    )
    return (Flag("jaws-swapped", "look", text, fix=Fix("intake", piece, {"jaw": "lower"})),)


def _relation(inputs: Inputs, settings: BiteSettings, upper: Jaw, lower: Jaw) -> Found:
    want = settings.source
    if want == "by hand":
        return _from_level(upper, lower)
    if want == "none":
        return Found(None, "none", (Flag("no-relation", "note", f"No bite, as asked. {MEANWHILE}"),))
    came = as_they_came(upper, lower) if want in ("auto", "as they came") else None
    fit, lent = inputs["relation"], inputs["lent"]
    stale = inputs["stale"] or 0
    marks = (Flag("stale-marks", "look", _stale_words(stale)),) if stale else ()
    if came is not None and want == "auto" and _says_otherwise(fit, lower):
        # The scan of a bite is the measurement; how the jaws came is only how they were kept.
        found = by_scans(fit, inputs["scans"])
        # Scans that each have a frame of their own stand in no relation: how far that is off says nothing of the bite.
        strangers = bool(came.doubt) and _apart_mm(fit, lower) > _STRANGERS_MM
        instead = () if strangers else (_instead(fit, lower, came, inputs["scans"]),)
        return replace(found, flags=(*instead, *found.flags, *marks))
    if came is not None and (want == "as they came" or not came.doubt or _says_the_same(fit, lower)):
        others = odd(fit, inputs["scans"]) if fit else ()
        said = (Flag("kept-relation", "note", _kept_words(came)), *_checked(fit, lower), *others, *marks)
        return Found(np.eye(4), "as they came", said, meet=None if came.flawed else came.meet)
    if want in ("auto", "bite scans") and fit and fit["lower_to_upper"]:
        found = by_scans(fit, inputs["scans"])
        return replace(found, flags=(*found.flags, *marks))
    if want in ("auto", "earlier pair") and lent:
        return by_earlier(lent)
    doubt = (_doubtful(came),) if came is not None else ()
    refused = (missing(want, fit, [s for s in inputs["scans"] if not s["bite"]]),) if not doubt or fit else ()
    return Found(None, "missing", (*doubt, *refused, *marks))


def _doubtful(came: Facing) -> Flag:
    text = (
        f"The jaws face each other as they came, but no mouth closes like that: {came.doubt}. So the bite is left open. {MEANWHILE} "
        "Fix takes them as they came."
    )
    return Flag("doubtful-bite", "look", text, fix=Fix("bite", "*", {"source": "as they came"}))


def _from_level(upper: Jaw, lower: Jaw) -> Found:
    """Where each jaw is levelled by itself: planes and midlines on each other, for a person to nudge from."""
    frames = [occlusal_frame(j.mesh, up=j.up, front=j.front, midline_mm=j.incisal if j.part else None) for j in (upper, lower)]
    benches = [bench_of(frame, name) for frame, name in zip(frames, ("upper", "lower"), strict=True)]
    text = "The lower stands as set by hand, from where each jaw is levelled by itself: no scan says that it bites so."
    return Found(np.linalg.inv(benches[0]) @ benches[1], "by hand", (Flag("by-hand", "look", text),))


def _stale_words(count: int) -> str:
    lie = "1 mark lies" if count == 1 else f"{count} marks lie"
    return f"{lie} on a scan whose place another has taken, and no longer counts. Set it again or drop it."


def _kept_words(came: Facing) -> str:
    doubt = f" No mouth closes like that: {came.doubt}." if came.doubt else ""
    return f"The jaws came in one relation and keep it: {_stand(came.meet)}.{doubt}"


def _stand(meet: Relation) -> str:
    return f"overlap {meet.overlap_mm:.2f} mm" if meet.overlap_mm > 0 else f"gap {meet.gap_mm:.2f} mm"


def _apart_mm(fit: dict, lower: Jaw) -> float:
    """How far the bite scans put the lower's teeth from where they came (RMS over the crowns)."""
    off = np.array(fit["lower_to_upper"]) - np.eye(4)
    moved = lower.teeth() @ off[:3, :3].T + off[:3, 3]
    return float(np.sqrt(np.mean(np.sum(moved**2, axis=1))))


def _says_otherwise(fit: dict | None, lower: Jaw) -> bool:
    """Do bite scans that fit well put the lower elsewhere than it came, by more than they may err?"""
    if not fit or not fit["lower_to_upper"]:
        return False
    return _apart_mm(fit, lower) > max(AGREE_MM, _SURELY * fit["error_mm"])


def _says_the_same(fit: dict | None, lower: Jaw) -> bool:
    return bool(fit and fit["lower_to_upper"]) and not _says_otherwise(fit, lower)


def _instead(fit: dict, lower: Jaw, came: Facing, scans: list[dict]) -> Flag:
    own = [s for s in scans if not s["bite"]]
    they, are = ("bite scans", "they measure") if len(own) > 1 else ("bite scan", "it measures")
    text = (
        f"The jaws came with the lower {_apart_mm(fit, lower):.2f} mm from where the {they} put it ({_stand(came.meet)} there). The {they} "
        f"count{'s' * (len(own) == 1)}: {are} the bite. Of another bite? Fix makes it one of its own; the jaws keep the one they came in."
    )
    return Flag("bite-instead", "look", text, fix=of_another(own))


def _checked(fit: dict | None, lower: Jaw) -> tuple[Flag, ...]:
    """Do bite scans say the same as the relation in which the jaws came?"""
    if not fit or not fit["lower_to_upper"]:
        return ()
    moved = _apart_mm(fit, lower)
    if not _says_otherwise(fit, lower):
        return (Flag("bite-agrees", "note", f"The bite scans say the same, to {1000 * moved:.0f} µm at the teeth."),)
    text = f"The bite scans put the lower {moved:.2f} mm elsewhere than the jaws came. Auto would believe the bite scans."
    return (Flag("bite-differs", "look", text, fix=Fix("bite", "*", {"source": "auto"})),)


def _moved(upper: Jaw, lower: Jaw, found: Found, settings: BiteSettings) -> tuple[NDArray, tuple[list[Flag], list[Reading]]]:
    flags: list[Flag] = []
    assert found.lower_to_upper is not None
    matrix = found.lower_to_upper
    readings: list[Reading] = []
    axes = bench_axes(upper, upper=True)
    jaws = Opposing(upper, lower) if settings.close or settings.ease else None
    if jaws and settings.close:
        step = closed(jaws, matrix, axes[2])
        matrix = step.matrix @ matrix
        flags.append(Flag("closed", "note", f"Closed to the first contact: {step.distance_mm:.2f} mm {step.axis}."))
        readings.append(Reading("closed by", step.distance_mm, "mm"))
    if jaws and settings.ease:
        step = eased(jaws, matrix, tolerance_mm=settings.ease_mm, axes=axes)
        matrix = step.matrix @ matrix
        about = f", {step.angle_deg:.2f}° about the {step.axis}" if step.axis else ""
        flags.append(Flag("eased", "note", f"Eased: no crown moved by more than {step.distance_mm:.3f} mm{about}."))
        readings += [Reading("eased by at most", step.distance_mm, "mm"), Reading("eased, turned", step.angle_deg, "°")]
    turns = (settings.tilt_deg, settings.roll_deg, settings.turn_deg)
    shift = np.array([settings.left_mm, settings.back_mm, settings.up_mm])
    if settings.nudged and settings.nudged_on not in (None, found.how):
        text = f"The lower was nudged on another relation ({settings.nudged_on}); on this one that does not count. Fix takes it up again."
        fix = Fix("bite", "*", {"nudged_on": found.how})
        flags.append(Flag("nudge-left-out", "note", text, fix=fix))
    elif settings.nudged:
        pivot = matrix[:3, :3] @ lower.incisal + matrix[:3, 3]
        hand = by_hand(axes, pivot, shift_mm=shift, tilt_deg=turns[0], roll_deg=turns[1], turn_deg=turns[2])
        matrix = hand @ matrix
        text = f"Nudged by hand: {np.linalg.norm(shift):.2f} mm, {angle_deg(hand[:3, :3]):.2f}°."
        flags.append(Flag("nudged", "note", text))
    return matrix, (flags, readings)


def _raised(upper: Jaw, lower: Jaw, matrix: NDArray, by_mm: float) -> tuple[NDArray, Flag]:
    pivot = matrix[:3, :3] @ lower.incisal + matrix[:3, 3]
    step, degrees = raised(bench_axes(upper, upper=True), pivot, by_mm=by_mm)
    text = f"Raised by {by_mm:.2f} mm at the incisors: opened by {degrees:.2f}° about the average hinge axis."
    return step @ matrix, Flag("raised", "note", text)


def _judged(meet: Relation, matrix: NDArray, lower: str, settings: BiteSettings) -> list[Flag]:
    deep = np.linalg.inv(matrix) @ np.append(meet.deepest_mm, 1.0)
    place = Place(lower, (deep[0], deep[1], deep[2]), 2.0)
    if meet.overlap_mm > settings.hard_mm:
        text = f"The bite is too hard: the jaws overlap by {meet.overlap_mm:.2f} mm."
        # What eases is the first bite; another is moved by its own numbers.
        return [Flag("too-hard", "look", text, place, None if settings.chosen else Fix("bite", "*", {"ease": True}))]
    # Raised for a splint, or another bite than the closed one, it is open because it shall be.
    if meet.gap_mm > settings.open_mm and not settings.raised_mm and not settings.chosen:
        text = f"The bite is open: nothing touches, the smallest gap is {meet.gap_mm:.2f} mm."
        return [Flag("open-bite", "look", text, place, Fix("bite", "*", {"close": True}))]
    return []


def _measured(meet: Relation) -> tuple[Reading, ...]:
    return (
        Reading("deepest overlap", meet.overlap_mm, "mm"),
        Reading("smallest gap", meet.gap_mm, "mm"),
        Reading("crown surface within 0.3 mm", 100 * meet.near_share, "%"),
    )


STEP = Step(
    name="bite",
    title="Bite",
    number=2,
    version=13,
    over=WHOLE,
    settings=BiteSettings,
    beside={"nudged_on": Beside(_NUDGE, anew=True)},
    needs={
        **PRINTED,
        "relation": Need("fit", "relation", optional=True),
        "scans": Need("fit", "scans", optional=True),
        "named": Need("fit", "named", optional=True),
        "lent": Need("fit", "lent", optional=True),
        "stale": Need("fit", "stale", optional=True),
    },
    gives={
        "home_to_bite": by_piece(json_of(Matrix | None)),
        "related": json_of(bool),
        "method": json_of(str),
        "nudged_on": json_of(str),
        "bites": json_of(list[NamedBite]),
    },
    apply=apply,
    about="How lower stands to upper.",
)
