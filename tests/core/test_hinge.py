"""Hinged backs: their movement beside closed forms and another library's rotations, the halves beside exact booleans."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
from django.test import tag
from scipy.spatial.transform import Rotation

from bitecore.engine.gives import unpack
from bitecore.mesh import GROUP_SCAN, Mesh, check_solid, volume_ml
from bitecore.parts.hinge import CONE_MM, Side, halves, opens, pin, strain_percent, turn
from bitecore.parts.hinge_places import BackRoom, Backs, Knuckles, NoBacks
from bitecore.runsheet import CASE, evaluate
from tests.core.known import known_store
from tests.core.test_articulate import block, pieces
from tests.core.test_runsheet import case
from tests.shapes import box, jaws, manifold


def slab(low: tuple[float, float, float], high: tuple[float, float, float]) -> Mesh:
    made = box(tuple(np.subtract(high, low)))
    return made.with_vertices(made.vertices_mm - made.vertices_mm.min(0) + low)


def quiet(part: float) -> None:
    pass


class TurnTest(unittest.TestCase):
    def test_beside_another_librarys_rotation(self) -> None:
        axis, rng = (31.0, 4.0), np.random.default_rng(1)
        for degrees in (0.0, 0.1, 12.0, 90.0, 170.0):
            points = rng.normal(size=(20, 3)) * 20
            about = np.array([0.0, *axis])
            # The front lies towards -y and goes up: a turn about -x.
            asked = Rotation.from_rotvec([-np.radians(degrees), 0, 0]).apply(points - about) + about
            matrix = turn(axis, degrees)
            np.testing.assert_allclose(points @ matrix[:3, :3].T + matrix[:3, 3], asked, atol=1e-9)

    def test_where_a_plate_meets_another_behind_the_axis_in_closed_form(self) -> None:
        """The near upper edge, 1 mm in front of the axis and 2 over it, reaches the plane through it after 180° - atan(2 / 1)."""
        upper, lower = slab((-5, -10, 0.1), (5, -1, 2)), slab((-5, 1, -3), (5, 12, 0))
        angle = 180 - np.degrees(np.arctan2(2, 1))
        sides = Side.of(upper, [upper]), Side.of(lower, [lower])
        free = opens(*sides, (0.0, 0.0), least_deg=1.0, most_deg=175.0, said=quiet)
        self.assertLess(abs(free - angle), 0.5)
        self.assertEqual(opens(*sides, (0.0, 0.0), least_deg=1.0, most_deg=110.0, said=quiet), 110.0)


class HalvesTest(unittest.TestCase):
    def room(self, sizes: Knuckles) -> tuple[BackRoom, Backs]:
        room = BackRoom(*pieces(), sizes)
        found = room.find()
        assert isinstance(found, Backs)
        return room, found

    def test_on_one_axis_behind_two_blocks(self) -> None:
        for sizes in (Knuckles(), Knuckles(hole_mm=0.0), Knuckles(hole_mm=3.3, radius_mm=5.0, tongue_mm=6.0, free_mm=6.0)):
            room, found = self.room(sizes)
            self.assertGreaterEqual(found.axis[0], 30 + sizes.off_mm + sizes.radius_mm - 1e-9)
            self.assertEqual(found.hinges["left"].x, -found.hinges["right"].x)
            made = [halves(h, found, sizes, floor=room.floor, ceiling=room.ceiling) for h in found.hinges.values()]
            for half in made:
                for one in (half.lower, half.upper):
                    self.assertTrue(check_solid(one).ok)
                    self.assertEqual(check_solid(one).components, 1)
                for degrees in (0, 10, 60, 90, 120):
                    turned = manifold(half.upper).transform(turn(found.axis, degrees)[:3])
                    self.assertEqual((turned ^ manifold(half.lower)).volume(), 0.0, (sizes, degrees))
            # Square to tongue and cone alike there is the air that was asked for.
            gap = manifold(made[0].upper).min_gap(manifold(made[0].lower), 1.0)
            self.assertAlmostEqual(gap, sizes.air_mm, delta=0.004)

    def test_shifted_along_the_axis_it_has_only_its_air(self) -> None:
        sizes = Knuckles()
        room, found = self.room(sizes)
        half = halves(found.hinges["left"], found, sizes, floor=room.floor, ceiling=room.ceiling)
        for way, meets in ((sizes.air_mm - 0.01, False), (sizes.air_mm + 0.02, True)):
            moved = manifold(half.upper).translate([way, 0, 0]) ^ manifold(half.lower)
            self.assertEqual(moved.volume() > 1e-6, meets)

    def test_snapped_in_it_does_not_come_out(self) -> None:
        sizes = Knuckles(hole_mm=0.0)
        room, found = self.room(sizes)
        half = halves(found.hinges["left"], found, sizes, floor=room.floor, ceiling=room.ceiling)
        for way in ([0, 0.5, 0], [0, -0.5, 0], [0, 0, 0.5]):
            self.assertGreater((manifold(half.upper).translate(way) ^ manifold(half.lower)).volume(), 0.05)
        # 1.5 t d / l², by hand: 1.5 * 2.2 * 1.15 / 14² = 1.94 %.
        self.assertAlmostEqual(strain_percent(Knuckles(hole_mm=0.0, free_mm=14.0)), 1.94, delta=0.01)
        self.assertLess(CONE_MM, sizes.cheek_mm)

    def test_a_pin_goes_through_the_holes_and_not_out(self) -> None:
        sizes = Knuckles(hole_mm=2.3)
        made = pin(sizes, thick_mm=2.0)
        self.assertTrue(check_solid(made).ok)
        shaft = np.pi * 1.0**2 * (2 * sizes.half + 0.6)
        head = np.pi * 2.0**2 * 1.5
        tip = np.pi * 0.4 * (1 + 0.6 + 0.36) / 3
        self.assertAlmostEqual(1000 * volume_ml(made), shaft + head + tip, delta=0.4)

    def test_where_none_can_stand_it_is_said(self) -> None:
        flat = BackRoom(block(0, 2), block(-2, 0), Knuckles()).find()
        assert isinstance(flat, NoBacks)
        self.assertIn("too low together", flat.why)
        upper, lower = pieces()
        far = BackRoom(upper, lower.with_vertices(lower.vertices_mm - [0, 40, 0]), Knuckles()).find()
        assert isinstance(far, NoBacks)
        self.assertIn("mm long", far.why)


class JawTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.store = known_store()
        cls.document = case(cls.store, *jaws(5))

    def worked(self, **more: Any) -> Any:
        settings = {"articulate": {"*": {"style": "hinge"} | more}}
        return evaluate(self.document.model_copy(update={"settings": settings}), CASE, self.store).graph

    def on_bench(self, graph: Any, step: str, piece: str) -> Any:
        body = unpack(graph.node(step, piece).good.values["body"], self.store.blobs)
        matrix = np.array(graph.node("level").json("home_to_bench", piece.split(".")[0]))
        return body, manifold(body.with_vertices(body.vertices_mm @ matrix[:3, :3].T + matrix[:3, 3]))

    def test_one_body_each_exact_in_the_bite_and_free_as_far_as_it_says(self) -> None:
        graph = self.worked(turn_wide_deg=110)
        solids = {}
        for piece, jaw in graph.jaws.items():
            before, solids[f"{jaw} before"] = self.on_bench(graph, "base", piece)
            now, solids[jaw] = self.on_bench(graph, "assemble", piece)
            self.assertEqual((check_solid(now).ok, check_solid(now).components), (True, 1))
            self.assertEqual(int((now.groups == GROUP_SCAN).sum()), int((before.groups == GROUP_SCAN).sum()))
        own = (solids["upper before"] ^ solids["lower before"]).volume()
        self.assertAlmostEqual((solids["upper"] ^ solids["lower"]).volume(), own, delta=1e-3)
        hinge = graph.node("articulate").json("hinge")
        self.assertEqual(hinge["opens_deg"], 110.0)
        for degrees in (3, 17, 45, 75, 110):
            turned = solids["upper"].transform(turn((hinge["behind_mm"], hinge["over_mm"]), degrees)[:3])
            self.assertLess((turned ^ solids["lower"]).volume(), 1e-3, degrees)

    def test_the_jaws_swing_about_their_own_hinge(self) -> None:
        settings = {"articulate": {"*": {"style": "hinge", "swing": True}}}
        graph = evaluate(self.document.model_copy(update={"settings": settings}), CASE, self.store).graph
        hinge, swung = graph.node("articulate").json("hinge"), graph.node("swing").json("swing")
        self.assertTrue(swung["printed"])
        np.testing.assert_allclose(swung["at_mm"], hinge["at_mm"], atol=1e-3)

    def test_by_themselves_they_are_bodies_that_lie_on_the_plate(self) -> None:
        graph = self.worked(turns="pin", turn_parts="apart")
        for piece in graph.jaws:
            body, jaw = self.on_bench(graph, "assemble", piece)
            base, _ = self.on_bench(graph, "base", piece)
            self.assertEqual(body.triangles, base.triangles)
            for name in ("hinge-left", "hinge-right", "hinge-pin"):
                made, part = self.on_bench(graph, "assemble", f"{piece}.{name}")
                self.assertEqual((check_solid(made).ok, check_solid(made).components), (True, 1))
                if name != "hinge-pin":
                    self.assertEqual((part ^ jaw).volume(), 0.0)
                    self.assertLess(part.min_gap(jaw, 1.0), 0.1 + 1e-6)
        self.assertEqual(len(graph.node("plate").manifest.values["home_to_plate"]["by_piece"]), 8)

    @tag("long")
    def test_an_axis_that_has_no_room_where_it_was_put_is_moved_and_said(self) -> None:
        node = self.worked(turn_high_mm=80).node("articulate").manifest
        high = next(r["value"] for r in node.readings if r["name"] == "axis over the mounting face")
        self.assertEqual(node.flags[0]["code"], "axis-moved")
        self.assertAlmostEqual(node.flags[0]["fix"]["values"]["turn_high_mm"], high, delta=0.05)
        again = self.worked(**node.flags[0]["fix"]["values"]).node("articulate").manifest
        self.assertNotIn("axis-moved", [f["code"] for f in again.flags])

    def test_without_a_hinge_no_jaw_is_taken_for_a_half_of_it(self) -> None:
        graph = self.worked(turn_parts="apart", turn_off_mm=15)
        self.assertEqual(graph.node("articulate").manifest.flags[0]["code"], "no-hinge")
        for piece in graph.jaws:
            half = graph.node("assemble", f"{piece}.hinge-left")
            self.assertIn("Articulate says why", half.manifest.flags[0]["message"])
            self.assertTrue(graph.node("assemble", piece).good)

    def test_none_with_one_jaw(self) -> None:
        one = self.document.model_copy(update={"pieces": self.document.pieces[:1], "settings": {"articulate": {"*": {"style": "hinge"}}}})
        node = evaluate(one, CASE, self.store).graph.node("articulate")
        self.assertIn("only one jaw", node.manifest.flags[0]["message"])
