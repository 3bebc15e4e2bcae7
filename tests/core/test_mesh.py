"""Measures and connections of meshes, against closed forms and reference libraries."""

from __future__ import annotations

import unittest

import igl
import numpy as np
import trimesh

from bitecore.errors import BadMesh
from bitecore.files import Limits, read_mesh, stl
from bitecore.mesh import (
    Mesh,
    area_mm2,
    border_loops,
    check_solid,
    edge_table,
    face_components,
    face_normals,
    surface_print,
    vector_area_mm2,
    vertex_normals,
    volume_ml,
)  # fmt: skip
from bitecore.mesh.topology import split_bow_ties
from bitecore.ops.closest import ClosestPoints
from bitecore.ops.rigid import angle_deg, frame_to_axes, turned
from bitecore.ops.weld import weld
from tests.shapes import box, dome, jaws, sheet, sphere, turn


def joined(*meshes: Mesh) -> Mesh:
    start = np.cumsum([0] + [len(m.vertices_mm) for m in meshes])
    return Mesh.of(np.vstack([m.vertices_mm for m in meshes]), np.vstack([m.faces + s for m, s in zip(meshes, start, strict=False)]))


class MeasureTest(unittest.TestCase):
    def test_box(self) -> None:
        mesh = box((2, 3, 4)).moved(turn(1))
        self.assertAlmostEqual(volume_ml(mesh) * 1000, 24.0, places=9)
        self.assertAlmostEqual(area_mm2(mesh), 2 * (6 + 8 + 12), places=9)
        np.testing.assert_allclose(vector_area_mm2(mesh), 0, atol=1e-12)

    def test_sphere_within_a_thousandth(self) -> None:
        mesh = sphere(10, 90)
        self.assertAlmostEqual(volume_ml(mesh) * 1000 / (4 / 3 * np.pi * 1000), 1, delta=1e-3)
        self.assertAlmostEqual(area_mm2(mesh) / (400 * np.pi), 1, delta=1e-3)

    def test_against_a_library(self) -> None:
        mesh = jaws()[0]
        theirs = trimesh.Trimesh(mesh.vertices_mm, mesh.faces, process=False)
        self.assertAlmostEqual(area_mm2(mesh), theirs.area, places=6)
        np.testing.assert_allclose(
            face_normals(mesh), igl.per_face_normals(mesh.vertices_mm, mesh.faces.astype(np.int64), np.zeros(3)), atol=1e-9
        )

    def test_vertex_normals_of_a_sphere_point_outward(self) -> None:
        mesh = sphere(4, 40)
        np.testing.assert_allclose(np.einsum("ij,ij->i", vertex_normals(mesh), mesh.vertices_mm / 4), 1, atol=5e-3)

    def test_open_border_decides_the_vector_area(self) -> None:
        np.testing.assert_allclose(vector_area_mm2(dome(10, 0, 60)), [0, 0, 100 * np.pi], rtol=1e-3, atol=1e-9)


class ArrayTest(unittest.TestCase):
    def test_arrays_are_copied_checked_and_locked(self) -> None:
        v = np.eye(3)
        mesh = Mesh.of(v, [[0, 1, 2]])
        v[0, 0] = 9
        self.assertEqual(mesh.vertices_mm[0, 0], 1)
        with self.assertRaises(ValueError):
            mesh.vertices_mm[0, 0] = 2
        for bad in ((v, [[0, 1, 3]]), (v, [[0, 1]]), (np.full((3, 3), np.nan), [[0, 1, 2]]), (np.zeros((3, 2)), [[0, 1, 2]])):
            with self.assertRaises(BadMesh):
                Mesh.of(*bad)

    def test_bytes_round_trip(self) -> None:
        mesh = Mesh.of(sphere(3, 6).vertices_mm, sphere(3, 6).faces, np.arange(sphere(3, 6).triangles) % 3)
        again = Mesh.from_bytes(mesh.to_bytes())
        np.testing.assert_array_equal(again.vertices_mm, mesh.vertices_mm)
        np.testing.assert_array_equal(again.groups, mesh.groups)
        self.assertEqual(again.digest, mesh.digest)
        with self.assertRaises(BadMesh):
            Mesh.from_bytes(mesh.to_bytes()[:-4])

    def test_mirror_keeps_faces_outward(self) -> None:
        self.assertGreater(volume_ml(box().moved(np.diag([-1.0, 1, 1, 1]))), 0)


