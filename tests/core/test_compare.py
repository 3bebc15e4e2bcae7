"""What a change did to the jaws, told from two states of one case."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from bitecore.engine.store import FolderStore
from bitecore.ops.rigid import placed
from bitecore.runsheet import CASE, CaseDocument, evaluate
from bitecore.runsheet.compare import JawMove, moves
from bitecore.runsheet.who import CaseGraph
from tests.core.known import known_store
from tests.core.test_runsheet import case
from tests.shapes import light_jaws as jaws

AWAY = placed(np.array([[0.0, -1.0, 0.0], [1.0, 0.0, 0.0], [0.0, 0.0, 1.0]]), [40.0, -15.0, 8.0])


class CompareTest(unittest.TestCase):
    store: FolderStore
    document: CaseDocument
    first: CaseGraph

    @classmethod
    def setUpClass(cls) -> None:
        cls.store = known_store()
        upper, lower = jaws(3)
        cls.document = case(cls.store, upper, lower.moved(AWAY))
        cls.first = cls.state()

    @classmethod
    def state(cls, **settings: dict) -> CaseGraph:
        """The case worked out as far as the plate, with these settings."""
        document = cls.document.model_copy(update={"settings": settings})
        return evaluate(document, CASE, cls.store, until="plate").graph

    def of_jaw(self, found: list[JawMove] | None, jaw: str) -> JawMove:
        assert found is not None
        return next(m for m in found if m.jaw == jaw)

    def test_nothing_changed(self) -> None:
        for move in moves(self.first, self.state()) or []:
            self.assertEqual((move.moved_mm, move.most_mm, move.turned_deg, move.body, move.plate_mm), (0.0, 0.0, 0.0, "same", 0.0))
            self.assertEqual(move.had_ml, move.has_ml)

    def test_a_shift_by_hand_moves_both_by_just_that(self) -> None:
        """3 mm to the left and 4 mm back are 5 mm (Pythagoras), for every tip alike; bodies do not ask where the bench is."""
        found = moves(self.first, self.state(level={"*": {"left_mm": 3.0, "back_mm": 4.0}}))
        # Each jaw is levelled alone here, for the bite is missing: both are moved by the same correction.
        for jaw in ("upper", "lower"):
            move = self.of_jaw(found, jaw)
            self.assertAlmostEqual(move.moved_mm, 5.0, places=6)
            self.assertAlmostEqual(move.most_mm, 5.0, places=6)
            self.assertAlmostEqual(move.turned_deg, 0.0, places=9)
            self.assertAlmostEqual(move.had_ml, move.has_ml, places=4)

    def test_a_turn_by_hand_is_told_in_degrees(self) -> None:
        found = moves(self.first, self.state(level={"*": {"turn_deg": 2.5}}))
        for jaw in ("upper", "lower"):
            move = self.of_jaw(found, jaw)
            self.assertAlmostEqual(move.turned_deg, 2.5, places=6)
            # About the incisors, so that tips at the back go farthest: 45 mm × 2.5° are some 2 mm.
            self.assertTrue(0.5 < move.moved_mm < move.most_mm < 3.0, move)

    def test_a_thicker_base_moves_nothing_and_changes_the_body(self) -> None:
        found = moves(self.first, self.state(base={"*": {"thickness_mm": 4.0}}))
        for jaw in ("upper", "lower"):
            move = self.of_jaw(found, jaw)
            self.assertEqual((move.moved_mm, move.body), (0.0, "changed"))
            self.assertGreater(move.has_ml, move.had_ml)

    def test_while_it_is_worked_out_nothing_is_said(self) -> None:
        self.assertIsNone(moves(self.first, CaseGraph(jaws=dict(self.first.jaws))))
        half = replace(self.first, nodes={k: n for k, n in self.first.nodes.items() if k != "level/*"})
        self.assertIsNone(moves(self.first, half))

    def test_the_tips_are_those_of_the_jaw_that_leads(self) -> None:
        """Without a bite that is the upper: were its tips laid where the lower stands, a turn would move them by far more."""
        level = self.first.node("level")
        assert level is not None and level.manifest is not None
        self.assertEqual(level.manifest.values["auto"]["json"]["on"], "p1")
        place = np.array(level.manifest.values["home_to_bench"]["by_piece"]["p1"]["json"])
        tips = np.array(level.manifest.values["tips"]["json"]) @ place[:3, :3].T + place[:3, 3]
        self.assertLess(np.abs(tips[:, 2]).max(), 5.0)


if __name__ == "__main__":
    unittest.main()
