"""Marks by hand against closed forms: what a fence catches of a sphere, a swab over flat and folded sheets, caps and their areas."""

from __future__ import annotations

import math
import unittest
from typing import Any

import numpy as np
from django.test import tag

from bitecore.anatomy.marks import Mark, marked
from bitecore.mesh import Mesh, area_mm2, edge_table, face_components
from bitecore.ops.clip import clip
from bitecore.ops.fence import fenced, near_side
from bitecore.ops.fields import SNAP, grown, signed, snapped
from bitecore.progress import QUIET
from bitecore.runsheet import Inputs, StepResult, standard
from tests.core.test_edge import jittered
from tests.core.test_mesh import joined
from tests.core.test_tooth_hand import clean, told
from tests.shapes import sheet, sphere

# From so far away an eye sees as if along parallel lines.
FAR = np.array([0.0, 0.0, 20_000.0])


def ring(radius: float, n: int = 180) -> np.ndarray:
    t = np.linspace(0, 2 * np.pi, n, endpoint=False)
    return np.c_[radius * np.cos(t), radius * np.sin(t), np.zeros(n)]


def teeth(mesh: Mesh) -> np.ndarray:
    return np.zeros(len(mesh.vertices_mm), np.int64)


def covered(mesh: Mesh, *marks: Mark) -> float:
    value = marked(mesh, marks, teeth(mesh)).value
    return area_mm2(clip(mesh, snapped(mesh, value)).mesh)


class FenceTest(unittest.TestCase):
    def test_it_cuts_the_cap_of_a_sphere_on_the_near_side_and_two_right_through(self) -> None:
        """A cap of height h has the area 2 pi R h (Archimedes, On the sphere and cylinder)."""
        ball, wide = sphere(10.0, 160), 6.0
        cap = 2 * math.pi * 10 * (10 - math.sqrt(100 - wide**2))
        for reach, times in (("near", 1), ("through", 2)):
            mark = Mark("fence", ring(wide), eye=FAR, reach=reach)
            self.assertAlmostEqual(covered(ball, mark), times * cap, delta=0.012 * times * cap)

    def test_asked_it_waits_and_counts_the_far_side(self) -> None:
        ball = sphere(10.0, 80)
        own = np.where(ball.vertices_mm[:, 2] < 0, 36, 11)
        found = marked(ball, [Mark("fence", ring(6.0), eye=FAR)], own)
        (told_,) = found.marks
        middle = ball.vertices_mm[ball.faces].mean(1)
        behind = ((np.hypot(middle[:, 0], middle[:, 1]) < 6) & (middle[:, 2] < 0)).sum()
        self.assertTrue(told_.waits)
        self.assertAlmostEqual(told_.far, int(behind), delta=0.08 * behind)
        self.assertEqual(told_.far_teeth, [36])
        self.assertFalse((found.value > 0).any())
        self.assertTrue((ball.vertices_mm[found.caught][:, 2] < 0).all())
        self.assertTrue((ball.vertices_mm[found.waiting][:, 2] > 0).all() and found.waiting.any())

    def test_where_nothing_lies_behind_it_does_not_ask(self) -> None:
        flat = jittered(sheet(81, 81, lambda x, y: 0 * x, (20.0, 20.0)), 0.03)
        found = marked(flat, [Mark("fence", ring(5.0), eye=FAR)], teeth(flat))
        self.assertFalse(found.marks[0].waits)
        kept = area_mm2(clip(flat, snapped(flat, found.value)).mesh)
        self.assertAlmostEqual(kept, math.pi * 25, delta=0.01 * math.pi * 25)

    def test_as_wide_as_the_eye_sees_it_farther_away(self) -> None:
        """Through a ring of radius r at distance d the eye sees r D / d on a sheet at distance D."""
        flat = sheet(121, 121, lambda x, y: 0 * x - 20.0, (40.0, 40.0))
        mark = Mark("fence", ring(4.0) + [0, 0, 20.0], eye=np.array([0, 0, 60.0]), reach="through")
        wide = 4.0 * 80 / 40
        self.assertAlmostEqual(covered(flat, mark), math.pi * wide**2, delta=0.01 * math.pi * wide**2)

    def test_an_undercut_is_of_the_near_side_and_the_other_wall_is_not(self) -> None:
        """A lip that overhangs hides 1.5 mm; a second sheet lies 8 mm behind."""
        s = np.linspace(-6, 6, 61)
        bent = np.where(np.abs(s) < 1.5, s * 0 + 1.5 * np.cos(s / 1.5 * np.pi / 2), 0)
        x, y = np.meshgrid(s, s, indexing="ij")
        front = sheet(61, 61, lambda a, b: 0 * a, (12.0, 12.0))
        over = front.with_vertices(np.c_[(x + 1.2 * bent[:, None]).ravel(), y.ravel(), np.repeat(bent, 61)])
        both = joined(over, over.with_vertices(over.vertices_mm - [0, 0, 8.0]))
        found = fenced(both, eye_mm=FAR, ring_mm=ring(4.0))
        near = near_side(both, found)
        front_ones = np.arange(len(both.vertices_mm)) < len(over.vertices_mm)
        inside = found.inside > 0
        self.assertTrue((found.behind[front_ones & inside] > 0.05).any())
        self.assertTrue(near[inside & front_ones].all())
        self.assertFalse(near[inside & ~front_ones].any())

    def test_one_that_crosses_itself_counts_even_and_odd(self) -> None:
        flat = sheet(101, 101, lambda x, y: 0 * x, (20.0, 20.0))
        bow = np.array([[-5.0, -5, 0], [5, 5, 0], [5, -5, 0], [-5, 5, 0]])
        self.assertAlmostEqual(covered(flat, Mark("fence", bow, eye=FAR)), 50.0, delta=0.8)


