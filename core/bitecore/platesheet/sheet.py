"""The sheet of a plate: what its steps run over, and what they need that no step gives."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cache
from typing import Any

from ..engine.graph import Graph, Node
from ..engine.model import ALL, Need, Step
from ..engine.registry import Registry, found_in
from ..engine.sheet import Sheet
from .document import PlateBody, PlateDocument


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
        if need.each:
            found = {b.id: _given(need.value, b) for b in document.bodies}
            return {"by_piece": {ident: ref for ident, ref in found.items() if ref is not None}}
        return _given(need.value, document.body(node.piece))


def _given(value: str, body: PlateBody) -> dict[str, Any] | None:
    """What `source` gives of a body: mesh, supports, stand."""
    if value == "mesh":
        return {"mesh": body.mesh}
    if value == "supports":
        return {"mesh": body.supports} if body.supports else None
    stand = {"up": body.up, "front": body.front, "name": body.called, "place": body.place, "kit": body.kit}
    return {"json": stand | ({"margin": body.margin} if body.margin else {}) | ({"as_is": True} if body.as_is else {})}


@cache
def standard() -> Registry:
    """All steps found in the folder of steps."""
    from . import steps

    return Registry(found_in(steps))


SHEET = PLATE = PlateSheet(standard())
