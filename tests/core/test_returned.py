"""What went out and came back, however it was moved and cut, is known by the triangles it shares with a scan of the case."""

from __future__ import annotations

import unittest
from functools import cache

import numpy as np

from bitecore.anatomy.shared import shared_surface
from bitecore.files import Limits, read_mesh, stl
from bitecore.mesh import Mesh
from bitecore.ops.base import base
from bitecore.ops.clip import clip
from bitecore.ops.mend import mend
from bitecore.ops.upright import Plan
from bitecore.ops.weld import weld
from bitecore.runsheet import CASE, MemoryStore, evaluate
from demo.rescans import otherwise_meshed
from tests.core.test_runsheet import case
from tests.shapes import jaws, turn


def handed_over(mesh: Mesh) -> Mesh:
    """As it is after a way through a file of single precision."""
    return weld(read_mesh("the file", stl.write_binary(mesh), Limits(triangles=10**9)).points).mesh


@cache
def body() -> Mesh:
    return base(mend(handed_over(jaws(3)[1])).mesh, up=np.array([0.0, 0.0, 1.0]), plan=Plan(thickness_mm=4.0)).body


def cut(mesh: Mesh, share: float) -> Mesh:
    """On a slant, so much of its corners off."""
    slant = np.array([0.6, 0.5, 0.62])
    height = mesh.vertices_mm @ slant
    return clip(mesh, height - np.quantile(height, share)).mesh


class SharedTest(unittest.TestCase):
    def test_a_body_is_at_home_to_a_thousandth_however_much_of_it_is_gone(self) -> None:
        scan = handed_over(jaws(3)[1])
        for share in (0.0, 0.3, 0.5, 0.8):
            with self.subTest(gone=share):
                there = turn(7)
                found = shared_surface(handed_over(cut(body(), share).moved(there) if share else body().moved(there)), scan)
                off = found.matrix @ there - np.eye(4)
                self.assertLess(np.abs(scan.vertices_mm @ off[:3, :3].T + off[:3, 3]).max(), 0.001)
                self.assertTrue(found.made)
                self.assertGreater(found.other, 0.1)

    def test_another_scan_of_the_same_jaw_or_of_the_other_has_no_triangle_of_it(self) -> None:
        upper, lower = jaws(3)
        self.assertIsNone(shared_surface(handed_over(otherwise_meshed(lower, np.random.default_rng(1))), handed_over(lower)))
        self.assertIsNone(shared_surface(handed_over(upper), handed_over(lower)))

    def test_a_scan_that_was_taken_up_again_is_no_part_that_came_back(self) -> None:
        """The same triangles but where a tooth was prepared meanwhile: a scan of its own, placed by what is the same."""
        lower = handed_over(jaws(3)[1])
        points = lower.vertices_mm.copy()
        near = np.linalg.norm(points - points[points[:, 2].argmax()], axis=1) < 9.0
        points[near] -= [0.0, 0.0, 0.8]
        found = shared_surface(handed_over(Mesh.of(points, lower.faces).moved(turn(5))), lower)
        self.assertFalse(found.made)
        off = found.matrix @ turn(5) - np.eye(4)
        self.assertLess(np.abs(lower.vertices_mm @ off[:3, :3].T + off[:3, 3]).max(), 0.001)


class CameBackTest(unittest.TestCase):
    def test_it_is_placed_and_called_what_it_is(self) -> None:
        upper, lower = jaws(3)
        for gone in (0.1, 0.3, 0.55):
            with self.subTest(gone=gone):
                store, there = MemoryStore(), turn(9)
                document = case(store, upper, lower, cut(body(), gone).moved(there))
                document.pieces[2].drop = 2
                graph = evaluate(document, CASE, store, until="bite").graph
                self.assertEqual((graph.jaws, graph.kinds), ({"p1": "upper", "p2": "lower"}, {"p3": "returned"}))
                node = graph.node("follow", "p3")
                place = node.json("place")
                self.assertEqual(place["on"], "p2")
                off = np.array(place["home_to_jaw"]) @ there - np.eye(4)
                self.assertLess(np.abs(lower.vertices_mm @ off[:3, :3].T + off[:3, 3]).max(), 0.001)
                words = " ".join(f["message"] for f in (*node.manifest.flags, *graph.node("returned", "p3").manifest.flags))
                self.assertIn("It came back", words)
                self.assertIn("Laid on the lower jaw", words)
                self.assertNotIn("None", words)
                # What was cut off on the bench was not taken in the mouth.
                beside = graph.node("again")
                self.assertEqual((beside.json("rank"), beside.manifest.flags) if beside else ({}, []), ({}, []))

    def test_what_a_person_said_of_it_stands(self) -> None:
        store = MemoryStore()
        document = case(store, *jaws(3), body().moved(turn(9)), intake={"p3": {"kind": "before"}})
        document.pieces[2].drop = 2
        self.assertEqual(evaluate(document, CASE, store, until="bite").graph.kinds, {"p3": "before"})
