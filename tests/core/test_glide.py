"""Forward and sideways: one condyle and both in closed form, a ball under a plate, and what touches by exact booleans."""

from __future__ import annotations

import unittest

import numpy as np
from scipy.spatial.transform import Rotation

from bitecore.anatomy.average import BACK_MM, BENNETT_DEG, PATH_DEG, SIDE_MM, UP_MM
from bitecore.engine.gives import unpack
from bitecore.ops.glide import glide, joints_of, shifted
from bitecore.runsheet import CASE, evaluate
from tests.core.known import known_store
from tests.core.test_runsheet import case
from tests.core.test_swing import plate
from tests.shapes import light_jaws as jaws
from tests.shapes import manifold, sphere

AT = np.array([0.0, BACK_MM, UP_MM])
JOINTS = joints_of(AT, SIDE_MM, PATH_DEG, BENNETT_DEG)


def at(matrix: np.ndarray, point: np.ndarray) -> np.ndarray:
    return matrix[:3, :3] @ point + matrix[:3, 3]


class ShiftTest(unittest.TestCase):
    def test_both_condyles_take_the_incisors_along(self) -> None:
        moved = at(shifted(JOINTS, "forward", 5.0), np.zeros(3))
        np.testing.assert_allclose(moved, [0, -5 * np.cos(np.radians(33)), -5 * np.sin(np.radians(33))], atol=1e-12)

    def test_one_condyle_alone_moves_the_incisors_by_a_known_amount(self) -> None:
        """To the right: the left condyle goes forward, down and inwards, the right one keeps its distance to it on the line."""
        by, slope, inwards = 4.0, np.radians(33), np.radians(15)
        goes = JOINTS.left + by * np.array([-np.cos(slope) * np.sin(inwards), -np.cos(slope) * np.cos(inwards), -np.sin(slope)])
        matrix = shifted(JOINTS, "right", by)
        np.testing.assert_allclose(at(matrix, JOINTS.left), goes, atol=1e-12)
        self.assertAlmostEqual(np.linalg.norm(at(matrix, JOINTS.right) - goes), SIDE_MM, places=9)
        # The lower as a whole goes to its side by what the line has become shorter; about 1 mm for 4.
        side = SIDE_MM - np.linalg.norm(goes - JOINTS.right)
        self.assertAlmostEqual(np.linalg.norm(at(matrix, JOINTS.right) - JOINTS.right), side, places=9)
        self.assertLess(at(matrix, JOINTS.right)[0], JOINTS.right[0])
        # The incisors by another library's rotation of the line between the condyles.
        turn, _ = Rotation.align_vectors([goes - JOINTS.right], [JOINTS.left - JOINTS.right])
        np.testing.assert_allclose(at(matrix, np.zeros(3)), goes + turn.apply(-JOINTS.left), atol=1e-6)

    def test_left_is_right_in_a_mirror(self) -> None:
        mirror = np.diag([-1.0, 1, 1, 1])
        np.testing.assert_allclose(mirror @ shifted(JOINTS, "right", 3.0) @ mirror, shifted(JOINTS, "left", 3.0), atol=1e-12)


class TouchTest(unittest.TestCase):
    def test_a_ball_slides_along_a_plate(self) -> None:
        """Its middle stays 2 mm under the plate and keeps its distance to the line through the condyles."""
        upper = plate(0.0)
        ball = sphere(2.0, 48)
        middle = np.array([0.0, 4.0, -2.0])
        lower = ball.with_vertices(ball.vertices_mm + middle)
        for by in (0.5, 2.0, 4.0):
            pose = glide(upper, lower, JOINTS, "forward", by, past_mm=0.02)
            assert pose is not None
            now = at(pose.matrix, middle)
            line = AT + by * np.array([0.0, -np.cos(np.radians(33)), -np.sin(np.radians(33))])
            far = np.linalg.norm((middle - AT)[1:])
            self.assertAlmostEqual(now[2], -2.0, delta=0.01)
            self.assertAlmostEqual(now[1], line[1] - np.sqrt(far**2 - (now[2] - line[2]) ** 2), delta=0.01)
            np.testing.assert_allclose(pose.meets[0].at_mm, [0, now[1], 0], atol=0.15)


class JawTest(unittest.TestCase):
    def test_the_jaws_just_touch_where_it_is_said(self) -> None:
        store = known_store()
        document = case(store, *jaws(5)).model_copy(update={"settings": {"articulate": {"*": {"glide": True}}}})
        graph = evaluate(document, CASE, store, until="glide").graph
        poses = graph.node("glide").json("glide")["poses"]
        self.assertEqual({p["way"] for p in poses}, {"forward", "left", "right"})
        based = evaluate(document, CASE, store, until="base").graph
        solid = {}
        for piece, jaw in based.jaws.items():
            matrix = np.array(based.node("level").json("home_to_bench", piece))
            body = unpack(based.node("base", piece).good.values["body"], store.blobs)
            solid[jaw] = manifold(body.with_vertices(body.vertices_mm @ matrix[:3, :3].T + matrix[:3, 3]))
        for pose in (p for p in poses if p["by_mm"] in (1.0, 3.0)):
            moved = solid["lower"].transform(np.array(pose["matrix"])[:3])
            self.assertLess((moved ^ solid["upper"]).volume(), 1e-3, pose["way"])
            self.assertLess(moved.min_gap(solid["upper"], 0.2), 0.03, pose["way"])
            self.assertEqual(pose["meets"][0]["high_mm"], 0.0)


if __name__ == "__main__":
    unittest.main()
