"""Every step by itself, in this process, its inputs at hand."""

from __future__ import annotations

import argparse
from collections.abc import Iterator

from bitecore import views
from bitecore.progress import QUIET
from bitecore.runsheet import CaseDocument, MemoryStore, PieceEntry, evaluate, standard
from bitecore.runsheet.graph import resolve
from bitecore.runsheet.store import unpack
from bitecore.runsheet.task import perform

from .table import Row, median_ms

# measures.md, in ms for a pair of 150,000 triangles; two jaws of a step go side by side in the application.
REACH = {"intake": 1000, "bite": 2000, "level": 3000, "trim": 1500, "base": 3000}


def rows(upper: bytes, lower: bytes, args: argparse.Namespace) -> Iterator[Row]:
    store = MemoryStore()
    pieces = [PieceEntry(id=i, file=f"{i}.stl", sha256=store.blobs.write(d)) for i, d in (("u", upper), ("l", lower))]
    document = CaseDocument(number="perf", pieces=pieces)
    demanded = frozenset({"hand-off"})
    graph = evaluate(document, standard(), store, demanded=demanded).graph
    for node in graph.nodes.values():
        name = f"step {node.step.name}{' ' + node.jaw if node.piece != '*' and node.jaw else ''}"
        if args.only in name and node.task:
            task = node.task
            ms = median_ms(lambda task=task: perform(task, standard(), store.blobs, QUIET), args.runs)  # type: ignore[misc]
            reach = REACH.get(node.step.name) if args.tris <= 160_000 else None
            yield Row(name, ms, reach_ms=reach, note=node.manifest.figure if node.manifest else "")
    if args.only in "undo: look up all results":
        ms = median_ms(lambda: resolve(document, standard(), store, demanded=demanded), args.runs)
        yield Row("undo: look up all results", ms, reach_ms=300)
    scan = graph.node("intake", "u")
    if scan and scan.manifest and args.only in "stage copy":
        mesh = unpack(scan.manifest.values["mesh"], store.blobs)
        yield Row("stage copy, light", median_ms(lambda: views.glb(mesh, light=True), args.runs))
        yield Row("stage copy, full", median_ms(lambda: views.glb(mesh), args.runs), note=f"{len(views.glb(mesh)) / 1e6:.1f} MB")
