"""The kernels, each beside a general-purpose library doing the same on the same data."""

from __future__ import annotations

import argparse
import io
from collections.abc import Callable, Iterator
from typing import Any

import igl
import numpy as np
import trimesh

from bitecore.files import read_mesh, stl, threemf
from bitecore.mesh import Mesh, border_loops, edge_table, face_components, vertex_normals
from bitecore.ops.base import base
from bitecore.ops.border import ease
from bitecore.ops.clip import clip, plane_values
from bitecore.ops.closest import ClosestPoints
from bitecore.ops.holes import close_holes
from bitecore.ops.mend import mend
from bitecore.ops.relief import plaster_shade
from bitecore.ops.upright import Plan
from bitecore.ops.weld import weld

from .table import Row, median_ms


def _fresh(mesh: Mesh) -> Mesh:
    """The same arrays without what was remembered about them."""
    return Mesh(mesh.vertices_mm, mesh.faces, mesh.groups, mesh.source)


def _theirs(mesh: Mesh) -> trimesh.Trimesh:
    return trimesh.Trimesh(mesh.vertices_mm, mesh.faces, process=False)


def rows(upper: bytes, lower: bytes, args: argparse.Namespace) -> Iterator[Row]:
    read = weld(read_mesh("u.stl", upper).points).mesh
    mended = mend(read).mesh
    whole, _, _ = close_holes(mended, up_to_mm=12)
    other = weld(read_mesh("l.stl", lower).points).mesh
    crowns = other.vertices_mm[other.vertices_mm[:, 2] > np.quantile(other.vertices_mm[:, 2], 0.9) - 7][:30_000]
    tree = ClosestPoints(whole)
    faces64 = whole.faces.astype(np.int64)
    up = [0, 0, -1.0]

    def their_mend() -> None:
        mesh = _theirs(read)
        mesh.update_faces(mesh.unique_faces())
        mesh.fix_normals(multibody=True)
        mesh.split(only_watertight=False)

    def their_clip() -> None:
        _theirs(whole).slice_plane(whole.vertices_mm.mean(0), [0, 1, 0])

    table: list[tuple[str, Callable[[], Any], Callable[[], Any] | None, str]] = [
        (
            "read binary STL and weld",
            lambda: weld(read_mesh("u.stl", upper).points),
            lambda: trimesh.load(io.BytesIO(upper), file_type="stl"),
            "trimesh",
        ),
        ("edges", lambda: edge_table(_fresh(read)), lambda: igl.edge_topology(read.vertices_mm, read.faces.astype(np.int64)), "libigl"),
        (
            "components",
            lambda: face_components(_fresh(read)),
            lambda: trimesh.graph.connected_component_labels(_theirs(read).face_adjacency, node_count=len(read.faces)),
            "trimesh",
        ),
        ("border loops", lambda: border_loops(_fresh(mended)), lambda: _theirs(mended).outline(), "trimesh"),
        ("vertex normals", lambda: vertex_normals(_fresh(read)), lambda: _theirs(read).vertex_normals, "trimesh"),
        ("mend", lambda: mend(_fresh(read)), their_mend, "trimesh (doubles, winding, split)"),
        ("close holes", lambda: close_holes(_fresh(mended), up_to_mm=12), None, ""),
        ("ease the border", lambda: ease(_fresh(whole), ease_mm=0.8), None, ""),
        (
            "cut by a plane",
            lambda: clip(_fresh(whole), plane_values(whole, point_mm=whole.vertices_mm.mean(0), keep_towards=[0, 1, 0])),
            their_clip,
            "trimesh",
        ),
        ("closest points: build", lambda: ClosestPoints(_fresh(whole)), lambda: _igl_tree(whole.vertices_mm, faces64), "libigl"),
        (
            "closest points: 30,000 questions",
            lambda: tree.query(crowns, within_mm=30),
            lambda: igl.point_mesh_squared_distance(crowns, whole.vertices_mm, faces64),
            "libigl (build included)",
        ),
        ("base", lambda: base(_fresh(whole), up=up, plan=Plan(thickness_mm=2)), None, ""),
        ("plaster shade", lambda: plaster_shade(_fresh(whole)), None, ""),
        ("write binary STL", lambda: stl.write_binary(_fresh(whole)), lambda: _theirs(whole).export(file_type="stl"), "trimesh"),
        ("write 3MF", lambda: threemf.write([("a", whole)]), lambda: _theirs(whole).export(file_type="3mf"), "trimesh"),
    ]
    for name, ours, theirs, library in table:
        if args.only in name:
            beside = None
            if theirs is not None:
                # A library that cannot do it on this data is not measured, and said.
                try:
                    beside = median_ms(theirs, max(args.runs // 2, 1))
                except Exception as error:
                    library = f"{library} could not: {type(error).__name__}"
            yield Row(name, median_ms(ours, args.runs), beside, library)


def _igl_tree(v: np.ndarray, f: np.ndarray) -> None:
    tree = igl.AABB()
    tree.init(v, f)
