"""More than one bite of a pair: a forward one by scans of its own, one set from the first; the models go into the one that is chosen."""

from __future__ import annotations

import unittest
from dataclasses import replace
from functools import cache

import numpy as np
from scipy.spatial.transform import Rotation

from bitecore.anatomy.arch_starts import Arch, closed_relations
from bitecore.anatomy.average import BACK_MM, UP_MM
from bitecore.mesh import Mesh
from bitecore.ops.rigid import placed
from bitecore.ops.starts import Samples
from bitecore.runsheet import CASE, MemoryStore, evaluate
from bitecore.runsheet.who import CaseGraph
from demo import rescans
from demo.arch import Jaw
from tests.core.test_believed import PLAN, scans, truth
from tests.core.test_runsheet import case
from tests.shapes import turn

# Forward by 4 mm and open by 3, as for a splint that holds the jaw forward.
FORWARD = placed(np.eye(3), np.array([0.0, -4.0, -3.0]))


# Opened for a splint by some 8 mm at the incisors, about joints behind and above (common practice).
_SWUNG = Rotation.from_euler("x", 5.0, degrees=True).as_matrix()
OPENED = placed(_SWUNG, (np.eye(3) - _SWUNG) @ [0.0, 95.0, 35.0])


@cache
def forward_scan(left: bool) -> Mesh:
    """A bite scan of the pair with its lower forward, elsewhere."""
    return moved_scan(FORWARD, left=left)


def moved_scan(off: np.ndarray, *, left: bool, high_mm: float = 9.5) -> Mesh:
    lower: Jaw = truth().lower
    pair = replace(truth(), lower=replace(lower, mesh=lower.mesh.moved(off)))
    return rescans.bite_scan(pair, PLAN, left=left, rng=np.random.default_rng(8), high_mm=high_mm).moved(turn(9 + left))


def worst_mm(matrix: np.ndarray, other: np.ndarray) -> float:
    points = truth().lower.mesh.vertices_mm[::50]
    off = matrix - other
    return float(np.linalg.norm(points @ off[:3, :3].T + off[:3, 3], axis=1).max())


