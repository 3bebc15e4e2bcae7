"""The sheet of a case: what its steps run over, and what they need that no step gives."""

from __future__ import annotations

from functools import cache
from typing import Any

from ..anatomy.notation import tooth
from ..engine.graph import Node
from ..engine.model import ALL, Need, Step
from ..engine.registry import Registry, found_in
from ..engine.sheet import Sheet
from ..errors import BadSetting
from .document import CaseDocument
from .who import CaseGraph, assign, target_of


class CaseSheet(Sheet[CaseDocument, CaseGraph]):
    name, module = "case", __name__
    # Who is upper and who is lower is known once every scan has been looked at.
    # And what is no jaw, once it is known whether it came back.
    learns = frozenset({"intake", "again", "returned"})

    def begin(self, document: CaseDocument) -> CaseGraph:
        return CaseGraph(entries={entry.id: entry for entry in document.pieces})

    def learn(self, step: Step, document: CaseDocument, graph: CaseGraph) -> None:
        if step.name in self.learns and all(n.state not in ("ready", "blocked") for n in graph.nodes.values()):
            assign(document, graph, last=step.name != "intake")

    def addresses(self, step: Step, document: CaseDocument, graph: CaseGraph) -> list[str]:
        over = step.over
        if over.what == "whole":
            return [ALL] if not over.kinds or set(over.kinds) & set(graph.kinds.values()) else []
        if over.what == "scans":
            return [p.id for p in document.known]
        if over.what == "kinds":
            return self.of_kinds(over.kinds, graph)
        if over.what == "jaws":
            return list(graph.jaws)
        return [a for piece in graph.jaws for a in (piece, *self._parts(piece, step, document, graph))]

    def _parts(self, piece: str, step: Step, document: CaseDocument, graph: CaseGraph) -> list[str]:
        """The parts of a jaw's model that are worked on by themselves at this step."""
        begins = parts_of(piece, self.registry, document, graph)
        return [part for part, begin in begins.items() if step.name == begin or step.name in self.registry.after([begin])]

    def tag(self, node: Node, graph: CaseGraph) -> dict[str, Any]:
        jaw = graph.jaws.get(node.piece.split(".")[0])
        return {"piece": node.piece, "jaw": jaw, "jaws": dict(graph.jaws) if node.step.over.what == "whole" else {}}

    def waits(self, node: Node, graph: CaseGraph) -> str:
        over = node.step.over
        return "no jaw yet" if over.what == "whole" and not over.kinds and not graph.jaws else ""

    def each(self, graph: CaseGraph) -> list[str]:
        return list(graph.jaws)

    def of_kinds(self, kinds: tuple[str, ...], graph: CaseGraph) -> list[str]:
        return [piece for piece, kind in graph.kinds.items() if kind in kinds]

    def target(self, need: Need, node: Node, document: CaseDocument, graph: CaseGraph) -> tuple[str, Any]:
        found = target_of(document, graph, node.piece)
        return found.piece, {"json": {"piece": found.piece, "why": found.why}}

    def outside(self, need: Need, node: Node, document: CaseDocument, graph: CaseGraph) -> Any:
        if need.step == "case":
            return {"json": getattr(document, need.value)}
        if need.step == "shelf":
            other, _, key = need.value.rpartition(".")
            return document.record_ref(self.registry[other], key) if other else document.record_ref(node.step, key, node.piece)
        if need.of:
            return {"by_piece": {p: {"json": graph.entries[p].file} for p in self.of_kinds(need.of, graph)}}
        entry = graph.entries[node.piece]
        return {"file": entry.sha256, "name": entry.file}


def parts_of(piece: str, registry: Registry, document: CaseDocument, graph: CaseGraph) -> dict[str, str]:
    """{address: step where it begins} of the parts of one jaw's model: what a person made, and what the teeth the case is for
    ask of steps that make parts. Declared, never found in a result."""
    out = {a: part.begins for a, part in document.parts.items() if a.split(".")[0] == piece and part.begins in registry}
    teeth = tuple(int(t) for t in document.teeth.split() if tooth(int(t)).jaw == graph.jaws.get(piece))
    for step in registry.steps:
        if step.parts is None:
            continue
        try:
            settings = document.settings_for(step, piece)
        except BadSetting:
            continue  # said where the step stands
        if step.off is None or not step.off(settings):
            out |= {f"{piece}.{name}": step.begins or step.name for name in step.parts(graph.jaws.get(piece), teeth, settings)}
    return out


@cache
def standard() -> Registry:
    """All steps found in the folder of steps."""
    from . import steps

    return Registry(found_in(steps))


def _sheet() -> CaseSheet:
    return CaseSheet(standard())


SHEET = CASE = _sheet()
