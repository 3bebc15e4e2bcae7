"""Part of Bite: where the relation can be had from, other than as the jaws came: bite scans, or an earlier pair."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np

from ...anatomy.bitescans import BiteFit, Placed, fit_bite
from ...anatomy.following import changed, nearest_of
from ...anatomy.jaw import Jaw
from ...anatomy.lent import Lent, lent_by
from ...engine.entries import Entry, EntryId, in_order, numbered
from ...engine.gives import MESH, ByPiece, by_piece, json_of
from ...engine.model import WHOLE, Inputs, Need, Step, StepResult, StepSettings, setting
from ...mesh import Mesh
from ...mesh.mapped import mapped
from ...ops.rigid import rounded, rows
from ...progress import Run
from .. import values as v
from ..kinds import EARLIER


class Mark(Entry):
    """A point on the bite scan and the same point on a jaw, each in its home (mm); on : the jaw's piece."""

    bite: tuple[float, float, float]
    jaw: Literal["upper", "lower"]
    on: str = ""
    at: tuple[float, float, float]


class FitSettings(StepSettings):
    marks: dict[str, dict[EntryId, Mark]] = setting(
        {}, label="Marks", help="Matched points on a bite scan and the jaws, by piece: three to six on each jaw.", main=False
    )

    def counting(self) -> FitSettings:
        """Fewer than three marks on a jaw say nothing yet."""
        full = {
            p: found for p, found in self.marks.items()
            if all(sum(m.jaw == jaw for m in found.values()) >= 3 for jaw in ("upper", "lower"))
        }  # fmt: skip
        return FitSettings(marks=full)


def apply(inputs: Inputs, settings: FitSettings, run: Run) -> StepResult:
    piece_of = {jaw: piece for piece, jaw in inputs.jaws.items()}
    if len(piece_of) < 2 or not (inputs["bites"] or inputs["earlier"]):
        return StepResult({"relation": None, "named": {}, "scans": [], "lent": None, "stale": 0})
    settings = settings.counting()
    own = (piece_of["upper"], piece_of["lower"])
    upper, lower = (Jaw.seen(inputs["mesh"][p], inputs["about"][p]) for p in own)
    values: dict[str, Any] = {"relation": None, "named": {}, "scans": [], "lent": None, "stale": 0}
    if inputs["bites"]:
        run.tick(0.1, "fitting bite scans")
        # A mark lies on one scan of a jaw; where another took its place it says nothing any more.
        fresh = {p: [m for m in in_order(found) if not m.on or m.on == piece_of[m.jaw]] for p, found in settings.marks.items()}
        values["stale"] = sum(len(found) - len(fresh[p]) for p, found in settings.marks.items() if p in inputs["bites"])
        marks = {p: [m.model_dump() for m in found] for p, found in fresh.items()}
        maps = ByPiece()
        for bite, scans in _by_bite(inputs["bites"], inputs["of"]).items():
            fit = fit_bite(upper, lower, scans, {p: found for p, found in marks.items() if p in scans})
            values["scans"] += [_scan(s, bite) for s in fit.scans]
            maps |= _maps(fit, scans, upper, lower)
            if bite:
                values["named"][bite] = _relation(fit)
            else:
                values["relation"] = _relation(fit)
        values["map"] = maps
    if inputs["earlier"]:
        run.tick(0.7, "looking at earlier scans")
        earlier = [
            (p, jaw, Jaw.seen(inputs["earlier"][p], a)) for p, a in inputs["earlier_about"].items() if (jaw := a["jaw"] or a["looks"])
        ]
        lent = lent_by(upper, lower, earlier, own=own)
        values["lent"] = _lent(lent) if lent else None
    return StepResult(values)


def _by_bite(bites: dict[str, Mesh], of: dict[str, list[str]]) -> dict[str, dict[str, Mesh]]:
    """{bite: {piece: scan}}, the first bite ('') before the others. of : {bite: the scans that measured it}"""
    measured = {piece: ident for ident, pieces in of.items() for piece in pieces}
    out: dict[str, dict[str, Mesh]] = {}
    for piece, scan in sorted(bites.items(), key=lambda item: measured.get(item[0], "")):
        out.setdefault(measured.get(piece, ""), {})[piece] = scan
    return out


def _maps(fit: BiteFit, bites: dict[str, Mesh], upper: Jaw, lower: Jaw) -> ByPiece:
    """Of each placed bite scan how far it lies off the jaw it lies on (plus: outside)."""
    out = ByPiece()
    if fit.lower_to_upper is None:
        return out
    back = np.linalg.inv(fit.lower_to_upper)
    for scan in fit.scans:
        if scan.to_upper is not None:
            mesh = bites[scan.piece]
            on_upper, on_lower = changed(mesh, upper.mesh, scan.to_upper), changed(mesh, lower.mesh, back @ scan.to_upper)
            out[scan.piece] = mapped(mesh, nearest_of(on_upper, on_lower))
    return out


def _relation(fit: BiteFit) -> dict:
    return {
        "lower_to_upper": None if fit.lower_to_upper is None else rows(fit.lower_to_upper),
        "rms_mm": round(fit.rms_mm, 6),
        "error_mm": round(fit.error_mm, 6) if np.isfinite(fit.error_mm) else None,
        "loose": fit.loose,
        "disagree_mm": None if fit.disagree_mm is None else round(fit.disagree_mm, 6),
        "why": fit.why,
    }


def _scan(scan: Placed, bite: str) -> dict:
    return {
        "piece": scan.piece,
        "bite": bite,
        "side": scan.side,
        "to_upper": None if scan.to_upper is None else rows(scan.to_upper),
        "met": rounded(scan.met),
        "rms_mm": rounded(scan.rms_mm),
        "why": scan.why,
        "inside_out": scan.inside_out,
        "marks_mm": rounded(scan.marks_mm),
        "at_mm": rounded(scan.at_mm),
    }


def _lent(lent: Lent) -> dict:
    return {
        "lower_to_upper": rows(lent.lower_to_upper),
        "by": list(lent.by),
        "error_mm": round(lent.error_mm, 6),
        "rms_mm": round(lent.rms_mm, 6),
    }


def _marks_by_id(old: dict) -> dict:
    return {**old, "marks": {p: numbered("m", found) for p, found in old["marks"].items()}} if "marks" in old else old


STEP = Step(
    name="fit",
    title="Bite fit",
    number=2,
    version=11,
    over=WHOLE,
    part_of="bite",
    settings=FitSettings,
    counts=FitSettings.counting,
    upgrades={5: _marks_by_id},
    needs={
        "mesh": Need("intake", "mesh", each=True),
        "about": Need("intake", "about", each=True),
        "bites": Need("intake", "mesh", of=("bite",)),
        "of": Need("bite", "bites", setting=True, field="scans"),
        "earlier": Need("intake", "mesh", of=EARLIER),
        "earlier_about": Need("intake", "about", of=EARLIER),
    },
    gives={
        "relation": json_of(v.Relation | None),
        "named": json_of(dict[str, v.Relation]),
        "scans": json_of(list[v.FittedScan]),
        "lent": json_of(v.Lent | None),
        "stale": json_of(int),
        "map": by_piece(MESH),
    },
    apply=apply,
    about="Bite scans and earlier pairs fitted to the jaws.",
)
