"""Fewer triangles: within the deviation, the border and what is held as they were, and no worse than another library."""

from __future__ import annotations

import unittest

import manifold3d
import numpy as np
from scipy.spatial import cKDTree

from bitecore.mesh import Mesh, edge_table, face_normals
from bitecore.mesh.topology import at_border
from bitecore.ops.closest import ClosestPoints
from bitecore.ops.reduce import reduced
from bitecore.progress import QUIET
from bitecore.runsheet import Inputs, standard
from tests.core.test_tooth_hand import clean, told
from tests.shapes import sheet, sphere


def apart(a: Mesh, b: Mesh) -> float:
    """The largest distance between two surfaces, at corners and middles of triangles (Hausdorff, from samples)."""
    sides = [(a, b), (b, a)]
    return max(
        float(ClosestPoints(y).query(np.vstack([x.vertices_mm, x.vertices_mm[x.faces].mean(1)])).distance_mm.max()) for x, y in sides
    )


class ReduceTest(unittest.TestCase):
    def test_a_plane_needs_next_to_nothing_but_its_border(self) -> None:
        flat = sheet(41, 41, lambda x, y: 0 * x)
        done = reduced(flat, deviation_mm=0.001)
        self.assertLess(done.mesh.triangles, 0.2 * flat.triangles)
        border = np.unique(flat.faces[at_border(flat)].ravel())
        self.assertLess(cKDTree(done.mesh.vertices_mm).query(flat.vertices_mm[border])[0].max(), 1e-12)

    def test_the_deviation_is_kept_and_is_what_it_says(self) -> None:
        for mesh, mm in ((sphere(10.0, 80), 0.03), (clean(), 0.03)):
            done = reduced(mesh, deviation_mm=mm)
            self.assertLessEqual(done.most_mm, mm)
            self.assertLess(apart(mesh, done.mesh), 1.6 * mm)
            self.assertLess(done.mesh.triangles, 0.7 * mesh.triangles)
            self.assertLessEqual(edge_table(done.mesh).count.max(), 2)

    def test_as_few_as_another_library_at_its_deviation(self) -> None:
        """manifold's own simplification of the same sphere; both judged by distances to it."""
        ball = sphere(10.0, 80)
        solid = manifold3d.Manifold(manifold3d.Mesh64(np.array(ball.vertices_mm), ball.faces.astype(np.uint64, order="C"))).simplify(0.02)
        theirs = solid.to_mesh64()
        other = Mesh.of(theirs.vert_properties[:, :3], theirs.tri_verts)
        done = reduced(ball, triangles=other.triangles)
        self.assertLess(done.mesh.triangles, 1.02 * other.triangles)
        self.assertLess(apart(ball, done.mesh), 1.25 * apart(ball, other))

    def test_no_triangle_turns_over(self) -> None:
        wave = sheet(81, 81, lambda x, y: 0.4 * np.sin(x) * np.cos(1.3 * y))
        done = reduced(wave, triangles=2500)
        self.assertGreater(face_normals(done.mesh)[:, 2].min(), 0.5)

    def test_the_step_keeps_teeth_full_and_says_what_it_reached(self) -> None:
        step = standard()["reduce"]
        values = {"mesh": clean(), "marked": None, "told": told().values["mesh"]}
        result = step.apply(Inputs(values, "p", "lower"), step.check({"reduce": "deviation", "deviation_mm": 0.05}), QUIET)
        tooth = clean().vertices_mm[np.nan_to_num(told().values["mesh"].channel.values) > 0]
        self.assertLess(cKDTree(result.values["mesh"].vertices_mm).query(tooth)[0].max(), 1e-12)
        said = {r.name: r.value for r in result.readings}
        self.assertLessEqual(said["reduced, at most off"], 50.0)
        self.assertLess(np.nanmax(np.abs(result.values["map"].channel.values)) * 1000, said["reduced, at most off"] + 1)
        few = step.apply(Inputs(values, "p", "lower"), step.check({"reduce": "triangles", "count": 2000}), QUIET)
        self.assertEqual([f.code for f in few.flags], ["reduced-less", "reduced-far"][: len(few.flags)])
