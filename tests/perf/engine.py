"""The engine without geometry: how long it takes to know what stands where; and a body put together."""

from __future__ import annotations

import argparse
from collections.abc import Iterator

import manifold3d
import numpy as np

from bitecore.engine.gives import packed_points
from bitecore.files import stl
from bitecore.mesh import Mesh
from bitecore.ops.assembly import assemble
from bitecore.runsheet import CASE, CaseDocument, MemoryStore, PieceEntry, evaluate, resolve
from tests.shapes import jaws, sphere

from .table import Row, median_ms


def rows(upper: bytes, lower: bytes, args: argparse.Namespace) -> Iterator[Row]:
    for further in (0, 90):
        name = f"engine: resolve, {'a pair' if not further else f'a pair and {further} more scans'}"
        if args.only in name or args.only in "engine: one result came":
            yield from _resolved(name, further, args)
    if args.only in "engine: keys with 300 strokes":
        yield from _strokes(args)
    if args.only in "assembly":
        yield from _assembly(args)


def _case(further: int) -> tuple[CaseDocument, MemoryStore]:
    store = MemoryStore()
    # Scans that are no jaws: what is measured is the engine, not the fits of further jaws.
    scans = [*jaws(21), *(sphere(4 + i / 50, 12) for i in range(further))]
    pieces = [
        PieceEntry(id=f"p{i}", file=f"{i}.stl", sha256=store.blobs.write(stl.write_binary(mesh)), drop=i // 2)
        for i, mesh in enumerate(scans, 1)
    ]
    return CaseDocument(pieces=pieces), store


def _resolved(name: str, further: int, args: argparse.Namespace) -> Iterator[Row]:
    document, store = _case(further)
    graph = evaluate(document, CASE, store).graph
    note = f"{len(graph.nodes)} nodes"
    yield Row(name, median_ms(lambda: resolve(document, CASE, store), args.runs), note=note)
    again = median_ms(lambda: resolve(document, CASE, store, before=graph, ended={"base"}), args.runs)
    yield Row("engine: one result came, looked at anew", again, note=f"{note}; of a base")


def _strokes(args: argparse.Namespace) -> Iterator[Row]:
    """300 strokes of 60 points on a scan that follows its jaw."""
    store = MemoryStore()
    upper, lower = jaws(21)
    scans = [upper, lower, lower.moved(np.diag([1.0, 1, 1, 1]) + np.eye(4, k=3) * 40)]
    pieces = [
        PieceEntry(id=f"p{i}", file=f"{i}.stl", sha256=store.blobs.write(stl.write_binary(mesh)), drop=i // 3)
        for i, mesh in enumerate(scans, 1)
    ]
    rng = np.random.default_rng(1)
    digests = [store.blobs.write(packed_points(rng.uniform(-20, 20, (60, 3)))) for _ in range(300)]
    swab = {f"s{k}": {"points_mm": {"points": d, "count": 60}, "radius_mm": 1.5, "adds": True} for k, d in enumerate(digests, 1)}
    document = CaseDocument(pieces=pieces, settings={"follow": {"p3": {"swab": swab}}})
    evaluate(document, CASE, store, until="level")
    size = len(document.model_dump_json())
    ms = median_ms(lambda: resolve(document, CASE, store), args.runs)
    yield Row("engine: keys with 300 strokes", ms, reach_ms=100, note=f"document of {size / 1000:.0f} kB (reach 100)")


def _assembly(args: argparse.Namespace) -> Iterator[Row]:
    """A cavity, 20 blocks and 4 pins on a body of 200,000 triangles: in one go, and one after the other."""
    body = _body()
    low, high = body.vertices_mm.min(0), body.vertices_mm.max(0)
    at = np.linspace(low[0] + 6, high[0] - 6, 20)
    middle = (low + high) / 2
    blocks = [_mesh(manifold3d.Manifold.cube([1.2, 1.2, 2]).translate([x, middle[1], low[2] - 1])) for x in at]
    pins = [_mesh(manifold3d.Manifold.cylinder(14, 1.75, 1.75, 48).translate([x, middle[1], low[2] - 2])) for x in at[[2, 7, 12, 17]]]
    cavity = _mesh(manifold3d.Manifold.sphere(1.0, 96).scale(list((high - low) * 0.2)).translate(list(middle)))
    add, cut = [(f"block {i}", b) for i, b in enumerate(blocks)], [("cavity", cavity), *((f"pin {i}", p) for i, p in enumerate(pins))]
    whole = median_ms(lambda: assemble(body, add=add, cut=cut), min(args.runs, 3))

    def chain() -> None:
        made = body
        for one in add:
            made = assemble(made, add=[one]).body
        for one in cut:
            made = assemble(made, cut=[one]).body

    after_another = median_ms(chain, 1)
    note = f"{body.triangles:,} triangles, 25 solids; one after the other {after_another:,.0f} ms"
    yield Row("assembly: all solids in one go", whole, reach_ms=1900, note=note)


def _mesh(solid: manifold3d.Manifold) -> Mesh:
    out = solid.to_mesh64()
    return Mesh.of(np.asarray(out.vert_properties)[:, :3], np.asarray(out.tri_verts).astype(int))


def _body() -> Mesh:
    """A block with a wavy top, finely meshed: closed, of 200,000 triangles."""
    block = manifold3d.Manifold.cube([60.0, 45.0, 16.0]).refine(130)

    def wave(points: np.ndarray) -> np.ndarray:
        out = np.array(points)
        top = out[:, 2] > 15.9
        out[top, 2] += 2.5 * np.sin(out[top, 0] / 3) * np.cos(out[top, 1] / 3)
        return out

    return _mesh(block.warp_batch(wave))
