"""Closing about the hinge: beside closed forms, distances by another library, and the average triangle as it is published."""

from __future__ import annotations

import unittest

import igl
import numpy as np

from bitecore.anatomy.average import BACK_MM, BALKWILL_DEG, SIDE_MM, UP_MM
from bitecore.mesh import Mesh
from bitecore.ops.swing import Axis, swing
from bitecore.runsheet import CASE, evaluate
from tests.core.known import known_store
from tests.core.test_runsheet import case
from tests.shapes import light_jaws as jaws
from tests.shapes import sheet, sphere

AXIS = Axis(np.array([0.0, 80.0, 0.0]), np.array([1.0, 0.0, 0.0]), np.array([0.0, -1.0, 0.0]))


def plate(height: float) -> Mesh:
    """20 by 20 mm about the bench's nought, level."""
    made = sheet(41, 41, lambda x, y: 0 * x)
    points = made.vertices_mm - made.vertices_mm.mean(0)
    return made.with_vertices(points / np.ptp(points[:, 0]) * 20 + [0, 0, height])


class SwingTest(unittest.TestCase):
    def test_level_plates_meet_in_front(self) -> None:
        """0.5 mm apart, 70 to 90 mm before the axis: an angle of asin(0.5 / r), the least where r is the largest that both have."""
        met = swing(plate(0.5), plate(0.0), AXIS).meetings(past_mm=0.05)
        self.assertAlmostEqual(met[0].open_rad, -np.arcsin(0.5 / 90), delta=2e-5)
        self.assertAlmostEqual(met[0].high_mm, -0.5, delta=0.002)
        self.assertAlmostEqual(met[0].at_mm[1], -10, delta=0.15)

    def test_a_ball_over_a_plate(self) -> None:
        for over, radius in ((0.2, 3.0), (-0.15, 4.0)):
            ball = sphere(radius, 160)
            upper = ball.with_vertices(ball.vertices_mm + [0, 0, radius + over])
            met = swing(upper, plate(0.0), AXIS).meetings(past_mm=0.05)
            away = np.hypot(80, radius + over)
            gap = np.arctan2(radius + over, 80) - np.arcsin(radius / away)
            self.assertEqual(len(met), 1)
            self.assertAlmostEqual(met[0].open_rad, -gap, delta=4e-5)
            self.assertAlmostEqual(met[0].high_mm, -gap * 80, delta=0.004)

    def test_contacts_come_in_their_order(self) -> None:
        """Three balls over a plate, each higher than the one before; as high as their distances from the axis make them."""
        parts, gaps = [], []
        for x, y, over in ((-6.0, 0.0, 0.0), (6.0, 0.0, 0.06), (0.0, -7.0, 0.12)):
            ball = sphere(1.5, 120)
            parts.append(ball.with_vertices(ball.vertices_mm + [x, y, 1.5 + over]))
            away = np.hypot(80 - y, 1.5 + over)
            gaps.append(np.arctan2(1.5 + over, 80 - y) - np.arcsin(1.5 / away))
        first = len(parts[0].vertices_mm)
        upper = Mesh.of(np.vstack([p.vertices_mm for p in parts]), np.vstack([p.faces + k * first for k, p in enumerate(parts)]))
        met = swing(upper, plate(0.0), AXIS).meetings(past_mm=0.2)
        self.assertEqual([round(float(m.at_mm[0])) for m in met], [-6, 6, 0])
        np.testing.assert_allclose([m.open_rad for m in met], np.negative(gaps), atol=5e-5)
        self.assertEqual(len(swing(upper, plate(0.0), AXIS).meetings(past_mm=0.04)), 1)

    def test_what_is_not_over_one_another_never_meets(self) -> None:
        aside = plate(0.0)
        self.assertEqual(swing(aside.with_vertices(aside.vertices_mm + [60, 0, 0]), aside, AXIS).meetings(past_mm=0.1), [])

    def test_the_axis_of_the_average_triangle(self) -> None:
        """Bonwill's triangle: the axis is as far from the incisors as both condyles, half its side to each side, are 101.6 mm away."""
        self.assertAlmostEqual(np.sqrt(BACK_MM**2 + UP_MM**2 + (SIDE_MM / 2) ** 2), 101.6, delta=0.1)
        self.assertAlmostEqual(np.degrees(np.arctan2(UP_MM, BACK_MM)), BALKWILL_DEG, delta=0.1)


class JawTest(unittest.TestCase):
    def test_at_the_first_contact_the_jaws_just_touch(self) -> None:
        store = known_store()
        document = case(store, *jaws(5)).model_copy(update={"settings": {"articulate": {"*": {"swing": True}}}})
        graph = evaluate(document, CASE, store, until="swing").graph
        said = graph.node("swing").json("swing")
        meets = said["meets"]
        self.assertGreater(len(meets), 3)
        self.assertEqual([m["open_deg"] for m in meets], sorted((m["open_deg"] for m in meets), reverse=True))
        self.assertTrue(all(m["teeth"][0] is not None and m["teeth"][1] is not None for m in meets[:3]))
        on_bench = {}
        for piece, jaw in graph.jaws.items():
            matrix = np.array(graph.node("level").json("home_to_bench", piece))
            mesh = jaws(5)[0 if jaw == "upper" else 1]
            on_bench[jaw] = (mesh.vertices_mm @ matrix[:3, :3].T + matrix[:3, 3], mesh.faces.astype(np.int64))
        lower, faces = on_bench["lower"]
        near = on_bench["upper"][0][on_bench["upper"][0][:, 2] < 3]
        at = np.array([0.0, BACK_MM, UP_MM])
        for more, touches in ((0.0, True), (0.05, False), (0.2, False)):
            angle = np.radians(meets[0]["open_deg"] + more)
            cos, sin = np.cos(angle), np.sin(angle)
            y, z = (near - at)[:, 1], (near - at)[:, 2]
            # The upper opens: what is in front of the axis goes up.
            opened = np.c_[near[:, 0], at[1] + y * cos + z * sin, at[2] - y * sin + z * cos]
            least = float(np.sqrt(igl.point_mesh_squared_distance(opened, lower, faces)[0].min()))
            if touches:
                self.assertLess(least, 0.02)
            else:
                self.assertGreater(least, np.radians(more) * 40 * 0.5)

    def test_in_a_raised_bite_nothing_meets_and_how_far_it_is_says_so(self) -> None:
        store = known_store()
        settings = {"articulate": {"*": {"swing": True}}, "bite": {"*": {"raised_mm": 3.0}}}
        node = evaluate(case(store, *jaws(5)).model_copy(update={"settings": settings}), CASE, store, until="swing").graph.node("swing")
        (flag,) = node.good.flags
        self.assertEqual(flag["code"], "no-contact")
        self.assertRegex(flag["message"], r"^Nothing meets in this bite: [1-3]\.\d\d mm further about the hinge axis, .* meets first\.$")
        told = {r["name"]: r["value"] for r in node.good.readings}
        self.assertGreater(told["first contact, short by"], 1000)


if __name__ == "__main__":
    unittest.main()
