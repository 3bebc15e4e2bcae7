"""Bite: the relation of lower to upper, as the jaws came, from bite scans or from an earlier pair; moved by hand, closed or
eased where asked; and how they stand."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ...anatomy.closing import Opposing, bench_axes, by_hand, closed, eased, raised
from ...anatomy.facing import Facing, as_they_came
from ...anatomy.jaw import Jaw
from ...anatomy.occlusal import bench_of, occlusal_frame
from ...anatomy.overhang import inside, overhang
from ...anatomy.relation import Relation, relation
from ...engine.gives import ByPiece, by_piece, json_of
from ...engine.model import WHOLE, Beside, Fix, Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings, setting
from ...mesh import Mesh
from ...ops.flaws import without_flaws
from ...ops.rigid import angle_deg, rows
from ...progress import Run
from ...words import to_um
from ..values import Matrix

# Two ways to the relation that differ by less than this agree (the worst error a good fit may have).
_AGREE_MM = 0.15
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

    @property
    def nudged(self) -> bool:
        return any(getattr(self, key) for key in _NUDGE)


_NUDGE = ("left_mm", "back_mm", "up_mm", "tilt_deg", "roll_deg", "turn_deg")

# What stays open without a bite; nothing is lost when it comes.
_MEANWHILE = "Until it comes each jaw is levelled by itself and contacts stay open; a nudge starts from there."


@dataclass(frozen=True)
class _Found:
    """lower_to_upper None: there is none;

    how             : in a word
    flags, readings : what is to be said of it
    meet            : how they stand then, where it is known already
    """

    lower_to_upper: NDArray | None
    how: str
    flags: tuple[Flag, ...] = ()
    readings: tuple[Reading, ...] = ()
    meet: Relation | None = None


def apply(inputs: Inputs, settings: BiteSettings, run: Run) -> StepResult:
    eye = np.eye(4).tolist()
    piece_of = {jaw: piece for piece, jaw in inputs.jaws.items()}
    if len(piece_of) < 2:
        (piece, jaw), *_ = inputs.jaws.items()
        flag = Flag("one-jaw", "note", f"Only the {jaw} jaw is here: there is no bite to keep.")
        return StepResult({"home_to_bite": ByPiece({piece: eye}), "related": False}, (), (flag,), f"{jaw} alone")
    upper, lower = (Jaw.seen(_printed(inputs, piece_of[j]), inputs["about"][piece_of[j]]) for j in ("upper", "lower"))
    run.tick(0.1, "measuring overlap and gap")
    about = inputs["about"]
    guessed = [_guessed(about, inputs.jaws)] if any(about[p]["jaw"] != j for p, j in inputs.jaws.items()) else []
    found = _relation(inputs, settings, upper, lower)
    if found.lower_to_upper is None and settings.source == "auto" and settings.nudged and settings.nudged_on in (None, "by hand"):
        found = _from_level(upper, lower)
    pieces = (piece_of["upper"], piece_of["lower"])
    if found.lower_to_upper is None:
        bite = ByPiece({pieces[0]: eye, pieces[1]: None})
        values = {"home_to_bite": bite, "related": False, "method": found.how, "nudged_on": "by hand"}
        return StepResult(values, (), (*found.flags, *guessed), "missing")
    run.tick(0.5, "moving the lower")
    matrix, moves = _moved(upper, lower, found, settings)
    if settings.raised_mm:
        matrix, said = _raised(upper, lower, matrix, settings.raised_mm)
        moves[0].append(said)
    known = found.meet if (matrix == found.lower_to_upper).all() else None
    meet = known or relation(upper.mesh, lower.mesh, lower_to_upper=matrix, lower_up=lower.up, upper_up=upper.up)
    run.tick(0.9, "judging")
    swapped = _swapped(upper, lower, matrix, pieces[0])
    flags = [*guessed, *swapped, *found.flags, *moves[0], *_judged(meet, matrix, pieces[1], settings)]
    readings = (*found.readings, *moves[1], *_measured(meet))
    values = {
        "home_to_bite": ByPiece({pieces[0]: eye, pieces[1]: eye if (matrix == np.eye(4)).all() else rows(matrix)}),
        "related": True,
        "method": found.how,
        "nudged_on": found.how,
    }
    return StepResult(values, readings, tuple(flags), _stand(meet))


def _printed(inputs: Inputs, piece: str) -> Mesh:
    """The scan without what Trim takes off: only what is printed can keep models from closing."""
    folds, spiky = (inputs.of(what, piece) and inputs["about"][piece].get(what, True) for what in ("folds", "spikes"))
    return without_flaws(inputs["mesh"][piece], folds=folds, spiky=spiky)


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


def _relation(inputs: Inputs, settings: BiteSettings, upper: Jaw, lower: Jaw) -> _Found:
    want = settings.source
    if want == "by hand":
        return _from_level(upper, lower)
    if want == "none":
        return _Found(None, "none", (Flag("no-relation", "note", f"No bite, as asked. {_MEANWHILE}"),))
    came = as_they_came(upper, lower) if want in ("auto", "as they came") else None
    fit, lent = inputs["relation"], inputs["lent"]
    stale = inputs["stale"] or 0
    marks = (Flag("stale-marks", "look", _stale_words(stale)),) if stale else ()
    if came is not None and want == "auto" and _says_otherwise(fit, lower):
        # The scan of a bite is the measurement; how the jaws came is only how they were kept.
        found = _by_scans(fit, inputs["scans"])
        return replace(found, flags=(_instead(fit, lower, came), *found.flags, *marks))
    if came is not None and (want == "as they came" or not came.doubt or _says_the_same(fit, lower)):
        said = (Flag("kept-relation", "note", _kept_words(came)), *_checked(fit, lower), *marks)
        return _Found(np.eye(4), "as they came", said, meet=None if came.flawed else came.meet)
    if want in ("auto", "bite scans") and fit and fit["lower_to_upper"]:
        found = _by_scans(fit, inputs["scans"])
        return replace(found, flags=(*found.flags, *marks))
    if want in ("auto", "earlier pair") and lent:
        return _by_earlier(lent)
    doubt = (_doubtful(came),) if came is not None else ()
    refused = (_missing(want, fit, inputs["scans"]),) if not doubt or fit else ()
    return _Found(None, "missing", (*doubt, *refused, *marks))


def _doubtful(came: Facing) -> Flag:
    text = (
        f"The jaws face each other as they came, but no mouth closes like that: {came.doubt}. So the bite is left open. {_MEANWHILE} "
        "Fix takes them as they came."
    )
    return Flag("doubtful-bite", "look", text, fix=Fix("bite", "*", {"source": "as they came"}))


def _from_level(upper: Jaw, lower: Jaw) -> _Found:
    """Where each jaw is levelled by itself: planes and midlines on each other, for a person to nudge from."""
    frames = [occlusal_frame(j.mesh, up=j.up, front=j.front, midline_mm=j.incisal if j.part else None) for j in (upper, lower)]
    benches = [bench_of(frame, name) for frame, name in zip(frames, ("upper", "lower"), strict=True)]
    text = "The lower stands as set by hand, from where each jaw is levelled by itself: no scan says that it bites so."
    return _Found(np.linalg.inv(benches[0]) @ benches[1], "by hand", (Flag("by-hand", "look", text),))


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
    return _apart_mm(fit, lower) > max(_AGREE_MM, _SURELY * fit["error_mm"])


def _says_the_same(fit: dict | None, lower: Jaw) -> bool:
    return bool(fit and fit["lower_to_upper"]) and not _says_otherwise(fit, lower)


def _instead(fit: dict, lower: Jaw, came: Facing) -> Flag:
    text = (
        f"The jaws came with the lower {_apart_mm(fit, lower):.2f} mm from where the bite scans put it ({_stand(came.meet)} there). The "
        "bite scans count: they measure the bite. Choose “as they came” for the other."
    )
    return Flag("bite-instead", "look", text)


def _checked(fit: dict | None, lower: Jaw) -> tuple[Flag, ...]:
    """Do bite scans say the same as the relation in which the jaws came?"""
    if not fit or not fit["lower_to_upper"]:
        return ()
    moved = _apart_mm(fit, lower)
    if not _says_otherwise(fit, lower):
        return (Flag("bite-agrees", "note", f"The bite scans say the same, to {1000 * moved:.0f} µm at the teeth."),)
    text = f"The bite scans put the lower {moved:.2f} mm elsewhere than the jaws came. Auto would believe the bite scans."
    return (Flag("bite-differs", "look", text, fix=Fix("bite", "*", {"source": "auto"})),)


def _by_scans(fit: dict, scans: list[dict]) -> _Found:
    placed = [s for s in scans if s["to_upper"]]
    sides = " and ".join(sorted({s["side"] for s in placed if s["side"]}))
    flags = [Flag("fitted", "note", f"Fitted by {_count(len(placed), 'bite scan')} ({sides}): the teeth to {to_um(fit['error_mm'])}.")]
    if len({s["side"] for s in placed}) == 1 and placed[0]["side"] in ("left", "right"):
        text = f"Only the {placed[0]['side']} side was scanned closed: the other side is held less, mostly {fit['loose']}."
        flags.append(Flag("one-side", "look", text))
    if fit["disagree_mm"] is not None and fit["disagree_mm"] > _AGREE_MM:
        text = f"The two bite scans disagree by {fit['disagree_mm']:.2f} mm at the teeth."
        flags.append(Flag("sides-disagree", "look", text))
    flags += [
        Flag("bite-left-out", "look", f"A bite scan was left out: {s['why']}.", _at(s)) for s in scans if not s["to_upper"]
    ]  # fmt: skip
    flags += [_turned(s["piece"]) for s in placed if s["inside_out"]]
    readings = [
        Reading("teeth held to about", 1000 * fit["error_mm"], "µm"),
        Reading("scatter of the fit (RMS)", 1000 * fit["rms_mm"], "µm"),
        Reading("bite scans lying on the jaws", 100 * float(np.mean([sum(s["met"]) for s in placed])), "%"),
    ]
    if fit["disagree_mm"] is not None:
        readings.append(Reading("the two sides differ by", 1000 * fit["disagree_mm"], "µm"))
    return _Found(np.array(fit["lower_to_upper"]), "bite scans", tuple(flags), tuple(readings))


def _turned(piece: str) -> Flag:
    text = "A bite scan is inside-out: it lies on the jaws turned about, and was taken so. Fix turns the scan itself."
    return Flag("bite-inside-out", "note", text, fix=Fix("intake", piece, {"inside": "turn"}))


def _count(number: int, what: str) -> str:
    return f"{number} {what}{'s' * (number != 1)}"


def _by_earlier(lent: dict) -> _Found:
    text = f"The relation is that of an earlier pair of scans: the teeth to {to_um(lent['error_mm'])}."
    readings = (
        Reading("teeth held to about", 1000 * lent["error_mm"], "µm"),
        Reading("scatter of the fit (RMS)", 1000 * lent["rms_mm"], "µm"),
    )
    return _Found(np.array(lent["lower_to_upper"]), "earlier pair", (Flag("lent", "note", text),), readings)


def _missing(want: str, fit: dict | None, scans: list[dict]) -> Flag:
    if fit and fit["why"] and want in ("auto", "bite scans"):
        worst = next((s for s in scans if s["why"]), max(scans, key=lambda s: max(s["rms_mm"]), default=None))
        text = f"The bite is missing: the bite scan was refused, because {fit['why']}. {_MEANWHILE} Set marks on it, or scan it again."
        return Flag("fit-refused", "look", text, _at(worst) if worst else None)
    if want not in ("auto", "as they came"):
        return Flag("no-relation", "look", f"There is nothing to take the bite from: no {want.removesuffix('s')} that fits.")
    return Flag("no-relation", "look", f"The scans came in different coordinates, so the bite is missing. {_MEANWHILE}")


def _at(scan: dict) -> Place:
    """Where a bite scan lies off most, on the scan itself."""
    x, y, z = scan["at_mm"]
    return Place(scan["piece"], (x, y, z), 4.0)


def _moved(upper: Jaw, lower: Jaw, found: _Found, settings: BiteSettings) -> tuple[NDArray, tuple[list[Flag], list[Reading]]]:
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
        return [Flag("too-hard", "look", text, place, Fix("bite", "*", {"ease": True}))]
    # Raised for a splint it is open because it shall be.
    if meet.gap_mm > settings.open_mm and not settings.raised_mm:
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
    version=9,
    over=WHOLE,
    settings=BiteSettings,
    beside={"nudged_on": Beside(_NUDGE, anew=True)},
    needs={
        "mesh": Need("intake", "mesh", each=True),
        "about": Need("intake", "about", each=True),
        "folds": Need("trim", "folds", setting=True, each=True),
        "spikes": Need("trim", "spikes", setting=True, each=True),
        "relation": Need("fit", "relation", optional=True),
        "scans": Need("fit", "scans", optional=True),
        "lent": Need("fit", "lent", optional=True),
        "stale": Need("fit", "stale", optional=True),
    },
    gives={
        "home_to_bite": by_piece(json_of(Matrix | None)),
        "related": json_of(bool),
        "method": json_of(str),
        "nudged_on": json_of(str),
    },
    apply=apply,
    about="How lower stands to upper.",
)
