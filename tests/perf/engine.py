"""The engine without geometry: how long it takes to know what stands where."""

from __future__ import annotations

import argparse
from collections.abc import Iterator

from bitecore.files import stl
from bitecore.runsheet import CASE, CaseDocument, MemoryStore, PieceEntry, evaluate, resolve
from tests.shapes import jaws, sphere

from .table import Row, median_ms


def rows(upper: bytes, lower: bytes, args: argparse.Namespace) -> Iterator[Row]:
    for further in (0, 60):
        name = f"engine: resolve, {'a pair' if not further else f'a pair and {further} more scans'}"
        if args.only not in name:
            continue
        store = MemoryStore()
        # Scans that are no jaws: what is measured is the engine, not the fits of further jaws.
        scans = [*jaws(21), *(sphere(4 + i / 50, 12) for i in range(further))]
        pieces = [
            PieceEntry(id=f"p{i}", file=f"{i}.stl", sha256=store.blobs.write(stl.write_binary(mesh)), drop=i // 2)
            for i, mesh in enumerate(scans, 1)
        ]
        document = CaseDocument(pieces=pieces)
        graph = evaluate(document, CASE, store).graph
        ms = median_ms(lambda d=document, s=store: resolve(d, CASE, s, demanded=frozenset()), args.runs)
        yield Row(name, ms, note=f"{len(graph.nodes)} nodes")
