"""A mounting gap that the pair does not fit: one press cuts both jaws, and what it says beforehand is what it comes to."""

from __future__ import annotations

import json
import re
import unittest

import numpy as np

from bitecore.engine.gives import unpack
from bitecore.runsheet import CASE, MemoryStore, evaluate
from bitecore.runsheet.gap_cut import Cut, cut_both
from tests.core.test_runsheet import case
from tests.shapes import box, jaws


def cut(lowest: float, margin: float | None, *, closed: bool = False) -> Cut:
    """A block of gum under a margin, its teeth up."""
    mesh = box((20, 10, 12))
    return Cut("p1", "lower", mesh.vertices_mm[:, 2] + lowest, mesh, np.array([0.0, 0.0, 1.0]), lowest, margin, closed)


class SharesTest(unittest.TestCase):
    def off(self, jaws: list[Cut], more: float) -> list[float] | None:
        _, fix = cut_both(jaws, more, 40.0)
        return None if fix is None else [round(-j.lowest - each.values["bottom_mm"], 3) for j, each in zip(jaws, fix.more, strict=True)]

    def test_both_give_alike_in_steps_of_a_tenth_and_never_less_than_is_missing(self) -> None:
        self.assertEqual(self.off([cut(-20, -8), cut(-18, -7)], 3.2), [1.6, 1.6])
        self.assertEqual(self.off([cut(-20, -8), cut(-18, -7)], 3.05), [1.6, 1.6])

    def test_where_one_has_no_room_the_other_gives_more(self) -> None:
        self.assertEqual(self.off([cut(-9.5, -8.0), cut(-18, -7)], 3.0), [0.5, 2.5])

    def test_what_would_come_to_the_teeth_is_not_offered(self) -> None:
        text, fix = cut_both([cut(-9, -8), cut(-9, -8)], 3.0, 40.0)
        self.assertIsNone(fix)
        self.assertIn("too little", text)
        self.assertIsNone(cut_both([cut(-20, None), cut(-20, -8)], 3.0, 40.0)[1])


class GapTest(unittest.TestCase):
    def test_the_press_reaches_the_gap_and_costs_what_it_said(self) -> None:
        store = MemoryStore()
        settings: dict = {"base": {"*": {"height": "gap", "gap_mm": 30.0}}}
        document = case(store, *jaws(3), **settings)
        graph = evaluate(document, CASE, store, until="foot").graph
        least = next(r["value"] for r in graph.node("foot").manifest.readings if r["name"].startswith("outer faces"))
        asked = float(np.floor(least * 2) / 2) - 2.0
        settings["base"]["*"]["gap_mm"] = asked
        document = case(store, *jaws(3), **settings)
        flag = next(f for f in evaluate(document, CASE, store, until="foot").graph.node("foot").manifest.flags if f["code"] == "gap-past")
        self.assertTrue(flag["unmet"])
        fix = flag["fix"]
        self.assertEqual({each["piece"] for each in fix["more"]}, {"p1", "p2"})
        promised = float(re.search(r"([\d.]+) mm of gum are left", flag["message"])[1])
        for each in fix["more"]:
            settings.setdefault("trim", {})[each["piece"]] = each["values"]
        settings["base"]["*"] |= fix["values"]
        done = evaluate(case(store, *jaws(3), **settings), CASE, store, until="base").graph
        self.assertEqual([f["code"] for f in done.node("foot").manifest.flags], ["gap"])
        left = []
        for piece in done.jaws:
            bench = np.array(done.node("level").json("home_to_bench", piece))
            sign = 1.0 if done.jaws[piece] == "lower" else -1.0
            told = json.loads(store.blobs.read(done.node("teeth", piece).manifest.values["margins"]["files"][0]["file"]))
            margins = np.array([p for tooth in told for p in tooth["margin_mm"]])
            opened = unpack(done.node("trim", piece).manifest.values["open"], store.blobs)
            lowest = (sign * (opened.vertices_mm @ bench[2, :3] + bench[2, 3]))[np.unique(opened.faces)].min()
            left.append(float((sign * (margins @ bench[2, :3] + bench[2, 3])).min() - lowest))
        self.assertAlmostEqual(min(left), promised, delta=0.06)
