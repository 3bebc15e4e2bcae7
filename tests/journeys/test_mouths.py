"""Whole mouths without the interface that take long: other rules of making them, and what looks like another."""

from __future__ import annotations

import unittest

import numpy as np

from bitecore.engine.gives import unpack
from bitecore.files import Limits, read_mesh, stl
from bitecore.mesh import area_mm2, check_solid
from bitecore.ops.weld import weld
from bitecore.runsheet import CASE, MemoryStore, evaluate
from demo import rescans
from demo.arch import ArchPlan, pair
from demo.variants import denture, turned
from tests.core.known import known_store
from tests.core.test_fits import off_mm
from tests.core.test_runsheet import case
from tests.trial.second import mouth, second_plan


class MouthTest(unittest.TestCase):
    def test_a_jaw_by_other_rules_is_based_and_little_of_it_goes(self) -> None:
        """A jaw of the second generator whose border lies so that no wall went down before, gentle curtains or not."""
        mouth_ = mouth(second_plan(23))
        store = known_store()
        graph = evaluate(case(store, mouth_.upper.mesh, mouth_.lower.mesh), CASE, store, until="base").graph
        piece = next(p for p, j in graph.jaws.items() if j == "upper")
        node = graph.node("base", piece)
        self.assertIsNotNone(node.good, node.manifest.flags)
        readings = {r["name"]: r["value"] for r in node.manifest.readings}
        opened = unpack(graph.node("trim", piece).manifest.values["open"], store.blobs)
        self.assertLess(readings["surface cut off with it"], 0.05 * area_mm2(opened))
        body = unpack(node.manifest.values["body"], store.blobs)
        self.assertTrue(check_solid(weld(read_mesh("a.stl", stl.write_binary(body), Limits(triangles=10**7)).points).mesh).ok)

    def test_a_denture_that_looks_like_the_other_jaw_lies_on_its_own(self) -> None:
        """The polished side of an upper denture may look like a lower: what it lies on is told by the fit, not by the look."""
        mouth = pair(ArchPlan(seed=9, grid_mm=0.6, noise_mm=0.01))
        worn, turn = rescans.otherwise_meshed(denture(mouth.upper, upper=True), np.random.default_rng(9)), turned(79)
        store = MemoryStore()
        graph = evaluate(case(store, mouth.upper.mesh, mouth.lower.mesh, worn.moved(turn)), CASE, store, until="bite").graph
        self.assertEqual(graph.node("intake", "p3").json("about")["looks"], "lower")
        node = graph.node("follow", "p3")
        self.assertEqual(node.json("on"), "p1")
        self.assertIn("Laid on the upper jaw", node.manifest.flags[0]["message"])
        home = np.vstack(list(mouth.upper.tips_mm().values())) @ turn[:3, :3].T + turn[:3, 3]
        self.assertLess(off_mm(np.array(node.json("place")["home_to_jaw"]), np.linalg.inv(turn), home).max(), 0.03)
