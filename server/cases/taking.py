"""What is taken out of a case as it stands: a scan in its place, and how a whole case is called."""

from __future__ import annotations

from typing import Any

import numpy as np

from bitecore.engine.gives import unpack
from bitecore.files import stl
from bitecore.runsheet.export import safe_name
from bitecore.runsheet.who import place_of
from ground.errors import Refused
from house.services import newest
from runs.services import look
from runs.store import ServerStore

from .documents import document_of
from .handed import words_of
from .names import Names
from .services import visible


def pack_name(user: Any, number: str, *, veiled: bool) -> str:
    """What a whole case is called, by the house's pattern. Raises StepFailed for a word that is not known."""
    words = words_of(document_of(visible(user, number)), veiled=veiled) | {"number": number}
    return f"{safe_name(newest().general.case_name, words)}.zip"


def scan_as_it_stands(user: Any, number: str, piece: str, frame: str, *, veiled: bool) -> tuple[str, bytes]:
    """(file name, binary STL) of one scan of a case in bench, bite or home coordinates (mm)."""
    case = visible(user, number)
    store, graph = ServerStore(), look(case)
    node = graph.node("intake", piece)
    if node is None or node.manifest is None or "mesh" not in node.manifest.values:
        raise Refused("This scan is not looked at yet. Try again in a moment.", code="no-mesh", status=409)
    mesh = unpack(node.manifest.values["mesh"], store.blobs)
    if frame != "home":
        matrix = place_of(graph, piece, f"home_to_{frame}")
        if matrix is None:
            raise Refused(f"This scan has no place in {frame} coordinates yet.", code="no-place", status=409)
        mesh = mesh.moved(np.array(matrix))
    called = Names(document_of(case), veiled=veiled).of(piece).rsplit("/", 1)[-1].rsplit(".", 1)[0]
    stem = safe_name(called.replace("{", "(").replace("}", ")"), {})
    return f"{number}_{stem}_{frame}.stl", stl.write_binary(mesh, title=f"{number} {frame}")