class TopologyTest(unittest.TestCase):
    def test_euler(self) -> None:
        mesh = sphere(1, 14)
        table = edge_table(mesh)
        self.assertTrue((table.count == 2).all())
        self.assertEqual(len(mesh.vertices_mm) - len(table.count) // 2 + mesh.triangles, 2)
        self.assertTrue(check_solid(mesh).ok)

    def test_components_against_a_library(self) -> None:
        mesh = joined(box(), sphere(3, 6), jaws()[1])
        n, label = face_components(mesh)
        theirs = igl.facet_components(mesh.faces.astype(np.int64))
        theirs = theirs[1] if isinstance(theirs, tuple) else theirs
        self.assertEqual(n, int(np.max(theirs)) + 1)
        self.assertEqual(len({(a, b) for a, b in zip(label.tolist(), np.asarray(theirs).tolist(), strict=True)}), n)

    def test_borders(self) -> None:
        flat = sheet(9, 7, lambda x, y: x * 0)
        (loop,) = border_loops(flat)
        self.assertEqual(len(loop), 2 * (8 + 6))
        p = flat.vertices_mm[loop]
        area = 0.5 * np.sum(p[:, 0] * np.roll(p[:, 1], -1) - p[:, 1] * np.roll(p[:, 0], -1))
        self.assertAlmostEqual(area, 100.0)  # counter-clockwise seen from outside
        self.assertEqual(border_loops(sphere()), [])

    def test_what_is_not_solid_is_named(self) -> None:
        mesh = box()
        self.assertEqual(check_solid(mesh.of_faces(np.arange(12) > 0)).open_edges, 3)
        turned_one = mesh.faces.copy()
        turned_one[0] = turned_one[0][::-1]
        self.assertEqual(check_solid(Mesh.of(mesh.vertices_mm, turned_one)).turned_edges, 3)
        self.assertEqual(check_solid(joined(mesh, mesh.moved(turn(2)))).components, 2)

    def test_bow_tie_is_split(self) -> None:
        v = np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0], [-1, 0, 0], [0, -1, 0]])
        mesh, split = split_bow_ties(Mesh.of(v, [[0, 1, 2], [0, 3, 4]]))
        self.assertEqual((split, len(mesh.vertices_mm)), (1, 6))
        self.assertEqual(split_bow_ties(mesh)[1], 0)
        # Nor do they meet again in a file, where a vertex is its place.
        back = weld(read_mesh("a.stl", stl.write_binary(mesh.moved(turn(1, shift_mm=200.0))), Limits(triangles=10)).points).mesh
        self.assertEqual(len(back.vertices_mm), 6)
        self.assertLess(np.abs(mesh.vertices_mm[mesh.faces].reshape(-1, 3) - v[[0, 1, 2, 0, 3, 4]]).max(), 0.003)


class WeldTest(unittest.TestCase):
    def test_equal_corners_only(self) -> None:
        soup = box().vertices_mm[box().faces].reshape(-1, 3)
        self.assertEqual(len(weld(soup).mesh.vertices_mm), 8)
        soup[0] += 1e-12
        self.assertEqual(len(weld(soup).mesh.vertices_mm), 9)

    def test_plus_and_minus_zero_are_one_place(self) -> None:
        soup = np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0], [-0.0, 0, -0.0], [0, 1, 0], [-1, 0, 0]])
        self.assertEqual(len(weld(soup).mesh.vertices_mm), 4)

    def test_triangles_without_area_are_counted(self) -> None:
        done = weld(np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0], [5, 5, 5], [5, 5, 5], [6, 5, 5]]))
        self.assertEqual((done.degenerate, done.mesh.triangles, len(done.mesh.vertices_mm)), (1, 1, 3))


