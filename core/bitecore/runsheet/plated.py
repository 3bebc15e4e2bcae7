"""The plate of a case in layers: the bodies that lie on it, and what layers.json says of them."""

from __future__ import annotations

from ..blobs import Blobs
from ..parts.layer_zip import PlateLayers, laid_out
from .who import CaseGraph


def digests(graph: CaseGraph) -> list[str]:
    """Of the layers of all bodies; none while one is not worked out."""
    nodes = graph.of_step("layers")
    if not nodes or any(n.good is None for n in nodes):
        return []
    return [n.good.values["runs"]["files"][0]["file"] for n in nodes if n.good is not None]


def plate_layers(graph: CaseGraph, blobs: Blobs) -> PlateLayers | None:
    """None while they are not worked out."""
    node, known = graph.node("plate"), digests(graph)
    if node is None or node.good is None or not known:
        return None
    return laid_out(known, node.json("plate"), node.json("printing"), blobs)
