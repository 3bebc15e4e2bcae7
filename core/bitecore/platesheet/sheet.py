"""The sheet of a plate: what its steps run over, and what they need that no step gives."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cache
from typing import Any

from ..engine.graph import Graph, Node
from ..engine.model import ALL, Need, Step
from ..engine.registry import Registry, found_in
from ..engine.sheet import Sheet
from .document import PlateDocument


@dataclass
class PlateGraph(Graph):
    """bodies : the ids of those that lie on the plate."""

    bodies: list[str] = field(default_factory=list)


class PlateSheet(Sheet[PlateDocument, PlateGraph]):
    """Bodies lie on it by their ids; `source` gives their meshes and how they stand."""

    name, module = "plate", __name__

    def begin(self, document: PlateDocument) -> PlateGraph:
        return PlateGraph(bodies=[body.id for body in document.bodies])

    def addresses(self, step: Step, document: PlateDocument, graph: PlateGraph) -> list[str]:
        return [ALL] if step.over.what == "whole" else list(graph.bodies)

    def each(self, graph: PlateGraph) -> list[str]:
        return list(graph.bodies)

    def tag(self, node: Node, graph: PlateGraph) -> dict[str, Any]:
        return {"piece": node.piece}

    def outside(self, need: Need, node: Node, document: PlateDocument, graph: PlateGraph) -> Any:
        if need.step == "shelf":
            return document.record_ref(node.step, need.value, node.piece)
        if need.value == "mesh":
            return {"by_piece": {b.id: {"mesh": b.mesh} for b in document.bodies}}
        return {"by_piece": {b.id: {"json": {"up": b.up, "front": b.front, "name": b.called}} for b in document.bodies}}


@cache
def standard() -> Registry:
    """All steps found in the folder of steps."""
    from . import steps

    return Registry(found_in(steps))


SHEET = PLATE = PlateSheet(standard())
