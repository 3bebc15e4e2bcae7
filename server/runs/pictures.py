"""The tray's picture: the models as they stand now."""

from __future__ import annotations

import hashlib
import json

from django.conf import settings

from bitecore.runsheet.graph import Graph
from bitecore.views import VERSION, ViewJob

_STAGES = (("base", "body"), ("trim", "mesh"), ("intake", "mesh"))


def picture_job(graph: Graph) -> ViewJob | None:
    """The best mesh of each jaw in its place on the bench; None while there is nothing to show."""
    meshes: list[tuple[str, list | None]] = []
    level = graph.node("level")
    for piece in graph.jaws:
        for step, name in _STAGES:
            node = graph.node(step, piece)
            ref = node.manifest.values.get(name) if node and node.manifest else None
            if ref:
                meshes.append((ref["mesh"], _matrix(level, piece)))
                break
    if not meshes:
        return None
    seed = hashlib.sha256(json.dumps([VERSION, meshes]).encode()).hexdigest()[:40]
    return ViewJob("picture", tuple(meshes), str(settings.VIEW_ROOT / "pictures" / f"{seed}.png"))


def _matrix(level, piece: str) -> list | None:  # noqa: ANN001
    if level is None or level.manifest is None:
        return None
    ref = level.manifest.values.get("home_to_bench", {}).get("by_piece", {}).get(piece)
    return ref["json"] if ref else None
