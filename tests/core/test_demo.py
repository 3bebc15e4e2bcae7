"""The generated jaws: what was asked for is there, the same for the same seed, with the flaws of a scan."""

from __future__ import annotations

import dataclasses
import itertools
import tempfile
import unittest
from pathlib import Path

import numpy as np
from django.test import tag

from bitecore.files import read_mesh, unpack
from bitecore.mesh import border_loops, face_components
from bitecore.ops.closest import ClosestPoints
from bitecore.ops.mend import largest_piece
from demo import teeth
from demo.arch import ArchPlan, jaw_pair
from demo.places import met, over, placed, spee_mm
from demo.scenario import CASES, PEOPLE, written
from tests.shapes import arches, jaws


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
            axis = np.arange(-9, 12, 0.15)
            u, v, w = np.meshgrid(axis, axis, axis, indexing="ij")
            inside = (teeth.signed(c, u, v, w) < 0) & (w > 0)
            self.assertAlmostEqual(np.ptp(u[inside]), c.md_mm, delta=0.5)
            self.assertAlmostEqual(w[inside].max(), c.height_mm, delta=0.6)


class ArchTest(unittest.TestCase):
    def test_fourteen_teeth_but_for_the_gaps(self) -> None:
        for upper, numbers in ((True, (1, 2)), (False, (3, 4))):
            for third in (False, True):
                plan = ArchPlan(seed=3, gaps=(16, 41), third=third)
                there = {p.fdi for p in placed(plan, upper=upper, rng=np.random.default_rng(3)) if not p.missing}
                wanted = {q * 10 + n for q in numbers for n in range(1, 9 if third else 8)} - {16, 41}
                self.assertEqual(there, wanted)  # ISO 3950 two-digit numbers

    def test_patients_right_is_at_minus_x(self) -> None:
        for p in placed(ArchPlan(seed=3), upper=True, rng=np.random.default_rng(3)):
            self.assertEqual(p.origin_mm[0] < 0, p.fdi < 20, p.fdi)

    def test_same_seed_same_jaws(self) -> None:
        again = jaw_pair(ArchPlan(seed=3, grid_mm=0.66))
        for a, b in zip(jaws(3), again, strict=True):
            self.assertEqual(a.digest, b.digest)
        self.assertNotEqual(jaws(3)[0].digest, jaws(21)[0].digest)

    def test_scanned_as_scanners_do(self) -> None:
        for scan in jaws(3):
            count, _ = face_components(scan)
            self.assertGreaterEqual(count, 8)  # the jaw and seven floating bits
            loops = border_loops(largest_piece(scan))
            self.assertGreater(len(loops), 2)  # the outer border and holes
            outer = scan.vertices_mm[:0] if not loops else largest_piece(scan).vertices_mm[loops[0]]
            step = np.linalg.norm(outer - np.roll(outer, 1, axis=0), axis=1)
            self.assertGreater(step.sum(), 150)  # torn all around

    def test_teeth_are_where_the_truth_says(self) -> None:
        both = arches(3, gaps=(36,))
        for jaw in (both.upper, both.lower):
            there = {p.fdi for p in jaw.places if not p.missing}
            self.assertEqual(set(np.unique(jaw.tooth)) - {0}, there)
            middle = jaw.mesh.vertices_mm[jaw.mesh.faces].mean(1)
            for fdi, tips in jaw.tips_mm().items():
                own = middle[jaw.tooth == fdi]
                # Worn cusps and edges lie within half a millimetre of the surface of their own tooth.
                self.assertLess(np.linalg.norm(own - tips[0], axis=1).min(), 0.9, fdi)

    def test_crowns_are_as_wide_as_the_table_on_average(self) -> None:
        width: dict[int, list[float]] = {}
        for seed in range(12):
            for p in placed(ArchPlan(seed=seed), upper=True, rng=np.random.default_rng(seed)):
                width.setdefault(p.crown.number, []).append(p.crown.md_mm)
        for number, found in width.items():
            self.assertAlmostEqual(float(np.mean(found)), teeth.UPPER[number - 1][0], delta=0.25)


