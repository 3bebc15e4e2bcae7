"""Contacts and movements of the bite on shapes whose distances are known."""

from __future__ import annotations

import itertools
import unittest

import numpy as np

from bitecore.anatomy.closing import Opposing, bench_axes, closed, eased
from bitecore.anatomy.contacts import area_of, balance, touching
from bitecore.anatomy.jaw import Jaw
from bitecore.anatomy.relation import believed, relation
from bitecore.mesh import Mesh, area_mm2
from bitecore.ops.rigid import placed
from bitecore.ops.split import split_in_four
from tests.core.test_mesh import joined
from tests.shapes import dome, sheet

# A ball of 4 mm stands in for a cusp: common practice, no source.
RADIUS = 4.0


def cusp(x: float, y: float, gap: float) -> Mesh:
    """A cap of a sphere whose top is at z = -gap, open below."""
    return dome(RADIUS, 1.0, 60).moved(placed(np.eye(3), [x, y, -gap - RADIUS]))


def lower_of(*cusps: Mesh) -> Jaw:
    """One surface: the caps hang together by a thread far below."""
    whole = joined(*cusps)
    low = [int(part.vertices_mm[:, 2].argmin()) for part in cusps]
    start = np.cumsum([0] + [len(part.vertices_mm) for part in cusps])
    at = [a + int(s) for a, s in zip(low, start, strict=False)]
    ends = [(a + 20, b) for a, b in itertools.pairwise(at)]
    threads = [t for a, b in ends for t in ((a, a + 1, b), (b, b + 1, a))]
    faces = np.vstack([whole.faces, threads]) if threads else whole.faces
    return Jaw(Mesh.of(whole.vertices_mm, faces), np.array([0, 0, 1.0]), np.array([0, -1.0, 0]), np.zeros(3))


CEILING = sheet(120, 120, lambda x, y: 0 * x, (80.0, 80.0)).turned_inside_out()  # faces down, as an upper does
UPPER = Jaw(CEILING, np.array([0, 0, -1.0]), np.array([0, -1.0, 0]), np.zeros(3))

STEEP = np.tan(np.radians(30.0))


def crossed(depth_mm: float) -> tuple[Jaw, Jaw]:
    """Two ridges of 30° that cross at right angles half-way between their vertices, 0.8 mm apart: the upper's lies
    depth_mm under the lower's, so that the overlap is depth_mm × cos 30° (plane geometry)."""
    lower = sheet(21, 20, lambda x, y: -STEEP * abs(x), (16.0, 15.2))
    upper = sheet(20, 21, lambda x, y: STEEP * abs(y) - depth_mm, (15.2, 16.0)).turned_inside_out()
    ahead, at = np.array([0, -1.0, 0]), np.zeros(3)
    return Jaw(upper, np.array([0, 0, -1.0]), ahead, at), Jaw(lower, np.array([0, 0, 1.0]), ahead, at)


class CrossedRidgesTest(unittest.TestCase):
    """The deepest place lies on an edge of both, where no vertex is near."""

    def test_the_overlap_between_vertices_is_measured(self) -> None:
        for depth in (0.05, 0.3):
            upper, lower = crossed(depth)
            meet = relation(upper.mesh, lower.mesh, lower_to_upper=np.eye(4), lower_up=lower.up, upper_up=upper.up)
            self.assertAlmostEqual(meet.overlap_mm, depth * np.cos(np.radians(30)), places=6)
            np.testing.assert_allclose(meet.deepest_mm[:2], 0, atol=1e-9)

    def test_the_gap_between_vertices_is_measured(self) -> None:
        upper, lower = crossed(-0.2)
        meet = relation(upper.mesh, lower.mesh, lower_to_upper=np.eye(4), lower_up=lower.up, upper_up=upper.up)
        # Ridge from ridge, straight down: the planes fall away from it on both sides.
        self.assertAlmostEqual(meet.gap_mm, 0.2, places=6)

    def test_eased_and_closed_agree_with_what_is_measured(self) -> None:
        upper, lower = crossed(0.25)
        found = eased(Opposing(upper, lower), np.eye(4), tolerance_mm=0.05, axes=np.eye(3))
        meet = relation(upper.mesh, lower.mesh, lower_to_upper=found.matrix, lower_up=lower.up, upper_up=upper.up)
        self.assertAlmostEqual(meet.overlap_mm, 0.05, delta=0.002)
        upper, lower = crossed(-0.4)
        found = closed(Opposing(upper, lower), np.eye(4), np.array([0, 0, 1.0]))
        self.assertAlmostEqual(found.distance_mm, 0.4, delta=0.002)