class BitesTest(unittest.TestCase):
    """p1, p2 the jaws, p3 and p4 scans of the closed bite, p5 and p6 of the forward one."""

    store = MemoryStore()

    def graph(self, *, more: tuple[Mesh, ...] = (), **settings: dict) -> CaseGraph:
        found = [*scans(np.eye(4)), *more]
        return evaluate(case(self.store, *found, **settings), CASE, self.store, until="bite").graph

    def place(self, graph: CaseGraph) -> np.ndarray:
        return np.array(graph.node("bite").json("home_to_bite", "p2"))

    def codes(self, graph: CaseGraph) -> dict[str, dict]:
        return {f["code"]: f for f in graph.node("bite").manifest.flags}

    def test_a_forward_bite_by_scans_of_its_own_and_the_models_in_either(self) -> None:
        entry = {"scans": ["p5", "p6"]}
        more = (forward_scan(True), forward_scan(False))
        first = self.graph(more=more, bite={"*": {"bites": {"b1": entry}}})
        rows = {b["id"]: b for b in first.node("bite").json("bites")}
        self.assertEqual([(b["name"], b["how"]) for b in rows.values()], [("Habitual", "as they came"), ("Bite 2", "bite scans")])
        self.assertLess(worst_mm(np.array(rows["b1"]["lower_to_upper"]), FORWARD), 0.08)
        left, back, up = rows["b1"]["incisal_mm"]
        self.assertLess(np.abs(np.array([left, back, up]) - [0, -4, -3]).max(), 0.25)  # the mouth's own axes lean a little
        # The closed bite is as it is without them, and the models are in it.
        self.assertEqual(self.place(first).tolist(), np.eye(4).tolist())
        self.assertEqual({s["piece"]: s["bite"] for s in first.node("fit").json("scans")}, {"p3": "", "p4": "", "p5": "b1", "p6": "b1"})
        chosen = self.graph(more=more, bite={"*": {"chosen": "b1", "bites": {"b1": {"name": "Forward"} | entry}}})
        self.assertEqual(self.place(chosen).tolist(), rows["b1"]["lower_to_upper"])
        codes = self.codes(chosen)
        self.assertIn("“Forward”, one of 2", codes["bite-chosen"]["message"])
        self.assertNotIn("open-bite", codes)
        self.assertEqual(chosen.node("bite").json("method"), "bite scans")

    def test_scans_of_two_bites_are_told_and_the_fix_parts_them(self) -> None:
        more = (forward_scan(True), forward_scan(False))
        graph = self.graph(more=more)
        fix = self.codes(graph)["bite-left-out"]["fix"]
        self.assertEqual((fix["step"], fix["at"], fix["values"]), ("bite", "bites", {"scans": ["p5", "p6"]}))
        apart = self.graph(more=more, bite={"*": {"bites": {"b1": fix["values"]}}})
        rows = apart.node("bite").json("bites")
        self.assertLess(worst_mm(np.array(rows[1]["lower_to_upper"]), FORWARD), 0.08)
        self.assertEqual({"bite-left-out", "sides-disagree"} & set(self.codes(apart)), set())

    def test_a_jaw_pair_that_came_closed_with_scans_of_another_bite_alone_is_parted_by_one_press(self) -> None:
        """The first two are taken for the bite, as they measure one; it is said, and Fix makes them one of its own."""
        jaws, more = scans(np.eye(4))[:2], (forward_scan(True), forward_scan(False))
        graph = evaluate(case(self.store, *jaws, *more), CASE, self.store, until="bite").graph
        fix = self.codes(graph)["bite-instead"]["fix"]
        self.assertEqual((fix["at"], fix["values"]), ("bites", {"scans": ["p3", "p4"]}))
        settings = {"bite": {"*": {"bites": {"b1": fix["values"]}}}}
        apart = evaluate(case(self.store, *jaws, *more, **settings), CASE, self.store, until="bite").graph
        rows = apart.node("bite").json("bites")
        self.assertEqual([b["how"] for b in rows], ["as they came", "bite scans"])
        self.assertLess(worst_mm(np.array(rows[1]["lower_to_upper"]), FORWARD), 0.08)
        self.assertEqual(self.place(apart).tolist(), np.eye(4).tolist())

    def test_one_side_of_an_opened_bite_with_much_gum_is_found(self) -> None:
        """It is as wide as a scan that goes round the arch."""
        for left in (True, False):
            graph = self.graph(more=(moved_scan(OPENED, left=left, high_mm=18.0),), bite={"*": {"bites": {"b1": {"scans": ["p5"]}}}})
            row = graph.node("bite").json("bites")[1]
            self.assertIsNotNone(row["lower_to_upper"], row["why"])
            self.assertLess(worst_mm(np.array(row["lower_to_upper"]), OPENED), 0.25)

    def test_one_side_found_on_one_jaw_alone_is_looked_for_as_far_as_bites_are_opened(self) -> None:
        """Some start stands within reach of where the lower is: closed, forward, edge to edge, forward and opened, opened as for a
        splint (common practice, no source). From there the placement settles."""
        nothing, front, home = Samples(np.zeros((1, 3)), np.zeros((1, 3))), np.array([0.0, -1.0, 0.0]), turn(12)
        # Overjet and overbite of 2 mm; the lower lies in a home of its own.
        incisal = home[:3, :3] @ [0.0, 2.0, 2.0] + home[:3, 3]
        lower = Arch(nothing, home[:3, 2], home[:3, :3] @ front, incisal)
        starts = closed_relations(Arch(nothing, np.array([0.0, 0.0, -1.0]), front, np.zeros(3)), lower)
        for forward, deg in ((0, 0), (4, 2), (2.5, 1.5), (7, 5), (0, 5), (-2, 6)):
            swung = Rotation.from_euler("x", deg, degrees=True).as_matrix()
            opened = placed(swung, (np.eye(3) - swung) @ [0.0, 95.0, 35.0] + [0.0, -forward, 0.0])
            want = opened @ np.linalg.inv(home)
            apart = np.linalg.norm((starts - want)[:, :3, :3] @ lower.incisal + (starts - want)[:, :3, 3], axis=1)
            turned = np.degrees(Rotation.from_matrix(starts[:, :3, :3] @ want[:3, :3].T).magnitude())
            self.assertTrue(((apart < 3.0) & (turned < 4.0)).any(), (forward, deg, apart.min()))

    def test_set_from_the_first_by_numbers_and_raised_about_the_hinge(self) -> None:
        entry = {"name": "Splint", "back_mm": -2.0, "raised_mm": 5.0}
        graph = self.graph(bite={"*": {"bites": {"b1": entry, "b2": {"left_mm": 1.5}}}})
        first, splint, side = graph.node("bite").json("bites")
        self.assertEqual((list(first["incisal_mm"]), splint["how"]), ([0.0, 0.0, 0.0], "by hand"))
        # Raised by 5 mm at the incisors: on a circle about the axis, so its back is known in closed form.
        away, from_level = np.hypot(BACK_MM, UP_MM), np.arctan2(UP_MM, BACK_MM)
        back = BACK_MM - away * np.cos(from_level + np.arcsin((5.0 + UP_MM) / away) - from_level)
        self.assertLess(np.abs(np.array(splint["incisal_mm"]) - [0.0, back - 2.0, -5.0]).max(), 1e-3)
        self.assertEqual(list(side["incisal_mm"]), [1.5, 0.0, 0.0])
        self.assertGreater(splint["gap_mm"], 0.5)
        # A late change of the first takes those along that were set from it.
        moved = self.graph(bite={"*": {"bites": {"b1": entry}, "up_mm": -0.5}}).node("bite").json("bites")
        off = np.array(moved[1]["lower_to_upper"]) - np.array(splint["lower_to_upper"])
        self.assertAlmostEqual(float(np.linalg.norm(off[:3, 3])), 0.5, delta=0.05)

    def test_a_chosen_bite_that_is_gone_or_missing_is_said_and_one_press_takes_the_first(self) -> None:
        graph = self.graph(bite={"*": {"chosen": "b4"}})
        flag = self.codes(graph)["bite-gone"]
        self.assertEqual((flag["fix"]["values"], flag["severity"]), ({"chosen": ""}, "look"))
        self.assertEqual(self.place(graph).tolist(), np.eye(4).tolist())
        none = self.graph(bite={"*": {"source": "none", "chosen": "b1", "bites": {"b1": {"back_mm": -1}}}})
        self.assertIsNone(none.node("bite").json("home_to_bite", "p2"))
        self.assertIn("from which it starts", self.codes(none)["no-relation"]["message"])
