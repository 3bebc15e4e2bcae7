"""What holds the pair, over many generated mouths: pins, hinged backs, mounting plates, judged on finished bodies by exact booleans."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bitecore.engine.gives import unpack
from bitecore.files import stl
from bitecore.mesh import GROUP_SCAN, Mesh, check_solid
from bitecore.parts.hinge import turn
from bitecore.runsheet import CASE, CaseDocument, MemoryStore, PieceEntry, evaluate
from bitecore.runsheet.who import CaseGraph
from demo import rescans
from demo.arch import ArchPlan, Pair, pair
from tests.shapes import manifold

from .intake import plan, wide_plan
from .second import Mouth, mouth, second_plan

STYLES = ("pins", "hinge", "plates")
# What a volume of booleans is nought below (mm³); how far a pinned pair is lifted (mm), a hinged one opened (degrees).
_NOUGHT_MM3 = 1e-3
_LIFTED_MM, _OPENED = (0.5, 2.0, 5.0, 9.0, 20.0), (3.0, 10.0, 25.0, 50.0, 75.0, 99.0)


@dataclass(frozen=True)
class HeldOutcome:
    """One pair in one way. why : why there is none, in the program's words

    whole  : both bodies closed and of one part each
    scan   : no triangle of a scan is missing that Base left
    moved  : what the bite's own overlap has become more or less by (mm³)
    in_way : the largest overlap while it comes apart (mm³)
    """

    style: str
    why: str = ""
    whole: bool = False
    scan: bool = False
    moved: float = 0.0
    in_way: float = 0.0
    seconds: float = 0.0

    @property
    def good(self) -> bool:
        return not self.why and self.whole and self.scan and abs(self.moved) < _NOUGHT_MM3 and self.in_way < _NOUGHT_MM3


def judged_held(number: int) -> list[HeldOutcome]:
    return _judged(number, pair(plan(number, grid_mm=0.45)))


def judged_wide_held(number: int) -> list[HeldOutcome]:
    return _judged(number, pair(wide_plan(number, grid_mm=0.45)))


def judged_second_held(number: int) -> list[HeldOutcome]:
    """With a bite scan of either side: what they came in is not believed."""
    truth, rng = mouth(replace(second_plan(number, step_mm=0.35), noise_mm=0.0)), np.random.default_rng(9800 + number)
    bites = []
    for left in (True, False):
        # On a side where the jaws come nowhere near one another there is nothing to scan.
        with contextlib.suppress(ValueError):
            bites.append(rescans.bite_scan(truth, ArchPlan(noise_mm=0.02), left=left, rng=rng))
    return _judged(number, truth, bites)


def _judged(number: int, both: Pair | Mouth, bites: Sequence[Mesh] = ()) -> list[HeldOutcome]:
    store = MemoryStore()
    meshes = [both.upper.mesh, both.lower.mesh, *bites]
    pieces = [PieceEntry(id=f"p{n}", file="scan.stl", sha256=store.blobs.write(stl.write_binary(m))) for n, m in enumerate(meshes, 1)]
    document = CaseDocument(number=f"trial-{number}", pieces=pieces)
    kinds = {"p1": {"kind": "jaw", "jaw": "upper"}, "p2": {"kind": "jaw", "jaw": "lower"}}
    said = {"intake": kinds | {p.id: {"kind": "bite"} for p in pieces[2:]}} if bites else {}
    return [_pressed(document, style, store, said) for style in STYLES]


def _pressed(document: CaseDocument, style: str, store: MemoryStore, said: dict[str, Any]) -> HeldOutcome:
    """As a technician would: where a Fix is offered, it is pressed; three times at most."""
    settings: dict[str, dict[str, Any]] = {"articulate": {"*": {"style": style}}} | said
    for _ in range(4):
        graph = evaluate(document.model_copy(update={"settings": settings}), CASE, store, until="assemble").graph
        node = graph.node("articulate")
        if node is None or node.good is None:
            return HeldOutcome(style, why="no result")
        none = [f for f in node.manifest.flags if f["severity"] == "look" and f["code"] in _NONE]
        if not none:
            return _outcome(graph, style, store)
        fix = none[0].get("fix")
        if fix is None or fix["values"].get("style"):
            return HeldOutcome(style, why=none[0]["message"])
        at = settings.setdefault(fix["step"], {}).setdefault(fix["piece"], {})
        at.update(fix["values"])
    return HeldOutcome(style, why=none[0]["message"])


_NONE = ("no-pins", "no-hinge", "no-block", "low-block", "other-block", "hinge-binds")


def _outcome(graph: CaseGraph, style: str, store: MemoryStore) -> HeldOutcome:
    solids: dict[str, Any] = {}
    whole = scan = True
    for piece, jaw in graph.jaws.items():
        matrix = np.array(graph.node("level").json("home_to_bench", piece))
        before = unpack(graph.node("base", piece).good.values["body"], store.blobs)
        assembled = graph.node("assemble", piece)
        if assembled.good is None:
            return HeldOutcome(style, why="; ".join(f["message"] for f in assembled.manifest.flags))
        now = unpack(assembled.good.values["body"], store.blobs)
        check = check_solid(now)
        whole &= check.ok and check.components == 1
        scan &= int((now.groups == GROUP_SCAN).sum()) >= int((before.groups == GROUP_SCAN).sum())
        solids[jaw], solids[f"{jaw} before"] = _there(now, matrix), _there(before, matrix)
    own = (solids["upper before"] ^ solids["lower before"]).volume()
    moved = (solids["upper"] ^ solids["lower"]).volume() - own
    in_way = max(((solids["upper"].transform(m[:3]) ^ solids["lower"]).volume() for m in _ways(graph, style)), default=0.0)
    return HeldOutcome(style, "", whole, scan, moved, in_way, float(graph.node("articulate").manifest.seconds))


def _there(mesh: Mesh, matrix: NDArray) -> Any:
    return manifold(mesh.with_vertices(mesh.vertices_mm @ matrix[:3, :3].T + matrix[:3, 3]))


def _ways(graph: CaseGraph, style: str) -> list[NDArray]:
    if style == "hinge":
        hinge = graph.node("articulate").json("hinge")
        return [turn((hinge["behind_mm"], hinge["over_mm"]), degrees) for degrees in _OPENED]
    out = []
    for up in _LIFTED_MM:
        lifted = np.eye(4)
        lifted[2, 3] = up
        out.append(lifted)
    return out


def held_page(sets: Mapping[str, Sequence[HeldOutcome]]) -> str:
    rows, failed = [], []
    for name, found in sets.items():
        for style in STYLES:
            these = [o for o in found if o.style == style]
            made = [o for o in these if not o.why]
            cells = (
                name, style, f"{sum(o.good for o in these)} of {len(these)}", str(sum(o.whole for o in made)),
                str(sum(o.scan for o in made)), f"{max((abs(o.moved) for o in made), default=0):.4f} mm³",
                f"{max((o.in_way for o in made), default=0):.4f} mm³", f"{np.median([o.seconds for o in made] or [0]):.1f} s",
            )  # fmt: skip
            rows.append("| " + " | ".join(cells) + " |")
        failed += [f"- {name}, {o.style}: {o.why or 'see the row'}" for o in found if not o.good]
    return _TEXT.format(rows="\n".join(rows), failed="\n".join(failed[:40]) or "- none")


_TEXT = """## Articulate
Every mouth through Base as it comes, then pins, hinged backs and mounting plates; a Fix that is offered is pressed. *Good*: both bodies
closed and of one part, the scan's triangles there, the overlap of the bite as it was before, and none while a pinned pair is lifted by 0.5
to 20 mm along the vertical or a hinged one is opened by 3 to 99° (exact booleans). Times with as many at a time as there are cores.

| set | held by | good | whole | scan kept | bite changed, at most | in the way, at most | time |
|---|---|---|---|---|---|---|---|
{rows}

What was not good, in the program's words:
{failed}
"""
