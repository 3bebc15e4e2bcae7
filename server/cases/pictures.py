"""The tray's picture: the models as they stand now."""

from __future__ import annotations

import hashlib
import json
from pathlib import Path
from typing import Any

import numpy as np

from bitecore.runsheet.who import CaseGraph, best_mesh, place_of
from bitecore.views import VERSION, ViewJob
from runs.owning import pictures


def picture_job(owner_id: int, graph: CaseGraph) -> ViewJob | None:
    """The best mesh of each jaw in its place on the bench; None while there is nothing to show."""
    meshes: list[tuple[str, list | None]] = []
    for piece in graph.jaws:
        best = best_mesh(graph, piece)
        if best:
            # A picture may be seen under the veil: a body that bears the patient's name is shown with dots.
            node = graph.node("assemble", piece) if best[0] == "body" else None
            meshes.append(((node and node.mesh("veiled")) or best[1], place_of(graph, piece, "home_to_bench")))
    if not meshes:
        return None
    seed = hashlib.sha256(json.dumps([VERSION, meshes]).encode()).hexdigest()[:40]
    return ViewJob("picture", tuple(meshes), str(picture_path(owner_id, seed)))


def turn_of(digest: str, about: dict[str, Any]) -> tuple[str, list]:
    """(name of the strip that turns a scan, the matrix it is turned by): upright by what Intake found, the tips of an
    upper downwards."""
    up, front = np.array(about["up"], float), np.array(about["front"], float)
    z = -up if about["jaw"] == "upper" else up
    y = -front - z * float(-front @ z)
    y /= np.linalg.norm(y) or 1.0
    matrix = np.eye(4)
    matrix[:3, :3] = np.stack([np.cross(y, z), y, z])
    rows = [[round(float(v), 5) for v in row] for row in matrix]
    return hashlib.sha256(json.dumps(["turn", VERSION, digest, rows]).encode()).hexdigest()[:40], rows


def picture_path(owner_id: int, name: str) -> Path:
    """Where a still picture lies."""
    return pictures(owner_id) / f"{name}.png"


def turn_job(owner_id: int, digest: str, about: dict[str, Any]) -> ViewJob | None:
    name, rows = turn_of(digest, about)
    path = picture_path(owner_id, name)
    return None if path.exists() else ViewJob("turn", ((digest, rows),), str(path))
