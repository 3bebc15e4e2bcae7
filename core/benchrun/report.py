"""report.json: a stable format of our own, to which later steps only add."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

import numpy as np

from bitecore.runsheet import CaseDocument, Evaluation, Registry, ResultStore
from bitecore.runsheet.export import Body, OutFile, export
from bitecore.runsheet.graph import Graph, Node, place_of
from bitecore.runsheet.store import unpack

FORMAT = 1
_FRAMES = {"bench": ("level", "home_to_bench"), "bite": ("bite", "home_to_bite"), "plate": ("plate", "home_to_plate")}


def value(node: Node | None, name: str, piece: str = "") -> Any:
    """The JSON value of a node's output, None while unknown."""
    if node is None or node.manifest is None:
        return None
    ref = node.manifest.values.get(name)
    if ref and "by_piece" in ref:
        ref = ref["by_piece"].get(piece)
    return ref.get("json") if ref else None


def write_outputs(graph: Graph, store: ResultStore, out: Path, args: argparse.Namespace, registry: Registry) -> list[dict]:
    """Write the files of Hand-off; where it was not asked for or not reached, the meshes as they stand."""
    node = graph.node("hand-off")
    if node and node.manifest and not node.manifest.stopped:
        refs = [r for r in node.manifest.values.values() if "file" in r]
        for ref in refs:
            (out / ref["name"]).write_bytes(store.blobs.read(ref["file"]))
        return value(node, "outputs") or []
    files = _as_they_stand(graph, store, args.frame or "bench")
    for file in files:
        (out / file.name).write_bytes(file.data)
    return [row for file in files for row in file.rows]


def _as_they_stand(graph: Graph, store: ResultStore, frame: str) -> list[OutFile]:
    bodies = []
    for piece, jaw in graph.jaws.items():
        for step, name, kind in (("base", "body", "body"), ("trim", "mesh", "trimmed"), ("intake", "mesh", "scan")):
            node = graph.node(step, piece)
            if node and node.manifest and name in node.manifest.values:
                matrix = np.eye(4).tolist() if frame == "home" else value(graph.node(_FRAMES[frame][0]), _FRAMES[frame][1], piece)
                mesh = unpack(node.manifest.values[name], store.blobs)
                if matrix is not None:
                    bodies.append(Body(piece, jaw, kind, mesh, np.array(matrix)))
                break
    # Scans are open surfaces, which 3MF's core specification does not take as models.
    solid = bool(bodies) and all(b.kind == "body" for b in bodies)
    return export(bodies, frame=frame, pattern="{kind}_{jaw}", words={}, threemf_all=solid)


def build_report(
    document: CaseDocument, evaluation: Evaluation, registry: Registry, outputs: list[dict], seconds: float, until: str
) -> dict:
    """The report as plain JSON. Matrices are null while unknown."""
    graph = evaluation.graph
    wanted = {s.name for s in registry.up_to(until) if not s.part_of}
    inputs = [_input(entry.id, entry.file, graph, document) for entry in document.pieces]
    steps = [_step(node, evaluation) for node in graph.nodes.values() if node.step.name in wanted]
    for step in steps:
        if step["step"] == "bite":
            step |= _bite(graph)
    return {"format": FORMAT, "inputs": inputs, "steps": steps, "outputs": outputs, "seconds": round(seconds, 3)}


def _input(piece: str, file: str, graph: Graph, document: CaseDocument) -> dict:
    node = graph.node("intake", piece)
    about = value(node, "about") or {}
    flags = _flags(node)
    first = next(p for p in document.pieces if p.sha256 == document.entry(piece).sha256)
    if first.id != piece:
        flags.append(_same_file(first.file))
    return {
        "piece": piece,
        "file": file,
        "kind": about.get("kind", "other"),
        "jaw": graph.jaws.get(piece, about.get("jaw")),
        "confidence": about.get("confidence", 0.0),
        "unit_mm": about.get("unit_mm"),
        "turned_inside_out": about.get("turned_inside_out", False),
        "facing": {"up": about["up"], "front": about["front"]} if about else None,
        "home_to_bite": place_of(graph, piece, "home_to_bite"),
        "home_to_bench": place_of(graph, piece, "home_to_bench"),
        "follows": value(graph.node("follow", piece), "place"),
        "flags": [*flags, *_flags(graph.nodes.get(f"follow/{piece}"))],
    }


def _flags(node: Node | None) -> list[dict]:
    return list(node.manifest.flags) if node and node.manifest else []


def _same_file(first: str) -> dict:
    from bitecore.runsheet import Flag

    return Flag("same-file", "note", f"The same file as “{first}”, byte for byte.").as_json()


def _bite(graph: Graph) -> dict:
    """method : where the relation is from; fit : the bite scans with residuals and the estimate; lent : by an earlier
    pair; contacts : each with its place in the lower's home, depth (overlap, mm) and area."""
    return {
        "method": value(graph.node("bite"), "method"),
        "fit": {"relation": value(graph.node("fit"), "relation"), "scans": value(graph.node("fit"), "scans") or []},
        "lent": value(graph.node("fit"), "lent"),
        "contacts": value(graph.node("contacts"), "contacts") or [],
    }


def _step(node: Node, evaluation: Evaluation) -> dict:
    manifest, task = node.manifest, node.task
    return {
        "step": node.step.name,
        "piece": None if node.piece == "*" else node.piece,
        "jaw": node.jaw,
        "state": node.state,
        "seconds": manifest.seconds if manifest else None,
        "cached": bool(manifest and task and task.key not in evaluation.worked),
        "settings": task.settings if task else {},
        "readings": manifest.readings if manifest else [],
        "flags": manifest.flags if manifest else [],
    }


def exit_status(graph: Graph, registry: Registry, until: str) -> int:
    """0 when every step asked for finished without a stop flag, else 3."""
    for step in [s for s in registry.up_to(until) if not s.part_of]:
        nodes = [n for n in graph.nodes.values() if n.step.name == step.name]
        if not nodes or any(n.state not in ("done", "look") for n in nodes):
            return 3
    return 0
