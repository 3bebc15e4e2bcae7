"""The generated jaws: what was asked for is there, the same for the same seed, with the flaws of a scan."""

from __future__ import annotations

import unittest

import numpy as np

from bitecore.mesh import border_loops, face_components
from bitecore.ops.closest import ClosestPoints
from bitecore.ops.mend import largest_piece
from demo import teeth
from demo.arch import ArchPlan, _placed, jaw_pair
from demo.scenario import CASES, PEOPLE
from tests.shapes import jaws


class CrownTest(unittest.TestCase):
    """Sizes after the averages in Nelson and Ash, Wheeler's Dental Anatomy, Physiology and Occlusion (from memory)."""

    def test_known_sizes(self) -> None:
        central, canine, first_molar = (teeth.crown(n, upper=True) for n in (1, 3, 6))
        self.assertEqual((central.md_mm, central.height_mm), (8.5, 10.5))
        self.assertEqual((canine.bl_mm, canine.height_mm), (8.0, 10.0))
        self.assertEqual((first_molar.md_mm, first_molar.bl_mm), (10.0, 11.0))
        self.assertEqual(teeth.crown(1, upper=False).md_mm, 5.0)

    def test_cusps(self) -> None:
        # Premolars two (the lower second mostly three), upper molars four, the lower first molar five.
        for number, upper, count in ((4, True, 2), (5, False, 3), (6, True, 4), (7, True, 4), (6, False, 5), (7, False, 4)):
            self.assertEqual(len(teeth.crown(number, upper=upper).cusps), count, (number, upper))

    def test_the_surface_is_as_wide_and_tall_as_the_table_says(self) -> None:
        for number in (1, 3, 4, 6):
            c = teeth.crown(number, upper=True)
            axis = np.arange(-9, 12, 0.1)
            u, v, w = np.meshgrid(axis, axis, axis, indexing="ij")
            inside = (teeth.signed(c, u, v, w) < 0) & (w > 0)
            self.assertAlmostEqual(np.ptp(u[inside]), c.md_mm, delta=0.5)
            self.assertAlmostEqual(w[inside].max(), c.height_mm, delta=0.6)


class ArchTest(unittest.TestCase):
    def test_fourteen_teeth_but_for_the_gaps(self) -> None:
        for upper, numbers in ((True, (1, 2)), (False, (3, 4))):
            placed = _placed(ArchPlan(seed=3, gaps=(16, 41)), upper, np.random.default_rng(3))
            wanted = {q * 10 + n for q in numbers for n in range(1, 8)} - {16, 41}
            self.assertEqual({p.fdi for p in placed}, wanted)  # ISO 3950 two-digit numbers

    def test_patients_right_is_at_minus_x(self) -> None:
        for p in _placed(ArchPlan(seed=3), True, np.random.default_rng(3)):
            self.assertEqual(p.origin_mm[0] < 0, p.fdi < 20, p.fdi)

    def test_same_seed_same_jaws(self) -> None:
        again = jaw_pair(ArchPlan(seed=3, grid_mm=0.62))
        for a, b in zip(jaws(3), again, strict=True):
            self.assertEqual(a.digest, b.digest)
        self.assertNotEqual(jaws(3)[0].digest, jaws(21)[0].digest)

    def test_scanned_as_scanners_do(self) -> None:
        for scan in jaws(3):
            count, _ = face_components(scan)
            self.assertEqual(count, 8)  # the jaw and seven floating bits
            loops = border_loops(largest_piece(scan))
            self.assertGreater(len(loops), 2)  # the outer border and holes
            outer = scan.vertices_mm[:0] if not loops else largest_piece(scan).vertices_mm[loops[0]]
            step = np.linalg.norm(outer - np.roll(outer, 1, axis=0), axis=1)
            self.assertGreater(step.sum(), 150)  # torn all around

    def test_jaws_occlude(self) -> None:
        for seed in (3, 21, 34):
            upper, lower = (largest_piece(m) for m in jaws(seed))
            crowns = lower.vertices_mm[lower.vertices_mm[:, 2] > -6]
            distance = ClosestPoints(upper).query(crowns).distance_mm
            self.assertLess(distance.min(), 0.06)
            # Both sides come near, not one corner alone.
            near = crowns[distance < 0.6]
            self.assertTrue((near[:, 0] < 0).any() and (near[:, 0] > 0).any())


class ScenarioTest(unittest.TestCase):
    def test_three_cases_at_different_steps_for_invented_people(self) -> None:
        self.assertEqual(len(CASES), 3)
        self.assertEqual(len({c.accept for c in CASES}), 3)
        self.assertEqual({p[3] for p in PEOPLE}, {"technician", "lead"})
        for case in CASES:
            self.assertTrue(any(case.files))
