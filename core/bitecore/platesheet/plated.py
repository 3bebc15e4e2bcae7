"""A plate in layers: the bodies that lie on it, each in layers of its own that are set where it lies, and what layers.json says of
them."""

from __future__ import annotations

from ..blobs import Blobs
from ..parts.layer_zip import PlateLayers, laid_out
from .sheet import PlateGraph


def digests(graph: PlateGraph) -> list[str]:
    """Of the layers of all bodies, and where they lie (pixels); none while one is not worked out, or nothing lies there."""
    pack = graph.node("pack")
    if pack is None or pack.good is None:
        return []
    out = []
    for ident in graph.bodies:
        at = pack.json("at_px", ident)
        node = graph.node("layers", ident)
        if at is None:
            continue
        if node is None or node.good is None or "runs" not in node.good.values:
            return []
        fine, *thick = (f["file"] for f in node.good.values["runs"]["files"])
        out.append(" ".join([fine, str(at[0]), str(at[1]), *thick]))
    return out


def plate_layers(graph: PlateGraph, blobs: Blobs) -> PlateLayers | None:
    """None while they are not worked out."""
    node, known = graph.node("pack"), digests(graph)
    if node is None or not known:
        return None
    return laid_out(known, node.json("plate"), node.json("printing"), blobs)