class SwabTest(unittest.TestCase):
    def test_as_wide_as_it_is_over_a_flat_sheet(self) -> None:
        flat = jittered(sheet(121, 121, lambda x, y: 0 * x, (24.0, 24.0)), 0.03)
        path = np.c_[np.linspace(-4, 4, 9), np.zeros(9), np.zeros(9)]
        true = 8 * 3.0 + math.pi * 1.5**2
        self.assertAlmostEqual(covered(flat, Mark("swab", path, mm=1.5)), true, delta=0.03 * true)

    def test_round_a_ridge_but_not_through_the_air(self) -> None:
        """Two leaves 1 mm apart: joined by a round edge the swab goes round it; the middle of the other leaf, far round, is not reached."""
        s = np.linspace(-10, 10, 161)
        half, r = math.pi * 0.5 / 2, 0.5
        turn = np.clip(s / r, -math.pi / 2, math.pi / 2)
        beyond = np.abs(s) - half
        x = np.where(beyond > 0, -beyond, 0) + r * np.cos(turn)
        z = r * np.sin(turn)
        leaf = sheet(161, 81, lambda a, b: 0 * a, (20.0, 10.0))
        y = np.linspace(-5, 5, 81)
        bent = leaf.with_vertices(np.c_[np.repeat(x, 81), np.tile(y, 161), np.repeat(z, 81)])
        at_edge = marked(bent, [Mark("swab", np.array([[r, 0.0, 0]]), mm=2.0)], teeth(bent)).value > 0
        self.assertTrue((bent.vertices_mm[at_edge][:, 2] > 0.45).any() and (bent.vertices_mm[at_edge][:, 2] < -0.45).any())
        on_leaf = marked(bent, [Mark("swab", np.array([[-6.0, 0, 0.5]]), mm=2.0)], teeth(bent)).value > 0
        self.assertTrue((bent.vertices_mm[on_leaf][:, 2] > 0.4).all())

    def test_the_younger_mark_counts(self) -> None:
        flat = sheet(121, 121, lambda x, y: 0 * x, (24.0, 24.0))
        all_, hole = Mark("fence", ring(5.0), eye=FAR), Mark("swab", np.zeros((1, 3)), adds=False, mm=2.0)
        self.assertAlmostEqual(covered(flat, all_, hole), math.pi * (25 - 4), delta=1.2)
        self.assertAlmostEqual(covered(flat, hole, all_), math.pi * 25, delta=0.5)

    def test_beside_the_scan_it_is_lost(self) -> None:
        flat = sheet(41, 41, lambda x, y: 0 * x)
        self.assertTrue(marked(flat, [Mark("swab", np.array([[0, 0, 50.0]]), mm=1.0)], teeth(flat)).marks[0].lost)


