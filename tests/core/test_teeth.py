"""Teeth and gum of generated jaws, of which every triangle's tooth is known; and the cheapest closed way by trying them all."""

from __future__ import annotations

import itertools
import unittest
from dataclasses import replace

import numpy as np
from django.test import tag

from bitecore.anatomy.teeth.outline import closed_way
from bitecore.anatomy.teeth.told import plan_axes, teeth_told
from bitecore.mesh import face_areas_mm2, face_components
from bitecore.ops.rigid import placed, turned
from demo.arch import Jaw, pair
from tests.trial import intake
from tests.trial.teeth import hard_plan, outcome

FRONT = np.array([0.0, -1.0, 0.0])


def overlaps(jaw: Jaw, name: str, *, moved: np.ndarray | None = None) -> dict[int, tuple[int, float]]:
    """{true number: (told number, share of what is either that is both, by area)}"""
    label = face_components(jaw.mesh)[1]
    main = label == np.bincount(label).argmax()
    mesh, truth = jaw.mesh.of_faces(main), jaw.tooth[main]
    m = np.eye(4) if moved is None else moved
    # The bench's own nought lies between the lower incisors.
    axes = {"up": m[:3, :3] @ jaw.up(), "front": m[:3, :3] @ FRONT, "midline": m[:3, 3]}
    told = teeth_told(mesh.moved(m), jaw=name, **axes).of_faces(mesh)
    area, out = face_areas_mm2(mesh), {}
    for fdi in np.unique(truth[truth > 0]):
        mine = truth == fdi
        share = {int(q): area[mine & (told == q)].sum() / area[mine | (told == q)].sum() for q in np.unique(told[mine]) if q}
        out[int(fdi)] = max(share.items(), key=lambda s: s[1], default=(0, 0.0))
    return out


class TeethTest(unittest.TestCase):
    @tag("long")
    def test_all_teeth_of_mouths_with_gaps_third_molars_and_wear(self) -> None:
        for number in (0, 2):
            both = pair(intake.plan(number, grid_mm=0.5))
            for name, jaw in (("upper", both.upper), ("lower", both.lower)):
                for fdi, (told, share) in overlaps(jaw, name).items():
                    self.assertEqual(told, fdi, (number, name))
                    self.assertGreater(share, 0.7, (number, name, fdi))

    def test_a_mouth_as_people_differ_turned_and_its_axes_off(self) -> None:
        lower = pair(intake.wide_plan(3, grid_mm=0.5)).lower
        level = overlaps(lower, "lower")
        moved = placed(turned(tilt_deg=9.0, roll_deg=-6.0, turn_deg=140.0), [30.0, -12.0, 70.0])
        for fdi, (told, share) in overlaps(lower, "lower", moved=moved).items():
            self.assertEqual(told, level[fdi][0])
            self.assertAlmostEqual(share, level[fdi][1], delta=0.02)
        found = [fdi for fdi, (told, share) in level.items() if told == fdi and share > 0.7]
        self.assertEqual(found, list(level))
        off = replace(lower, own_to_bench=placed(turned(tilt_deg=6.0, roll_deg=4.0, turn_deg=0.0), [0, 0, 0]) @ lower.own_to_bench)
        self.assertEqual([told for told, _ in overlaps(off, "lower").values()], list(level))

    def test_changing_teeth_are_told_from_milk_teeth_and_lasting_ones(self) -> None:
        """Lasting incisors and first molars among milk canines and milk molars, as at about eight years."""
        both = pair(hard_plan(26, grid_mm=0.6))
        for name, jaw in (("upper", both.upper), ("lower", both.lower)):
            teeth = outcome(26, name, jaw).teeth
            self.assertGreaterEqual(sum(t.found and t.told == t.fdi for t in teeth), len(teeth) - 1, [(t.fdi, t.told) for t in teeth])
            self.assertFalse([t for t in teeth if t.told != t.fdi and t.sure > 0.8])

    def test_the_plan_has_the_right_of_the_patient_on_the_right(self) -> None:
        np.testing.assert_allclose(plan_axes([0, 0, 1], FRONT, "lower"), [[-1, 0, 0], [0, -1, 0], [0, 0, 1]], atol=1e-12)
        np.testing.assert_allclose(plan_axes([0, 0, -1], FRONT, "upper"), [[-1, 0, 0], [0, -1, 0], [0, 0, -1]], atol=1e-12)


class WayTest(unittest.TestCase):
    def test_the_cheapest_closed_way_by_trying_them_all(self) -> None:
        random = np.random.default_rng(5)
        for _ in range(10):
            cost, expected = random.normal(0, 1, (6, 4)), np.zeros(6)
            way = closed_way(cost, expected, 3, 0.3)

            def price(rows: tuple[int, ...], cost: np.ndarray = cost) -> float:
                step = np.abs(np.diff([*rows, rows[0]]))
                return cost[np.arange(6), rows].sum() + 0.3 * np.where(step < 2, step**2, 4 * step - 4).sum()

            best = min(price(rows) for rows in itertools.product(range(4), repeat=6))
            self.assertAlmostEqual(price(tuple(way.astype(int))), best, places=9)
