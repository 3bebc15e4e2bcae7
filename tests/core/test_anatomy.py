"""Which jaw, which way, which plane: against the generator's truth, whatever the orientation of the file."""

from __future__ import annotations

import unittest

import numpy as np

from bitecore.anatomy.jawshape import UNITS, unit_of
from bitecore.anatomy.occlusal import occlusal_frame
from bitecore.anatomy.relation import relation
from bitecore.anatomy.whatis import recognise
from bitecore.mesh import Mesh
from bitecore.ops.closest import ClosestPoints
from bitecore.ops.rigid import placed
from tests.core.test_mesh import joined
from tests.shapes import arches, box, jaws, sheet, sphere, turn

CASES = ((3, ()), (21, ()), (34, (15,)), (47, (36, 24)))


def apart_deg(a: np.ndarray, b: np.ndarray) -> float:
    return float(np.degrees(np.arccos(np.clip(a @ b / np.linalg.norm(a) / np.linalg.norm(b), -1, 1))))


class JawTest(unittest.TestCase):
    """docs/decisions.md: level within 3°, midline within 5° and 1 mm; facing to 10° or better where tips refine it."""

    def test_jaw_facing_side_and_level(self) -> None:
        for seed, gaps in CASES:
            both = arches(seed, gaps=gaps)
            for jaw, truth in (("upper", both.upper), ("lower", both.lower)):
                with self.subTest(seed=seed, jaw=jaw):
                    m = turn(seed)
                    self.one(truth.mesh.moved(m), m, jaw, truth.up())

    def one(self, scan: Mesh, m: np.ndarray, jaw: str, own_up: np.ndarray) -> None:
        up, front = m[:3, :3] @ own_up, m[:3, :3] @ [0, -1, 0]
        shape = recognise(scan)
        self.assertEqual((shape.kind, shape.jaw, shape.inside_out), ("jaw", jaw, False))
        self.assertLess(apart_deg(shape.up, up), 15)
        self.assertLess(apart_deg(shape.front, front), 15)
        frame = occlusal_frame(scan, up=shape.up, front=shape.front)
        self.assertLess(apart_deg(frame.up, up), 3)
        self.assertLess(apart_deg(frame.front, front), 5)
        self.assertLess(abs((m[:3, :3].T @ (frame.origin_mm - m[:3, 3]))[0]), 1.0)

    def test_inside_out_is_seen(self) -> None:
        for scan in jaws(21):
            self.assertTrue(recognise(scan.turned_inside_out()).inside_out)

    def test_floating_bits_change_nothing(self) -> None:
        scan = jaws(3)[1]
        bits = joined(scan, box((1, 1, 1)).moved(placed(np.eye(3), [0, 0, 30])))
        clean = occlusal_frame(scan, up=np.array([0, 0, 1.0]), front=np.array([0, -1.0, 0]))
        dirty = occlusal_frame(bits, up=np.array([0, 0, 1.0]), front=np.array([0, -1.0, 0]))
        self.assertLess(apart_deg(clean.up, dirty.up), 0.1)

    def test_what_is_no_jaw(self) -> None:
        rng = np.random.default_rng(0)
        wild = Mesh.of(rng.uniform(-9e5, 9e5, (3000, 3)), np.arange(3000).reshape(-1, 3))
        self.assertEqual(recognise(wild).kind, "other")
        self.assertEqual(recognise(sphere(4, 12)).kind, "other")
        self.assertNotEqual(recognise(box((90, 60, 30))).kind, "jaw")

    def test_a_plane_called_a_jaw_gives_numbers(self) -> None:
        frame = occlusal_frame(sheet(40, 40, lambda x, y: 0 * x, (50, 50)), up=np.array([0, 0, 1.0]), front=np.array([0, -1.0, 0]))
        for found in (frame.origin_mm, frame.up, frame.front):
            self.assertTrue(np.isfinite(found).all())


class UnitTest(unittest.TestCase):
    """Whole-arch scans are some 45 to 95 mm wide (common practice, no source). Wider than 80 mm in a file of
    centimetres could also be a die of 8 mm: that is not told apart by size alone."""

    def test_every_unit_of_a_jaw(self) -> None:
        for name, mm in UNITS.items():
            for width in (48, 66, 79):
                self.assertEqual(unit_of(width / mm)[0], name)

    def test_one_inch_is_25_4_mm(self) -> None:
        self.assertEqual(UNITS["inch"], 25.4)  # by definition since 1959 (international yard and pound agreement)


class RelationTest(unittest.TestCase):
    def test_generated_pairs_touch_without_overlap(self) -> None:
        upper, lower = jaws(3)
        meet = relation(upper, lower, lower_to_upper=np.eye(4), lower_up=np.array([0, 0, 1.0]), upper_up=np.array([0, 0, -1.0]))
        self.assertLess(meet.overlap_mm, 0.06)  # noise of 8 µm on both
        self.assertLess(meet.gap_mm, 0.1)

    def test_a_known_shift_is_measured(self) -> None:
        upper, lower = jaws(3)
        down = np.eye(4)
        down[2, 3] = -1.5
        meet = relation(upper, lower, lower_to_upper=down, lower_up=np.array([0, 0, 1.0]), upper_up=np.array([0, 0, -1.0]))
        points = lower.vertices_mm @ down[:3, :3].T + down[:3, 3]
        exact = ClosestPoints(upper).query(points[lower.vertices_mm[:, 2] > -6]).distance_mm.min()
        self.assertAlmostEqual(meet.gap_mm, exact, delta=0.2)  # the loose bits of both are left out
        up = np.eye(4)
        up[2, 3] = 0.4
        deep = relation(upper, lower, lower_to_upper=up, lower_up=np.array([0, 0, 1.0]), upper_up=np.array([0, 0, -1.0]))
        self.assertGreater(deep.overlap_mm, 0.2)
        # Never deeper by more than the way it was pushed.
        before = relation(upper, lower, lower_to_upper=np.eye(4), lower_up=np.array([0, 0, 1.0]), upper_up=np.array([0, 0, -1.0]))
        self.assertLess(deep.overlap_mm, before.overlap_mm + 0.4 + 1e-6)
