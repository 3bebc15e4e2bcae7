"""Dies over many generated mouths: two to six teeth of a jaw, some of them prepared, judged on finished bodies by exact booleans and the
library's least distance."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import manifold3d
import numpy as np

from bitecore.engine.gives import unpack
from bitecore.files import stl
from bitecore.mesh import Mesh, check_solid
from bitecore.runsheet import CASE, CaseDocument, MemoryStore, PieceEntry, evaluate
from bitecore.runsheet.who import CaseGraph
from demo.arch import ArchPlan, Pair, pair
from tests.shapes import manifold

from .intake import plan, wide_plan
from .second import Mouth, SecondJaw, mouth, second_plan

AIR_MM = 0.06
# What of a volume is nought (mm³); how far a die is lifted (mm); where its walls are measured, off the ends of the shaft (mm).
_NOUGHT_MM3, _LIFTED_MM, _OFF_ENDS_MM = 1e-3, (0.0, 0.005, 0.02, 0.1, 0.5, 1.5, 4.0, 8.0, 14.0, 25.0), 0.6


@dataclass(frozen=True)
class DieOutcome:
    """One tooth that was asked for.

    why      : why there is no die, in the program's words; crown : its tooth was prepared
    whole    : closed and of one part, and the model too
    in_way   : the largest overlap of die and model while it is lifted (mm³)
    air_off  : how far the least room between shaft and socket is off what was asked (mm); None where it was not measured
    kept     : the share of the tooth's faces as scanned; lost : how deep the wall cuts into it (mm)
    missing  : of the jaw, the volume that neither model, dies nor what is cut away for them account for, as a share
    """

    fdi: int
    crown: bool
    why: str = ""
    whole: bool = False
    in_way: float = 0.0
    air_off: float | None = None
    seat: float = 0.0
    turns: float = 0.0
    wall: float = 0.0
    kept: float = 0.0
    lost: float = 0.0
    missing: float = 0.0
    count: int = 0
    seconds: float = 0.0

    @property
    def good(self) -> bool:
        sound = not self.why and self.whole and self.in_way < _NOUGHT_MM3 and self.missing < 1e-3
        return sound and (self.air_off is None or self.air_off < 0.01) and self.wall >= 0.99


def judged_dies(number: int) -> list[DieOutcome]:
    return _of_plan(number, plan(number, grid_mm=0.45))


def judged_wide_dies(number: int) -> list[DieOutcome]:
    return _of_plan(number, wide_plan(number, grid_mm=0.45))


def judged_second_dies(number: int) -> list[DieOutcome]:
    both = mouth(replace(second_plan(number, step_mm=0.35), noise_mm=0.0))
    return _judged(number, both, _chosen(number, _there(both.lower), _there(both.upper)), ())


def _there(jaw: SecondJaw) -> list[int]:
    """Teeth of a jaw, without third molars."""
    return [int(n) for n in np.unique(jaw.tooth) if n > 0 and n % 10 < 8]


def _of_plan(number: int, made: ArchPlan) -> list[DieOutcome]:
    teeth = [t for t in range(11, 49) if t % 10 in range(1, 8) and t not in made.gaps]
    chosen = _chosen(number, [t for t in teeth if t > 30], [t for t in teeth if t < 30])
    ground = chosen[::2]
    return _judged(number, pair(replace(made, prepared=tuple(ground))), chosen, ground)


def _chosen(number: int, lower: list[int], upper: list[int]) -> list[int]:
    """Two to six of one jaw, most of them in a row."""
    rng = np.random.default_rng(5500 + number)
    row = sorted(lower if number % 2 else upper, key=lambda t: (t % 10) * (1 if t // 10 in (2, 3) else -1))
    count = int(rng.integers(2, 7))
    first = int(rng.integers(0, max(len(row) - count, 1)))
    return sorted({*row[first : first + count - 1], int(rng.choice(row))})


def _judged(number: int, both: Pair | Mouth, teeth: Sequence[int], ground: Sequence[int]) -> list[DieOutcome]:
    store = MemoryStore()
    pieces = [
        PieceEntry(id=f"p{n}", file="scan.stl", sha256=store.blobs.write(stl.write_binary(m)))
        for n, m in enumerate((both.upper.mesh, both.lower.mesh), 1)
    ]
    settings: dict[str, dict[str, Any]] = {
        "intake": {"p1": {"kind": "jaw", "jaw": "upper"}, "p2": {"kind": "jaw", "jaw": "lower"}},
        "dies": {"*": {"dies": "chart", "die_air_mm": AIR_MM}},
    }
    document = CaseDocument(number=f"trial-{number}", pieces=pieces, teeth=" ".join(map(str, teeth)))
    piece = "p1" if teeth[0] < 30 else "p2"
    for _ in range(4):
        graph = evaluate(document.model_copy(update={"settings": settings}), CASE, store, until="assemble").graph
        node = graph.node("dies", piece)
        if node is None or node.good is None:
            return [DieOutcome(t, t in ground, why="no result") for t in teeth]
        # As a technician would: a base that is too low is made thicker.
        fixes = [f["fix"] for f in node.manifest.flags if f["code"] == "no-die" and f["fix"]["step"] == "base"]
        if not fixes:
            break
        settings.setdefault("base", {}).setdefault(piece, {}).update(max((f["values"] for f in fixes), key=lambda v: v["thickness_mm"]))
    return _outcomes(graph, piece, teeth, ground, store)


def _outcomes(graph: CaseGraph, piece: str, teeth: Sequence[int], ground: Sequence[int], store: MemoryStore) -> list[DieOutcome]:
    node = graph.node("dies", piece)
    told = {d["fdi"]: d for d in node.json("dies")}
    said = [f["message"] for f in node.manifest.flags if f["code"] == "no-die"]
    if not told:
        return [DieOutcome(t, t in ground, why="; ".join(said)) for t in teeth]
    body = unpack(graph.node("base", piece).good.values["body"], store.blobs)
    model = unpack(graph.node("assemble", piece).good.values["body"], store.blobs)
    cut = manifold3d.Manifold.batch_boolean(
        [manifold(s.mesh) for s in unpack(node.good.values["solids"], store.blobs) if s.op == "cut"], manifold3d.OpType.Add
    )
    check, solid, whole = check_solid(model), manifold(model), manifold(body)
    missing = abs(whole.volume() - solid.volume() - (whole ^ cut).volume()) / whole.volume()
    there = {
        d["fdi"]: manifold(unpack(graph.node("assemble", f"{piece}.{d['part']}").good.values["body"], store.blobs)) for d in told.values()
    }
    out = []
    for fdi in teeth:
        each = told.get(fdi)
        if each is None:
            out.append(DieOutcome(fdi, fdi in ground, why=next((s for s in said if f" {fdi}" in s), "not made")))
            continue
        die = unpack(graph.node("assemble", f"{piece}.{each['part']}").good.values["body"], store.blobs)
        own = check_solid(die)
        whole_ones = own.ok and own.components == 1 and check.ok and check.components == 1
        in_way = _in_way(die, [solid, *(d for n, d in there.items() if n != fdi)], each)
        shape = (each["seat_mm2"], each["turns_deg"], each["wall_mm"], each["kept"], each["lost_mm"])
        seconds = float(node.manifest.seconds)
        air_off = _air_off(die, solid, each)
        out.append(DieOutcome(fdi, fdi in ground, "", whole_ones, in_way, air_off, *shape, missing, len(told), seconds))
    return out


def _in_way(die: Mesh, others: Sequence[manifold3d.Manifold], told: Mapping[str, Any]) -> float:
    """Of the model and of the other dies in their places."""
    made, way = manifold(die), np.array(told["way"])
    return max((made.translate(list(way * lift)) ^ other).volume() for lift in _LIFTED_MM for other in others)


def _air_off(die: Mesh, model: manifold3d.Manifold, told: Mapping[str, Any]) -> float | None:
    """Of the part of the shaft with plain walls, over its foot and under its head."""
    way, at = np.array(told["way"]), np.array(told["at_mm"])
    top = float(at @ way)
    wide = float(np.linalg.norm(np.array(told["socket"]) - at, axis=1).max())
    high, low = top - _OFF_ENDS_MM, top - told["long_mm"] + told["steep"] * wide + _OFF_ENDS_MM
    if high - low < 0.5:
        return None
    shaft = manifold(die).trim_by_plane(way.tolist(), low).trim_by_plane((-way).tolist(), -high)
    if shaft.is_empty():
        return None
    # The walls lean by the taper: the least distance is the air along the plan times its cosine.
    return abs(shaft.min_gap(model, 1.0) / np.cos(np.radians(1.0)) - AIR_MM)


def dies_page(sets: Mapping[str, Sequence[DieOutcome]]) -> str:
    rows, failed = [], []
    for name, found in sets.items():
        for words, these in (("prepared", [o for o in found if o.crown]), ("as they are", [o for o in found if not o.crown])):
            made = [o for o in these if not o.why]
            if not made:
                continue
            cells = (
                name, words, f"{sum(o.good for o in these)} of {len(these)}", f"{max(o.in_way for o in made):.4f} mm³",
                f"{max((o.air_off for o in made if o.air_off is not None), default=0):.4f} mm", f"{min(o.seat for o in made):.1f} mm²",
                f"{np.percentile([o.turns for o in made], 90):.2f}°, {max(o.turns for o in made):.2f}°",
                f"{100 * np.median([o.kept for o in made]):.2f} %, {100 * min(o.kept for o in made):.1f} %",
                f"{max(o.lost for o in made):.2f} mm", f"{np.median([o.seconds for o in made]):.1f} s",
            )  # fmt: skip
            rows.append("| " + " | ".join(cells) + " |")
        failed += [f"- {name}, {o.fdi}: {o.why or 'see the row'}" for o in found if not o.good]
    return _TEXT.format(rows="\n".join(rows), failed="\n".join(failed[:40]) or "- none")


_TEXT = """## Dies
Of every mouth two to six teeth of one jaw, as they are told there, every second one prepared (by the second generator none); where the base
is too low it is made thicker as Fix says. *Good*: die and model closed and of one part, no overlap while it is lifted by 0 to 25 mm along
its way (exact booleans), the air round its shaft as asked to 0.01 mm, the wall round its socket 1 mm, and nothing of the jaw missing but
what is cut away for it. *Turns*: before it is lifted by 0.01 mm, of nine in ten and at most. *As scanned*: faces bit for bit, in the middle
and at the least.

| set | teeth | good | in the way, at most | air off, at most | smallest seat | turns | as scanned | cut into, at most | time |
|---|---|---|---|---|---|---|---|---|---|
{rows}

What was not good, in the program's words:
{failed}
"""