class OcclusionTest(unittest.TestCase):
    """Overjet and overbite of two to three millimetres, and cusps that interlock, are the ordinary bite (common practice,
    no source)."""

    @tag("long")
    def test_jaws_touch_on_both_sides_and_do_not_overlap(self) -> None:
        for seed in (3, 21):
            upper, lower = jaw_pair(ArchPlan(seed=seed, grid_mm=0.6, noise_mm=0.0, flaws=False))
            crowns = lower.vertices_mm[lower.vertices_mm[:, 2] > -7]
            signed, hits = ClosestPoints(upper).signed(crowns, within_mm=2.0)
            inner = hits.face >= 0
            self.assertGreater(signed[inner].min(), -0.02)
            self.assertLess(signed[inner].min(), 0.02)
            near = crowns[np.abs(signed) < 0.25]
            self.assertGreater((near[:, 0] < -8).sum(), 2)
            self.assertGreater((near[:, 0] > 8).sum(), 2)

    def test_overjet_and_overbite_are_those_asked_for(self) -> None:
        for seed in (3, 5, 21):
            plan = ArchPlan(seed=seed)
            rng = np.random.default_rng(seed)
            upper, lower = placed(plan, upper=True, rng=rng), placed(plan, upper=False, rng=rng)
            flip = over(plan, upper, lower)
            _, lower = met(upper, lower, flip)
            up = np.mean([p.edges_mm[0] for p in upper if p.crown.number == 1], axis=0) @ flip[:3, :3].T + flip[:3, 3]
            low = np.mean([p.edges_mm[0] for p in lower if p.crown.number == 1], axis=0)
            self.assertAlmostEqual(low[1] - up[1], plan.overjet_mm, delta=0.6)
            self.assertGreater(low[2] - up[2], 1.0)
            self.assertLess(low[2] - up[2], 4.5)

    def test_neighbours_touch(self) -> None:
        from demo.places import CONTACT_MM, _skin

        for upper in (True, False):
            for seed in (3, 5):
                row = placed(ArchPlan(seed=seed), upper=upper, rng=np.random.default_rng(seed))
                for a, b in itertools.pairwise(row):
                    if b.crown.number > a.crown.number:
                        gap = a.signed(b.to_jaw(_skin(b.crown))).min()
                        self.assertAlmostEqual(gap, -CONTACT_MM, delta=0.03)

    def test_the_curve_of_spee_is_that_of_a_four_inch_sphere(self) -> None:
        """Monson's sphere of four inches (101.6 mm radius; from memory): an arc over a chord of 46 mm is
        r - sqrt(r² - 23²) = 2.64 mm deep; half of it is asked for, as in a flat young dentition."""
        exact = 101.6 - np.sqrt(101.6**2 - 23.0**2)
        self.assertAlmostEqual(float(spee_mm(23.0)), exact / 2, delta=0.03)


class ScenarioTest(unittest.TestCase):
    def test_a_full_rack_of_different_troubles_for_invented_people(self) -> None:
        self.assertGreaterEqual(len(CASES), 8)
        self.assertGreaterEqual(len({c.trouble for c in CASES}), 6)
        self.assertGreaterEqual(len({c.accept for c in CASES}), 4)
        self.assertEqual({p[3] for p in PEOPLE}, {"technician", "lead"})
        names = [name for case in CASES for name in case.files]
        self.assertEqual(len(names), len(set(names)))

    @tag("long")
    def test_every_file_can_be_read(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            for case in CASES:
                if case.trouble == "in occlusion" and case is not CASES[1]:
                    continue
                small = dataclasses.replace(case, plan=dataclasses.replace(case.plan, grid_mm=0.9))
                for path in written(small, Path(folder)):
                    for source in unpack(path.name, path.read_bytes()):
                        self.assertGreater(read_mesh(source.name, source.data).triangles, 3000, source.name)
