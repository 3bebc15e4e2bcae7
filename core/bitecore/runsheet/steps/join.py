"""Part of Articulate: scans that lie on a jaw, a denture above all, printed as one body with its model; the jaw alone is printed too."""

from __future__ import annotations

from pydantic import field_validator

from ...engine.gives import SOLIDS, Solid, Solids, json_of
from ...engine.model import JAWS, Fix, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings, setting
from ...errors import StepFailed
from ...mesh import Mesh, volume_ml
from ...parts.joining import Joined, joined_on, whole
from ...progress import Run
from ...words import capital
from ..kinds import FOLLOWERS
from ..lying import lies_on
from ..part_names import JOINED
from ..values_held import JoinedScan

# Deeper in each other than this they do not only lie on each other (judgement).
_DEEP_MM = 0.5
_MOST_MM = 2.0


class JoinSettings(StepSettings):
    scans: tuple[str, ...] = setting(
        (), label="One body with it", help="Scans that lie on this jaw and are printed as one body with its model.", form=False,
        max_length=8,
    )  # fmt: skip
    across_mm: float = setting(
        0.3, ge=0.05, le=_MOST_MM, unit="mm", label="Joins across", help="Gaps up to this, between a denture and its jaw, are closed.",
        main=False,
    )  # fmt: skip

    @field_validator("scans")
    @classmethod
    def _each_once(cls, scans: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(dict.fromkeys(scans))


def apply(inputs: Inputs, settings: JoinSettings, run: Run) -> StepResult:
    body: Mesh = inputs["body"]
    solids, told, flags = Solids(), [], []
    for number, piece in enumerate(settings.scans):
        part = run.part(number / len(settings.scans), (number + 1) / len(settings.scans))
        name = _word(inputs, piece)
        try:
            joined = _joined(inputs, settings, piece, name, body, part)
        except StepFailed as failed:
            flags.append(_not(failed, settings, inputs.piece, piece))
            continue
        solids.append(Solid("join", joined.solid, JOINED))
        told.append(_told(piece, joined))
        flags += _said(joined, name)
    readings = tuple(Reading(words, value, unit) for row in told for words, value, unit in _measured(row))
    figure = f"{len(solids)} joined" if solids else "not joined"
    return StepResult({"solids": solids, "joined": told}, readings, tuple(flags), figure)


def _word(inputs: Inputs, piece: str) -> str:
    """What it is called: no file's name, which may be a patient's."""
    kind = inputs["abouts"].get(piece, {}).get("kind")
    return {"denture": "the denture", "die": "the die", "desk": "the desk scan"}.get(kind, f"the scan {piece}")


def _joined(inputs: Inputs, settings: JoinSettings, piece: str, name: str, body: Mesh, run: Run) -> Joined:
    if piece not in inputs["own"]:
        raise StepFailed(f"Scan {piece}, to be one body with the model, is gone. Take it off the list.", code="join-gone")
    on, place = lies_on(inputs["places"], piece)
    if on != inputs.piece:
        where = "on the other jaw" if on != piece else "nowhere yet"
        raise StepFailed(f"{capital(name)} lies {where}: see Bite, where scans are laid on their jaws.", code="join-apart")
    return joined_on(body, whole(inputs["own"][piece].moved(place), name), reach_mm=settings.across_mm, name=name, run=run)


def _not(failed: StepFailed, settings: JoinSettings, jaw: str, piece: str) -> Flag:
    """Wider gaps closed, where that may help; or printed without it."""
    more = round(min(settings.across_mm * 2, _MOST_MM), 2)
    rest = [scan for scan in settings.scans if scan != piece]
    off = Fix("join", jaw, {"scans": rest}, label="Print it without")
    if failed.code == "join-apart" and more > settings.across_mm:
        return Flag(failed.code, "look", failed.message, fix=Fix("join", jaw, {"across_mm": more}), other=off, unmet=True)
    return Flag(failed.code, "look", failed.message, fix=off, unmet=True)


def _said(joined: Joined, name: str) -> list[Flag]:
    text = (
        f"{capital(name)} is one body with the model: gaps up to {joined.gap_mm:.2f} mm closed by pushing {joined.facing_mm2:.0f} mm² of "
        f"the side that faces the jaw in by {joined.pushed_mm:.2f} mm at most. Nothing else of either was moved."
    )
    out = [Flag("joined", "note", text)]
    if joined.deep_mm > _DEEP_MM:
        text = f"{capital(name)} goes {joined.deep_mm:.2f} mm into the model: it does not lie as it sits in the mouth. See Bite."
        out.append(Flag("join-deep", "look", text))
    return out


def _told(piece: str, joined: Joined) -> dict:
    return {
        "scan": piece, "gap_mm": round(joined.gap_mm, 4), "deep_mm": round(joined.deep_mm, 4), "pushed_mm": round(joined.pushed_mm, 4),
        "facing_mm2": round(joined.facing_mm2, 2), "pockets_mm3": round(joined.pockets_mm3, 4),
        "volume_ml": round(volume_ml(joined.solid), 4),
    }  # fmt: skip


def _measured(row: dict) -> tuple[tuple[str, float, str], ...]:
    return (
        ("widest gap closed", row["gap_mm"], "mm"),
        ("pushed in, at most", row["pushed_mm"], "mm"),
        ("facing the jaw", row["facing_mm2"], "mm²"),
        ("hollows left between", row["pockets_mm3"], "mm³"),
    )


STEP = Step(
    name="join",
    title="Joined",
    number=8,
    version=3,
    over=JAWS,
    part_of="articulate",
    settings=JoinSettings,
    needs={
        "body": Need("base", "body"),
        "own": Need("intake", "mesh", of=FOLLOWERS),
        "places": Need("follow", "place", of=FOLLOWERS, optional=True),
        "abouts": Need("intake", "about", of=FOLLOWERS),
    },
    gives={"solids": SOLIDS, "joined": json_of(list[JoinedScan])},
    apply=apply,
    about="A denture and its jaw as one body.",
    off=lambda settings: not settings.scans,
    parts=lambda jaw, teeth, settings: (JOINED,) if settings.scans else (),
    begins="assemble",
)