class OtherMarksTest(unittest.TestCase):
    def test_a_saw_takes_the_cap_it_should(self) -> None:
        ball = sphere(10.0, 120)
        mark = Mark("saw", np.array([[0, 0, 4.0]]), towards=np.array([0, 0, 2.0]))
        self.assertAlmostEqual(covered(ball, mark), 2 * math.pi * 10 * 6, delta=0.5)

    def test_larger_and_smaller_along_the_surface(self) -> None:
        """A cap grown by s over a sphere of radius R reaches to the angle a + s / R."""
        ball = sphere(10.0, 160)
        value = ball.vertices_mm[:, 2] - 10 * math.cos(0.5)
        for mm in (1.0, -1.0):
            area = area_mm2(clip(ball, grown(ball, value, mm)).mesh)
            true = 2 * math.pi * 100 * (1 - math.cos(0.5 + mm / 10))
            self.assertAlmostEqual(area, true, delta=0.02 * true)
        self.assertLess(np.abs(signed(ball, value, reach_mm=2.0)).max(), 4.01)

    def test_the_other_way_round_and_a_whole_piece(self) -> None:
        ball = sphere(10.0, 60)
        two = joined(ball, ball.with_vertices(ball.vertices_mm + [30.0, 0, 0]))
        piece = Mark("piece", np.array([[30.0, 0, 10]]))
        self.assertAlmostEqual(covered(two, piece), area_mm2(ball), delta=1e-6)
        self.assertAlmostEqual(covered(two, piece, Mark("invert", np.zeros((0, 3)))), area_mm2(ball), delta=1e-6)
        # As marks part it: what a saw has cut off is a piece, and comes back as one.
        saw = Mark("saw", np.array([[0, 0, 4.0]]), towards=np.array([0, 0, 1.0]))
        back = Mark("piece", np.array([[30.0, 0, 10]]), adds=False)
        self.assertAlmostEqual(covered(two, saw, back), 2 * math.pi * 10 * 6, delta=1.0)

    def test_cuts_leave_no_slivers(self) -> None:
        """No edge of a cut triangle is shorter than the share of an edge that is snapped to (ops/fields.SNAP)."""
        flat = jittered(sheet(81, 81, lambda x, y: 0 * x, (20.0, 20.0)), 0.05)
        value = marked(flat, [Mark("fence", ring(5.0), eye=FAR, reach="through")], teeth(flat)).value
        cut = clip(flat, snapped(flat, value)).mesh
        v, own = cut.vertices_mm[cut.faces], flat.vertices_mm[flat.faces]
        least, usual = (np.linalg.norm(x - np.roll(x, 1, axis=1), axis=2).min() for x in (v, own))
        self.assertGreater(least, 0.5 * SNAP * usual)
        self.assertLessEqual(edge_table(cut).count.max(), 2)


class MarkedStepTest(unittest.TestCase):
    def marked(self, marks: dict[str, Any], *, with_teeth: bool = True) -> StepResult:
        step = standard()["marked"]
        values = {"mesh": clean(), "teeth": told().values["mesh"] if with_teeth else None}
        return step.apply(Inputs(values, "p", "lower"), step.check({"marks": marks}), QUIET)

    def fence(self, **more: Any) -> dict[str, Any]:
        front = [[-9.0, -40, -12], [9, -40, -12], [9, -40, -2], [-9, -40, -2]]
        return {"kind": "fence", "points_mm": front, "eye": [0.0, -260, -6], **more}

    @tag("long")
    def test_a_fence_from_the_front_asks_names_the_teeth_behind_and_spares_them(self) -> None:
        waits = self.marked({"m1": self.fence()})
        flag = next(f for f in waits.flags if f.code == "fence-waits")
        self.assertEqual(waits.values["mesh"].triangles, clean().triangles)
        self.assertGreater(waits.values["caught"].triangles, 100)
        self.assertGreater(waits.values["waiting"].triangles, 100)
        assert flag.fix is not None and flag.other is not None
        self.assertEqual((flag.fix.label, flag.other.label), ("Near side only", "Right through"))
        near, through = (self.marked({"m1": dict(way.values)}).values for way in (flag.fix, flag.other))
        self.assertGreater(near["mesh"].triangles, through["mesh"].triangles)
        behind = near["off"].vertices_mm[:, 1].max(), through["off"].vertices_mm[:, 1].max()
        self.assertGreater(behind[1], behind[0] + 5)
        for values in (near, through):
            self.assertLessEqual(edge_table(values["mesh"]).count.max(), 2)
        self.assertAlmostEqual(area_mm2(near["mesh"]) + area_mm2(near["off"]), area_mm2(clean()), delta=0.002 * area_mm2(clean()))

    def test_what_takes_a_tooth_is_named_and_everything_is_not_cut(self) -> None:
        at = next(t for t in told().values["teeth"] if t["fdi"] == 36)["tips_mm"][0]
        result = self.marked({"m1": {"kind": "swab", "points_mm": [at], "mm": 2.0}})
        self.assertIn("36", next(f.message for f in result.flags if f.code == "tooth-marked"))
        result = self.marked({"m1": {"kind": "invert"}})
        self.assertEqual([f.code for f in result.flags], ["all-marked"])
        self.assertEqual(result.values["mesh"].triangles, clean().triangles)

    def test_marks_on_nothing_are_named(self) -> None:
        result = self.marked({"m1": {"kind": "swab", "points_mm": [[0, 0, 300.0]], "mm": 2.0}}, with_teeth=False)
        self.assertEqual([f.code for f in result.flags], ["mark-lost"])
        self.assertEqual(face_components(result.values["mesh"])[0], face_components(clean())[0])