class ClosestTest(unittest.TestCase):
    def test_against_libigl(self) -> None:
        mesh = jaws()[1]
        rng = np.random.default_rng(0)
        low, high = mesh.vertices_mm.min(0) - 5, mesh.vertices_mm.max(0) + 5
        points = rng.uniform(low, high, (3000, 3))
        squared, _, near = igl.point_mesh_squared_distance(points, mesh.vertices_mm, mesh.faces.astype(np.int64))[:3]
        hits = ClosestPoints(mesh).query(points)
        np.testing.assert_allclose(hits.distance_mm, np.sqrt(squared), atol=1e-9)
        # The place itself may differ only where two places are equally near.
        apart = np.linalg.norm(hits.point_mm - near, axis=1)
        self.assertLess((apart > 1e-6).mean(), 0.01)

    def test_signed_on_a_sphere(self) -> None:
        mesh = sphere(10, 120)
        points = np.random.default_rng(1).normal(size=(500, 3))
        points *= (np.random.default_rng(2).uniform(8, 12, 500) / np.linalg.norm(points, axis=1))[:, None]
        signed, _ = ClosestPoints(mesh).signed(points, within_mm=5)
        np.testing.assert_allclose(signed, np.linalg.norm(points, axis=1) - 10, atol=0.01)

    def test_cap(self) -> None:
        hits = ClosestPoints(box()).query([[0.5, 0.5, 4], [0.5, 0.5, 1.2]], within_mm=1)
        np.testing.assert_array_equal(hits.face[:1], [-1])
        np.testing.assert_allclose(hits.distance_mm, [1, 0.2])


class RigidTest(unittest.TestCase):
    def test_order_of_turns_against_scipy(self) -> None:
        from scipy.spatial.transform import Rotation

        ours = turned(tilt_deg=11, roll_deg=-23, turn_deg=71)
        np.testing.assert_allclose(ours, Rotation.from_euler("xyz", [11, -23, 71], degrees=True).as_matrix(), atol=1e-12)
        self.assertAlmostEqual(angle_deg(ours), np.degrees(Rotation.from_matrix(ours).magnitude()), places=9)

    def test_small_angles_keep_their_digits(self) -> None:
        self.assertAlmostEqual(angle_deg(turned(tilt_deg=1e-7, roll_deg=0, turn_deg=0)), 1e-7, places=12)

    def test_axes(self) -> None:
        m = turn(5)
        back = frame_to_axes(m[:3, 3], m[:3, 0], m[:3, 1], m[:3, 2])
        np.testing.assert_allclose(back @ m, np.eye(4), atol=1e-12)


class PrintTest(unittest.TestCase):
    def test_moments_of_a_box_are_the_textbooks_and_do_not_move_with_it(self) -> None:
        """Second moments of the surface of a box a × b × c about its middle (closed form: faces of each pair give
        2bc (a/2)² across and 2bc b²/12 along, and so on)."""
        a, b, c = 2.0, 3.0, 5.0
        area = 2 * (a * b + b * c + a * c)
        exact = sorted(
            np.sqrt((2 * y * z * (x / 2) ** 2 + 2 * x * y * x**2 / 12 + 2 * x * z * x**2 / 12) / area)
            for x, y, z in ((a, b, c), (b, a, c), (c, a, b))
        )
        still = surface_print(box((a, b, c)))
        self.assertAlmostEqual(still["area_mm2"], area)
        np.testing.assert_allclose(still["spread_mm"], exact, rtol=1e-6)
        np.testing.assert_allclose(still["middle_mm"], [a / 2, b / 2, c / 2], atol=1e-9)
        moved = surface_print(box((a, b, c)).moved(turn(3)))
        np.testing.assert_allclose(moved["spread_mm"], exact, rtol=1e-6)
