"""Supports over many generated mouths, judged on finished bodies by another library: what begins in mid-air, what stands on teeth."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from bitecore.engine.gives import unpack
from bitecore.files import stl
from bitecore.ops.closest import ClosestPoints
from bitecore.ops.layers import layers
from bitecore.parts.supports import INTO_MM, TIP_MM
from bitecore.runsheet import CASE, CaseDocument, MemoryStore, PieceEntry, evaluate
from bitecore.runsheet.who import CaseGraph
from demo.arch import Pair, pair
from tests.shapes import islands, manifold

from .intake import plan, wide_plan
from .second import Mouth, mouth, second_plan

# How bodies are tilted, by turns.
TILTS = (0.0, 20.0, 40.0, 60.0, 80.0)
# No edge of a tip nearer to a tooth than this (measures of the project).
OFF_TOOTH_MM = 0.3
_HEIGHTS, _PIXEL_MM, _LAYER_MM = 7, 0.05, 0.05


@dataclass(frozen=True)
class PlateOutcome:
    """One body on supports. why : the program says that it cannot be held so, or that there is none

    loose   : what begins in mid-air, by sections of another library
    off_mm  : from the nearest tip's edge to a tooth, by the generator's truth
    inside  : what of the supports lies in the body, to what their tips take there
    rafts   : how many parts the raft is of
    area    : the worst share by which a layer's area differs from that section; volume : of all layers, from the solids'
    """

    tilt: float
    why: str = ""
    tips: int = 0
    loose: int = 0
    off_mm: float = np.inf
    inside: float = 0.0
    rafts: int = 1
    area: float = 0.0
    volume: float = 0.0
    seconds: float = 0.0

    @property
    def good(self) -> bool:
        held = self.loose == 0 and self.off_mm > OFF_TOOTH_MM and self.inside < 2.0 and self.rafts == 1
        return not self.why and held and self.area < 0.01 and self.volume < 0.01


def judged_plates(number: int) -> list[PlateOutcome]:
    return _judged(number, pair(plan(number, grid_mm=0.45)))


def judged_wide_plates(number: int) -> list[PlateOutcome]:
    return _judged(number, pair(wide_plan(number, grid_mm=0.45)))


def judged_second_plates(number: int) -> list[PlateOutcome]:
    return _judged(number, mouth(replace(second_plan(number, step_mm=0.35), noise_mm=0.0)))


def _judged(number: int, both: Pair | Mouth) -> list[PlateOutcome]:
    store, tilt = MemoryStore(), TILTS[number % len(TILTS)]
    truth = {"p1": both.upper, "p2": both.lower}
    pieces = [PieceEntry(id=p, file="scan.stl", sha256=store.blobs.write(stl.write_binary(jaw.mesh))) for p, jaw in truth.items()]
    plate = {"printer": "heron", "supports": "all", "tilt_deg": tilt}
    settings = {"plate": {"*": plate}, "intake": {"p1": {"kind": "jaw", "jaw": "upper"}, "p2": {"kind": "jaw", "jaw": "lower"}}}
    graph = evaluate(CaseDocument(number=f"trial-{number}", pieces=pieces, settings=settings), CASE, store, until="supports").graph
    return [_outcome(graph, piece, truth[piece], tilt, store) for piece in graph.jaws]


def _outcome(graph: CaseGraph, piece: str, truth: object, tilt: float, store: MemoryStore) -> PlateOutcome:
    node = graph.node("supports", piece)
    if node.good is None or "mesh" not in node.good.values:
        return PlateOutcome(tilt, why="; ".join(f["message"] for f in node.manifest.flags) or "no result")
    cannot = [f["message"] for f in node.manifest.flags if f["code"] in ("not-held", "too-many-tips")]
    matrix = np.array(graph.node("plate").json("home_to_plate", piece))
    body = unpack(graph.node("assemble", piece).good.values["body"], store.blobs)
    held = unpack(node.good.values["mesh"], store.blobs)
    tips = np.array([tip["at_mm"] for tip in node.json("tips") if tip["stands"]])
    teeth = truth.mesh.of_faces(truth.tooth > 0)  # type: ignore[attr-defined]
    off = float(ClosestPoints(teeth).query(tips).distance_mm.min()) - TIP_MM / 2
    there, below = manifold(body.moved(matrix)), manifold(held.moved(matrix))
    whole = there + below
    one = np.pi / 4 * TIP_MM**2 * INTO_MM
    cut = layers(body.moved(matrix), np.eye(4), pixel_mm=_PIXEL_MM, layer_mm=_LAYER_MM)
    areas = cut.areas_mm2()
    at = np.linspace(0.15, 0.9, _HEIGHTS) * len(areas)
    sections = [(float(areas[int(k)]), there.slice((int(k) + 0.5) * _LAYER_MM).area()) for k in at]
    return PlateOutcome(
        tilt, "; ".join(cannot), len(tips), len(islands(whole)), off,
        (there ^ below).volume() / (one * len(tips)), len(below.slice(0.3).decompose()),
        max((abs(own / other - 1) for own, other in sections if other > 5), default=0.0),
        abs(1000 * cut.volume_ml / there.volume() - 1), float(node.manifest.seconds),
    )  # fmt: skip


def plates_page(sets: Mapping[str, Sequence[PlateOutcome]]) -> str:
    rows, failed = [], []
    for name, found in sets.items():
        for tilt in sorted({o.tilt for o in found}):
            these = [o for o in found if o.tilt == tilt]
            made = [o for o in these if o.tips]
            cells = (
                name, f"{tilt:.0f}°", f"{sum(o.good for o in these)} of {len(these)}", f"{np.median([o.tips for o in made] or [0]):.0f}",
                str(sum(o.loose for o in made)), f"{min((o.off_mm for o in made), default=0):.2f} mm",
                f"{max((o.inside for o in made), default=0):.2f}", f"{100 * max((o.area for o in made), default=0):.2f} %",
                f"{100 * max((o.volume for o in made), default=0):.3f} %", f"{np.median([o.seconds for o in made] or [0]):.1f} s",
            )  # fmt: skip
            rows.append("| " + " | ".join(cells) + " |")
        failed += [f"- {name}, {o.tilt:.0f}°: {o.why or 'see the row'}" for o in found if not o.good]
    return _TEXT.format(rows="\n".join(rows), failed="\n".join(failed[:40]) or "- none")


_TEXT = """## Supports
Every mouth through Base as it comes, then both jaws on supports, tilted by turns. *Good*: the program says it can be held, nothing begins
in mid-air by sections of another library every 0.05 mm, no edge of a tip within 0.3 mm of a tooth by the generator's truth, the supports
in the body no more than their tips' ends (twice at most), one raft, areas and volume of the layers within 1 % of that library's.

| set | tilted | good | tips | in mid-air | tip to tooth, least | in the body, to its tips | areas off | volume off | time |
|---|---|---|---|---|---|---|---|---|---|
{rows}

What was not good:
{failed}
"""
