"""The teeth of a case as files: teeth.json, and of each jaw its mended surface with a tooth's number at every triangle."""

from __future__ import annotations

import json
from typing import Any

from ..anatomy.teeth.numbers import numbers_of_faces
from ..blobs import Blobs
from ..engine.gives import unpack
from ..files import ply
from .who import CaseGraph

FORMAT = 1


def teeth_of(graph: CaseGraph, blobs: Blobs) -> dict[str, Any] | None:
    """teeth.json: every tooth with its margin, of the jaws of which they are told; None while of none. Lengths in mm, in each jaw's
    home."""
    jaws = []
    for piece, jaw in graph.jaws.items():
        node = graph.node("teeth", piece)
        if node is not None and node.good is not None:
            told = json.loads(blobs.read(node.good.values["margins"]["files"][0]["file"]))
            jaws.append({"piece": piece, "jaw": jaw, "frame": "home", "teeth": told})
    return {"format": FORMAT, "jaws": jaws} if jaws else None


def teeth_files(graph: CaseGraph, blobs: Blobs) -> dict[str, bytes]:
    """By name; empty while of no jaw the teeth are told."""
    found = teeth_of(graph, blobs)
    if found is None:
        return {}
    out = {"teeth.json": (json.dumps(found, indent=1) + "\n").encode()}
    for jaw in found["jaws"]:
        out[f"teeth_{jaw['piece']}.ply"] = labelled(graph, jaw["piece"], blobs) or b""
    return out


def labelled(graph: CaseGraph, piece: str, blobs: Blobs) -> bytes | None:
    """The mended surface of a jaw as PLY, each face with its tooth: 0 gum, -1 not told; None while it is not worked out."""
    node = graph.node("teeth", piece)
    if node is None or node.good is None:
        return None
    mesh = unpack(node.good.values["mesh"], blobs)
    return ply.write(mesh, labels=("fdi", numbers_of_faces(mesh)))
