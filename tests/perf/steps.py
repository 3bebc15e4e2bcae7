"""Every step by itself, in this process, its inputs at hand."""

from __future__ import annotations

import argparse
import io
from collections.abc import Callable, Iterator
from typing import Any

import numpy as np
import trimesh

from bitecore import views
from bitecore.anatomy.bitescans import fit_bite
from bitecore.anatomy.following import follow
from bitecore.engine.gives import unpack
from bitecore.engine.task import perform
from bitecore.files import obj_write, ply, read_mesh, threemf
from bitecore.ops.weld import weld
from bitecore.progress import QUIET
from bitecore.runsheet import CASE, CaseDocument, MemoryStore, PieceEntry, evaluate, resolve, standard
from demo import rescans
from demo.arch import ArchPlan
from demo.variants import turned
from tests.trial.bite import looked_at

from .table import Row, median_ms

# What is to be reached (docs/measured.md), in ms for a pair of 150,000 triangles; two jaws of a step go side by side in the application.
REACH = {
    "intake": 700,
    "bite": 2000,
    "level": 3000,
    "trim": 1500,
    "clean": 1500,
    "teeth": 3000,
    "edge": 3000,
    "marked": 300,
    "base": 3000,
    "hollow": 5000,
    "label": 1000,
    "articulate": 3000,
    "layers": 2500,
    "check": 2500,
}


def _fits(args: argparse.Namespace) -> Iterator[Row]:
    """The bite by two bite scans, and a rescan laid on its jaw, beside a library's ICP from the same start."""
    names = ("fit: bite by two bite scans", "fit: a rescan on its jaw", "read: the other formats")
    if not any(args.only in name for name in names) or args.tris > 160_000:
        return
    plan = ArchPlan(seed=11, grid_mm=0.33 * (150_000 / args.tris) ** 0.5, noise_mm=0.015)
    truth, rng = rescans.true_pair(plan), np.random.default_rng(1)
    jaws = [looked_at(rescans.as_scanned(j.mesh, plan, rng).moved(turned(i))) for i, j in enumerate((truth.upper, truth.lower))]
    bites = {k: rescans.bite_scan(truth, plan, left=k == "l", rng=rng).moved(turned(ord(k))) for k in ("l", "r")}
    if args.only in names[0]:
        ms = median_ms(lambda: fit_bite(*jaws, bites), args.runs)
        yield Row(names[0], ms, reach_ms=2000)
    if args.only in names[1]:
        again = looked_at(rescans.as_scanned(rescans.otherwise_meshed(truth.lower.mesh, rng), plan, rng).moved(turned(7)))
        yield Row(names[1], median_ms(lambda: follow(again, jaws[1]), args.runs), reach_ms=2000)
    for name, write, load in FORMATS:
        if args.only in names[2] or args.only in f"read {name}":
            data = write(jaws[0].mesh)
            theirs = median_ms(lambda d=data, t=load: trimesh.load(io.BytesIO(d), file_type=t), args.runs)  # type: ignore[misc]
            ours = median_ms(lambda d=data, n=name: read_mesh(f"u.{n}", d), args.runs)  # type: ignore[misc]
            yield Row(f"read {name}", ours, beside="trimesh", beside_ms=theirs)


FORMATS: tuple[tuple[str, Callable[[Any], bytes], str], ...] = (
    ("ply", ply.write, "ply"),
    ("obj", obj_write.write, "obj"),
    ("glb", lambda m: trimesh.Trimesh(m.vertices_mm, m.faces, process=False).export(file_type="glb"), "glb"),
    ("3mf", lambda m: threemf.write([("u", m)]), "3mf"),
)


def _by_hand(lower: bytes) -> dict[str, Any]:
    """An edge line, a fence from the front that catches the far side, a stroke of touch-up over gum and a map of what reducing cost."""
    mesh = weld(read_mesh("l.stl", lower).points).mesh
    low, high = mesh.vertices_mm.min(0), mesh.vertices_mm.max(0)
    middle, deep = (low + high) / 2, low[2] + 0.25 * (high[2] - low[2])
    ring = [[middle[0] + x, low[1] - 10, deep + z] for x, z in ((-9, -3), (9, -3), (9, 3), (-9, 3))]
    fence = {"kind": "fence", "points_mm": ring, "eye": [middle[0], low[1] - 220, deep], "reach": "near"}
    at = mesh.vertices_mm[np.abs(mesh.vertices_mm - [middle[0], low[1], deep]).sum(1).argmin()]
    stroke = {"kind": "add", "points_mm": [(at + [0.5 * k, 0, 0]).tolist() for k in range(20)], "radius_mm": 2.0}
    return {
        "edge": {"*": {"edge": "vestibule", "inner": "band"}},
        "marked": {"l": {"marks": {"m1": fence}}},
        "touch": {"l": {"strokes": {"s1": stroke}}},
        "reduce": {"*": {"reduce": "deviation"}},
    }


def rows(upper: bytes, lower: bytes, args: argparse.Namespace) -> Iterator[Row]:
    store = MemoryStore()
    pieces = [PieceEntry(id=i, file=f"{i}.stl", sha256=store.blobs.write(d)) for i, d in (("u", upper), ("l", lower))]
    settings = {"hollow": {"*": {"style": "open"}}, "label": {"*": {"style": "engraved"}}, "plate": {"*": {"printer": "heron"}}}
    settings["articulate"] = {"*": {"style": "pins"}}
    by_hand = _by_hand(lower)
    document = CaseDocument(number="perf", pieces=pieces, settings=settings | by_hand)
    demanded = frozenset({"hand-off"})
    graph = evaluate(document, CASE, store, demanded=demanded).graph
    for node in graph.nodes.values():
        name = f"step {node.step.name}{' ' + node.jaw if node.piece != '*' and node.jaw else ''}"
        if args.only in name and node.task:
            task = node.task
            ms = median_ms(lambda task=task: perform(task, standard(), store.blobs, QUIET), args.runs)  # type: ignore[misc]
            reach = REACH.get(node.step.name) if args.tris <= 160_000 else None
            yield Row(name, ms, reach_ms=reach, note=node.manifest.figure if node.manifest else "")
    yield from _fits(args)
    if args.only in "undo: look up all results":
        ms = median_ms(lambda: resolve(document, CASE, store, demanded=demanded), args.runs)
        yield Row("undo: look up all results", ms, reach_ms=300)
    scan = graph.node("intake", "u")
    if scan and scan.manifest and args.only in "stage copy":
        mesh = unpack(scan.manifest.values["mesh"], store.blobs)
        yield Row("stage copy, light", median_ms(lambda: views.glb(mesh, light=True), args.runs))
        yield Row("stage copy, full", median_ms(lambda: views.glb(mesh), args.runs), note=f"{len(views.glb(mesh)) / 1e6:.1f} MB")
