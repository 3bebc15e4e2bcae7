"""report.json: a stable format of our own, to which later steps only add."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

import numpy as np

from bitecore.engine.gives import unpack
from bitecore.engine.graph import Node
from bitecore.errors import BenchError
from bitecore.parts.layer_zip import written
from bitecore.runsheet import CaseDocument, Evaluation, Registry, ResultStore
from bitecore.runsheet.export import Body, OutFile, export, lies_on_plate, plate_file
from bitecore.runsheet.part_names import kind_of
from bitecore.runsheet.plated import plate_layers
from bitecore.runsheet.proof_pdf import proof_pdf
from bitecore.runsheet.proofed import proof_of
from bitecore.runsheet.proofed import written as written_proof
from bitecore.runsheet.toothed import teeth_files
from bitecore.runsheet.who import CaseGraph, best_mesh, place_of

FORMAT = 1
_FRAMES = {"bench": ("level", "home_to_bench"), "bite": ("bite", "home_to_bite"), "plate": ("plate", "home_to_plate")}


def write_outputs(graph: CaseGraph, store: ResultStore, out: Path, args: argparse.Namespace, registry: Registry) -> list[dict]:
    """Write the files of Hand-off; where it was not asked for or not reached, the meshes as they stand."""
    node = graph.node("hand-off")
    if node and node.good:
        for ref in node.good.values["files"]["files"]:
            (out / ref["name"]).write_bytes(store.blobs.read(ref["file"]))
        return node.json("outputs") or []
    files = _as_they_stand(graph, store, args.frame or "bench")
    for file in files:
        (out / file.name).write_bytes(file.data)
    return [row for file in files for row in file.rows]


def write_layers(graph: CaseGraph, store: ResultStore, out: Path) -> None:
    """layers.zip and plate.3mf of the plate. Raises BenchError where it was not reached."""
    found = plate_layers(graph, store.blobs)
    if found is None:
        raise BenchError("There are no layers to write: the plate was not worked out.", code="no-layers")
    (out / "layers.zip").write_bytes(written(found))
    bodies = []
    for step, output, kind in (("assemble", "body", "body"), ("supports", "mesh", "supports")):
        for node in graph.of_step(step):
            ref = node.good and node.good.values.get(output)
            if ref:
                lies = _json(graph, "plate", "home_to_plate", node.piece)
                what = kind_of(node.piece) if kind == "body" else kind
                bodies.append(lies_on_plate(node.piece, node.jaw, what, unpack(ref, store.blobs), lies))
    (out / "plate.3mf").write_bytes(plate_file(bodies).data)


def write_teeth(graph: CaseGraph, store: ResultStore, out: Path) -> None:
    """teeth.json and teeth_{piece}.ply, as far as teeth are told."""
    for name, data in teeth_files(graph, store.blobs).items():
        (out / name).write_bytes(data)


def write_proof(graph: CaseGraph, store: ResultStore, out: Path, document: CaseDocument, registry: Registry) -> None:
    """proof.json and proof.pdf, where there are files."""
    proof = proof_of(graph, document, registry, store.blobs, lambda piece: document.entry(piece).file)
    if proof["outputs"]:
        (out / "proof.json").write_bytes(written_proof(proof))
        (out / "proof.pdf").write_bytes(proof_pdf(proof))


def _as_they_stand(graph: CaseGraph, store: ResultStore, frame: str) -> list[OutFile]:
    bodies = []
    for piece, jaw in graph.jaws.items():
        best = best_mesh(graph, piece)
        matrix = np.eye(4).tolist() if frame == "home" else _json(graph, *_FRAMES[frame], piece)
        if best is not None and matrix is not None:
            kind, digest = best
            bodies.append(Body(piece, jaw, kind, unpack({"mesh": digest}, store.blobs), np.array(matrix)))
    # Scans are open surfaces, which 3MF's core specification does not take as models.
    solid = bool(bodies) and all(b.kind == "body" for b in bodies)
    return export(bodies, frame=frame, pattern="{kind}_{jaw}", words={}, threemf_all=solid)


def _json(graph: CaseGraph, step: str, name: str, piece: str = "*") -> Any:
    node = graph.node(step, piece) or graph.node(step)
    return node.json(name, piece) if node else None


def build_report(
    document: CaseDocument, evaluation: Evaluation, registry: Registry, outputs: list[dict], seconds: float, until: str
) -> dict:
    """The report as plain JSON. Matrices are null while unknown."""
    graph = evaluation.graph
    wanted = registry.up_to(until) & {s.name for s in registry.shown}
    inputs = [_input(entry.id, entry.file, graph, document) for entry in document.pieces]
    nodes = sorted((n for n in graph.nodes.values() if n.step.name in wanted), key=lambda node: node.step.number)
    steps = [_step(node, evaluation) for node in nodes]
    _with_parts(steps, graph)
    for step in steps:
        if step["step"] == "bite":
            step |= _bite(graph)
    return {"format": FORMAT, "inputs": inputs, "steps": steps, "outputs": outputs, "seconds": round(seconds, 3)}


def _input(piece: str, file: str, graph: CaseGraph, document: CaseDocument) -> dict:
    node = graph.node("intake", piece)
    about = _json(graph, "intake", "about", piece) or {}
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
        "follows": _json(graph, "follow", "place", piece),
        "flags": [*flags, *_flags(graph.nodes.get(f"follow/{piece}"))],
    }


def _flags(node: Node | None) -> list[dict]:
    return list(node.manifest.flags) if node and node.manifest else []


def _same_file(first: str) -> dict:
    from bitecore.runsheet import Flag

    return Flag("same-file", "note", f"The same file as “{first}”, byte for byte.").as_json()


def _bite(graph: CaseGraph) -> dict:
    """method : where the relation is from; fit : the bite scans with residuals and the estimate; lent : by an earlier
    pair; contacts : each with its place in the lower's home, depth (overlap, mm) and area."""
    return {
        "method": _json(graph, "bite", "method"),
        "fit": {"relation": _json(graph, "fit", "relation"), "scans": _json(graph, "fit", "scans") or []},
        "lent": _json(graph, "fit", "lent"),
        "contacts": _json(graph, "contacts", "contacts") or [],
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


def _with_parts(steps: list[dict], graph: CaseGraph) -> None:
    """Beside what a step found of a jaw, what the parts that are shown with it did."""
    for step in steps:
        own = [n for n in graph.nodes.values() if n.step.part_of == step["step"] and step["piece"] and n.piece == step["piece"]]
        for manifest in [n.manifest for n in own if n.manifest]:
            step["readings"] = [*step["readings"], *manifest.readings]
            step["flags"] = [*step["flags"], *manifest.flags]


def exit_status(graph: CaseGraph, registry: Registry, until: str) -> int:
    """0 when every step asked for finished without a stop flag, else 3."""
    for step in [s for s in registry.shown if s.name in registry.up_to(until)]:
        nodes = graph.of_step(step.name)
        if not nodes or any(n.state not in ("done", "look", "off") for n in nodes):
            return 3
    return 0
