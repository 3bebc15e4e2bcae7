"""Mounting plates beside closed forms: which block fits, grooves of known volume, letters the right way round, one way only."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np

from bitecore.engine.gives import unpack
from bitecore.errors import BadSetting
from bitecore.mesh import GROUP_SCAN, Mesh, check_solid, volume_ml
from bitecore.ops.written import text
from bitecore.parts.mounting import GROOVE_MM, back_edge, fitting, foot_of, groove, keys, plate, written
from bitecore.runsheet import CASE, evaluate, standard
from bitecore.runsheet.mounted import blocks_in
from tests.core.known import known_store
from tests.core.test_articulate import pieces
from tests.core.test_runsheet import case
from tests.shapes import light_jaws as jaws
from tests.shapes import manifold

PLATES = {"articulate": {"*": {"style": "plates"}}}


class PlateTest(unittest.TestCase):
    """On two blocks of 40 by 30 by 14 mm, one over the other."""

    def setUp(self) -> None:
        self.upper, self.lower = pieces()
        self.feet = {1.0: foot_of(self.lower, 1.0), -1.0: foot_of(self.upper, -1.0)}

    def test_the_lowest_block_that_fits(self) -> None:
        self.assertEqual(fitting(44.7, [30, 40, 45, 50]), 45)
        self.assertEqual(fitting(45.0, [30, 40, 45, 50]), 45)
        self.assertIsNone(fitting(50.1, [30, 40, 45, 50]))
        self.assertEqual(blocks_in("40, 30; 35,5"), (30.0, 35.5, 40.0))

    def test_faces_and_edges_are_where_the_blocks_have_them(self) -> None:
        self.assertEqual((self.feet[1.0].face, self.feet[-1.0].face), (-14.0, 14.0))
        for foot in self.feet.values():
            left, right = back_edge(foot)
            np.testing.assert_allclose(left, [20, 30], atol=1e-9)
            np.testing.assert_allclose(right, [-20, 30], atol=1e-9)

    def test_a_plate_lies_within_the_base(self) -> None:
        for sign, body in ((1.0, self.lower), (-1.0, self.upper)):
            made = plate(self.feet[sign], 4.0)
            self.assertAlmostEqual(1000 * volume_ml(made), 39.98 * 29.98 * 3.999, delta=0.01)
            self.assertEqual((manifold(made) - manifold(body)).volume(), 0.0)

    def test_grooves_take_what_they_should_and_let_it_go_on_in_one_way_only(self) -> None:
        for sign, body in ((1.0, self.lower), (-1.0, self.upper)):
            cut = [groove(key, self.feet[sign]) for key in keys(self.feet[sign], 4.0)]
            solid = manifold(body)
            for each in cut:
                self.assertTrue(check_solid(each).ok)
                taken = (solid ^ manifold(each)).volume()
                self.assertAlmostEqual(taken, 4.0 * 2.0 / 2 * GROOVE_MM, delta=1e-6)
            # Turned half round, none but the whole lies in the grooves it was made with.
            around = sum((manifold(c) for c in cut[1:]), manifold(cut[0]))
            middle = [0.0, 15.0, 0.0]
            turned = around.translate([-m for m in middle]).rotate([0, 0, 180]).translate(middle)
            self.assertLess((turned ^ around ^ solid).volume(), 0.7 * (around ^ solid).volume())

    def test_letters_read_upright_from_behind_as_the_base_stands(self) -> None:
        words = (text(["L"], tall_mm=2.4), text(["7"], tall_mm=2.4))
        for sign, body in ((1.0, self.lower), (-1.0, self.upper)):
            first, second = written(self.feet[sign], words, 4.0, 4.0)
            left = (manifold(body) ^ manifold(first)).to_mesh64()
            points = np.asarray(left.vert_properties)[:, :3]
            # Seen from behind the patient's left is on the left of a lower that stands, on the right of an upper on its head.
            across, high = -sign * points[:, 0], sign * points[:, 2]
            foot, stem = high < high.min() + 0.3, across < across.min() + 0.3
            self.assertGreater(np.ptp(across[foot]), 0.6)
            self.assertGreater(np.ptp(high[stem]), 2.2)
            self.assertLess(np.ptp(across[high > high.max() - 0.3]), 0.6)
            self.assertGreater((-sign * second.vertices_mm[:, 0]).min(), across.max())
            self.assertAlmostEqual(30 - points[:, 1].min(), 0.41, delta=0.001)

    def test_no_room_for_letters_is_no_letters(self) -> None:
        words = (text(["2611-0123456789"], tall_mm=2.4), text(["45 mm"], tall_mm=2.4))
        self.assertEqual(written(self.feet[1.0], words, 4.0, 4.0), [])

    def test_wrong_settings_are_said(self) -> None:
        for values, word in (({"blocks": "thirty"}, "heights in mm"), ({"blocks": ""}, "from one to 30"), ({"key_mm": 8}, "half as deep")):
            with self.assertRaises(BadSetting) as caught:
                standard()["articulate"].check(values)
            self.assertIn(word, str(caught.exception))


class JawTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.store = known_store()
        cls.document = case(cls.store, *jaws(5))

    def worked(self, **more: Any) -> Any:
        return evaluate(self.document.model_copy(update={"settings": {**PLATES, **more}}), CASE, self.store).graph

    def body(self, graph: Any, step: str, piece: str) -> Mesh:
        return unpack(graph.node(step, piece).good.values["body"], self.store.blobs)

    def test_another_height_is_carried_to_the_block_by_one_press(self) -> None:
        first = self.worked().node("articulate").manifest
        self.assertEqual([f["code"] for f in first.flags], ["other-block"])
        fix = first.flags[0]["fix"]
        graph = self.worked(**{fix["step"]: {"*": fix["values"]}})
        articulate = graph.node("articulate").manifest
        self.assertIn("mounted", [f["code"] for f in articulate.flags])
        for piece in graph.jaws:
            before, now = self.body(graph, "base", piece), self.body(graph, "assemble", piece)
            self.assertEqual((check_solid(now).ok, check_solid(now).components), (True, 1))
            self.assertEqual(int((now.groups == GROUP_SCAN).sum()), int((before.groups == GROUP_SCAN).sum()))
            np.testing.assert_allclose(now.vertices_mm.min(0), before.vertices_mm.min(0), atol=1e-5)
            np.testing.assert_allclose(now.vertices_mm.max(0), before.vertices_mm.max(0), atol=1e-5)

    def test_too_low_a_block_and_none_that_fits_are_said(self) -> None:
        low = self.worked(articulate={"*": {"style": "plates", "block_mm": 30}}).node("articulate").manifest.flags
        self.assertEqual((low[0]["code"], low[0]["fix"]["values"]), ("low-block", {"block_mm": 45.0}))
        none = self.worked(articulate={"*": {"style": "plates", "blocks": "30 35"}}).node("articulate").manifest.flags
        self.assertEqual(none[0]["code"], "no-block")

    def test_the_face_that_lies_on_a_block_gets_no_drains(self) -> None:
        hollow = {"hollow": {"*": {"style": "closed", "through": "floor"}}, "base": {"*": {"height": "gap", "gap_mm": 45}}}
        graph = self.worked(**hollow)
        bearing = {row["piece"]: np.array(row["outline"]) for row in graph.node("articulate").json("bearing")}
        self.assertEqual(set(bearing), set(graph.jaws))
        for piece in graph.jaws:
            foot = graph.node("foot").json("foot", piece)
            up, drains = np.array(foot["up"]), graph.node("drains", piece)
            face = bearing[piece] @ up
            low = (self.body(graph, "base", piece).vertices_mm @ up).min()
            np.testing.assert_allclose(face, low, atol=1e-4)
            # Where they come out they lie higher than they are wide.
            out = np.array([d["at_mm"] for d in drains.json("drains")]) @ up
            self.assertTrue(len(out) > 1 and (out > low + 1.5).all(), out - low)
            self.assertIn("drains-bear", [f["code"] for f in drains.manifest.flags])
        flags = self.worked(hollow={"*": {"style": "open"}}).node("drains", "p1").manifest.flags
        flag = next(f for f in flags if f["code"] == "drains-bear")
        self.assertEqual((flag["severity"], flag["fix"]["values"]), ("look", {"style": "closed", "through": "wall"}))

    def test_the_face_that_lies_on_a_block_gets_neither_letters_nor_tips(self) -> None:
        under = {"label": {"*": {"style": "engraved", "side": "under"}}}
        for style, where in (("none", "underneath"), ("plates", "on the wall")):
            graph = self.worked(articulate={"*": {"style": style}}, **under)
            for piece in graph.jaws:
                self.assertEqual({row["where"] for row in graph.node("label", piece).json("labels")}, {where}, style)
        plate = {"plate": {"*": {"printer": "heron", "supports": "all"}}}
        flags = self.worked(**plate).node("supports", "p1").manifest.flags
        flag = next(f for f in flags if f["code"] == "on-bearing")
        self.assertEqual(flag["fix"]["values"], {"supports": "none"})