class ContactTest(unittest.TestCase):
    def test_a_cusp_over_the_middle_of_a_triangle_is_found(self) -> None:
        """The facing cusp is sharp and the surface it stands on has edges of 10 mm: no vertex is anywhere near."""
        flat = sheet(9, 9, lambda x, y: 0 * x, (80.0, 80.0))
        jaw = Jaw(flat, np.array([0, 0, 1.0]), np.array([0, -1.0, 0]), np.zeros(3))
        down = cusp(23, 33, 0).moved(np.diag([1.0, -1.0, -1.0, 1.0])).moved(placed(np.eye(3), [0, 66, -0.03]))
        found = touching(jaw, down, np.eye(4), foil_mm=0.05, hard_mm=0.0, upper=False)
        self.assertEqual(len(found.contacts), 0)  # ten millimetres are more than two splits can bridge
        fine = Jaw(sheet(161, 161, lambda x, y: 0 * x, (80.0, 80.0)), jaw.up, jaw.front, jaw.incisal)
        found = touching(fine, down, np.eye(4), foil_mm=0.05, hard_mm=0.0, upper=False)
        self.assertEqual(len(found.contacts), 1)
        self.assertAlmostEqual(found.contacts[0].depth_mm, 0.03, delta=0.003)

    def test_splitting_keeps_the_surface(self) -> None:
        whole = dome(RADIUS, 1.0, 10)
        again = split_in_four(whole)
        self.assertEqual(again.triangles, 4 * whole.triangles)
        self.assertAlmostEqual(area_mm2(again), area_mm2(whole), places=9)

    def test_a_patch_has_the_area_of_its_cap(self) -> None:
        """A plane at distance g from a sphere touches it, within a foil of t, on a cap of area 2 π R (t − g)
        (Archimedes, On the Sphere and Cylinder)."""
        for gap, foil in ((0.0, 0.04), (-0.03, 0.02), (0.01, 0.1)):
            found = touching(lower_of(cusp(0, 20, gap)), CEILING, np.eye(4), foil_mm=foil, hard_mm=0.01, upper=False)
            exact = 2 * np.pi * RADIUS * (foil - gap)
            self.assertAlmostEqual(area_of(found.touch) / exact, 1.0, delta=0.04)

    def test_depth_side_and_place_of_each(self) -> None:
        jaw = lower_of(cusp(20, 30, -0.05), cusp(-21, 25, -0.02), cusp(1, 2, 0.005))
        found = touching(jaw, CEILING, np.eye(4), foil_mm=0.02, hard_mm=0.03, upper=False)
        self.assertEqual([c.side for c in found.contacts], ["left", "right", "front"])
        for contact, depth, at in zip(found.contacts, (0.05, 0.02, -0.005), ((20, 30), (-21, 25), (1, 2)), strict=True):
            self.assertAlmostEqual(contact.depth_mm, depth, delta=1e-6)
            np.testing.assert_allclose(contact.point_mm[:2], at, atol=0.15)
            self.assertAlmostEqual(contact.behind_mm, at[1], delta=0.15)
        left, right = balance(found)
        self.assertAlmostEqual(left / right, 0.07 / 0.04, delta=0.1)  # areas go with foil plus depth
        self.assertIsNotNone(found.deep)
        self.assertIsNone(touching(jaw, CEILING, np.eye(4), foil_mm=0.02, hard_mm=0.06, upper=False).deep)

    def test_nothing_within_the_foil(self) -> None:
        found = touching(lower_of(cusp(0, 20, 0.3)), CEILING, np.eye(4), foil_mm=0.2, hard_mm=0.0, upper=False)
        self.assertEqual((found.touch, found.contacts), (None, ()))


class BelievedTest(unittest.TestCase):
    def test_one_deep_point_among_others_outside_is_not_believed(self) -> None:
        points = np.c_[np.linspace(0, 3, 31), np.zeros(31), np.zeros(31)]
        signed = np.full(31, 0.1)
        signed[15] = -1.8
        self.assertEqual(np.flatnonzero(~believed(points, signed)).tolist(), [15])
        real = -1.0 + np.abs(points[:, 0] - 1.5)  # deep all around: a true overlap
        self.assertTrue(believed(points, real).all())


class AdjustTest(unittest.TestCase):
    def test_axes_are_left_back_up_for_either_jaw(self) -> None:
        np.testing.assert_allclose(bench_axes(UPPER, upper=True), np.eye(3), atol=1e-12)
        np.testing.assert_allclose(bench_axes(lower_of(cusp(0, 0, 0)), upper=False), np.eye(3), atol=1e-12)

    def test_closed_along_the_vertical_to_the_first_contact(self) -> None:
        for gap in (7.3, 0.02, -0.4):
            moved = closed(Opposing(UPPER, lower_of(cusp(20, 30, gap), cusp(-20, 30, gap + 0.5))), np.eye(4), np.array([0, 0, 1.0]))
            self.assertAlmostEqual(float(moved.matrix[2, 3]), gap, delta=0.001)
            self.assertEqual(moved.axis, "up" if gap > 0 else "down")

    def test_ease_takes_the_shortest_way(self) -> None:
        """One cusp too deep on the left, one just touching on the right: a turn about the front-back axis, less than
        lowering all by the same amount, and the right contact stays."""
        jaw = lower_of(cusp(22, 30, -0.2), cusp(-22, 30, 0.0), cusp(0, 2, 0.0))
        found = eased(Opposing(UPPER, jaw), np.eye(4), tolerance_mm=0.02, axes=np.eye(3))
        self.assertEqual(found.axis, "front-back axis")
        m = found.matrix
        tops = np.array([[22, 30, 0.2, 1], [-22, 30, 0.0, 1], [0, 2, 0.0, 1]]) @ m.T
        self.assertAlmostEqual(float(tops[0, 2]), 0.02, delta=0.003)
        self.assertGreater(float(tops[1, 2]), -0.06)
        self.assertLess(found.distance_mm, 0.25)

    def test_nothing_to_ease(self) -> None:
        found = eased(Opposing(UPPER, lower_of(cusp(0, 20, 0.1))), np.eye(4), tolerance_mm=0.02, axes=np.eye(3))
        np.testing.assert_array_equal(found.matrix, np.eye(4))
