"""Dies beside closed forms and exact booleans of another library: shafts and sockets, ways out, what is taken of whom, and whole dies of
generated jaws that go in and out without touching."""

from __future__ import annotations

import unittest
from typing import Any

import manifold3d
import numpy as np
from django.test import tag

from bitecore.engine.gives import unpack
from bitecore.mesh import GROUP_SCAN, Mesh, check_solid, volume_ml
from bitecore.parts.die_path import fan, way_out
from bitecore.parts.die_plan import DieSizes, Near, near, overlap_along, planned, seen
from bitecore.parts.die_shaft import Shaft, give_way, grown, half_plane, hole_of, least_apart, ring_of, shaft_shape
from bitecore.parts.dies import Wanted, side_by_side
from bitecore.parts.fit_strip import AIRS_MM, fit_strip, socket_at
from bitecore.parts.fit_strip import shaft as one_shaft
from bitecore.parts.size_strip import LENGTHS_MM, correction_percent, size_strip
from bitecore.runsheet import CASE, evaluate
from bitecore.runsheet.steps.dies import DiesSettings
from tests.core.known import known_store
from tests.core.test_runsheet import case
from tests.shapes import arches, box, manifold, sphere

UP = np.array([0.0, 0.0, 1.0])


def circle(radius: float, count: int = 128) -> np.ndarray:
    turn = np.arange(count) / count * 2 * np.pi
    return radius * np.c_[np.cos(turn), np.sin(turn)]


def oval(long: float, wide: float) -> manifold3d.CrossSection:
    return manifold3d.CrossSection([circle(1.0) * [long, wide]])


def area_of(ring: Any) -> float:
    """Below nought of a hole."""
    x, y = np.asarray(ring).T
    return 0.5 * float(x @ np.roll(y, -1) - y @ np.roll(x, -1))


def slab(low: tuple[float, float, float], high: tuple[float, float, float]) -> Mesh:
    made = box(tuple(np.subtract(high, low)))
    return made.with_vertices(made.vertices_mm - made.vertices_mm.min(0) + low)


class ShaftTest(unittest.TestCase):
    sizes = DieSizes(air=0.08, taper_deg=2.0)

    def shaft(self) -> Shaft:
        return Shaft.of(circle(1.0) * [4.0, 2.5], 0.0, -9.0, self.sizes)

    def test_the_air_is_as_asked_at_every_height(self) -> None:
        shaft = self.shaft()
        for z in (0.0, -3.0, -8.0):
            self.assertAlmostEqual(least_apart(shaft.at(z), shaft.at(z, 0.08)), 0.08, delta=0.002)
        # Of whole solids, by the library's least distance, away from the seat.
        inner = shaft.solid().trim_by_plane((0, 0, 1), -5.0)
        room = manifold3d.Manifold.cube([30, 30, 4.6], center=True).translate([0, 0, -2.4]) - shaft.solid(0.08)
        self.assertAlmostEqual(inner.min_gap(room, 1.0), 0.08 * np.cos(np.radians(2.0)), delta=0.003)

    def test_it_is_drawn_in_by_its_taper(self) -> None:
        shaft = Shaft.of(circle(4.0), 0.0, -9.0, self.sizes)
        drawn = np.linalg.norm(shaft.at(-9.0), axis=1)
        np.testing.assert_allclose(drawn, 4.0 - 9.0 * np.tan(np.radians(2.0)), atol=2e-3)

    def test_a_taper_that_would_fold_its_corners_is_less(self) -> None:
        sizes = DieSizes(taper_deg=6.0)
        shape = shaft_shape(oval(2.4, 1.9), np.array([0.0, -1.0]), [oval(20, 20)], sizes)
        assert shape is not None
        shaft = Shaft.of(ring_of(shape), 0.0, -10.0, sizes)
        socket = manifold3d.Manifold.cube([30, 30, 20], center=True).translate([0, 0, -10]) - shaft.solid(0.06)
        for lift in (0.0, 0.1, 2.0, 9.0):
            self.assertLess((shaft.solid().translate([0, 0, lift]) ^ socket).volume(), 1e-6, lift)
        self.assertGreater(shaft.slope, np.tan(np.radians(4.0)))

    def test_volume_of_a_straight_one_on_its_roof_in_closed_form(self) -> None:
        """A block 6 x 4 that stands on planes of 45° whose ridge runs along the 6: over the foot's edges a box, under them a prism."""
        ring = np.array([[3.0, -2], [3, 2], [-3, 2], [-3, -2]])
        shaft = Shaft(ring, 0.0, -8.0, np.array([1.0, 0]), np.zeros(2), DieSizes(taper_deg=0.0))
        solid = shaft.solid().trim_by_plane((0, 0, -1), 0.0)
        self.assertAlmostEqual(solid.volume(), 6 * 4 * 6 + 6 * 4 * 2 / 2, places=6)
        self.assertEqual(shaft.hole_mm, 1.6)
        self.assertAlmostEqual(shaft.seat_mm2, 24 - np.pi * 0.8**2, places=6)

    def test_a_short_foot_stands_on_steeper_planes(self) -> None:
        """2.4 mm along its ridge: of 45° it would turn by 0.48°; volume again in closed form, and no overlap on the way out."""
        ring = np.array([[1.2, -1], [1.2, 1], [-1.2, 1], [-1.2, -1]])
        shaft = Shaft(ring, 0.0, -8.0, np.array([1.0, 0]), np.zeros(2), DieSizes(taper_deg=0.0))
        self.assertAlmostEqual(shaft.steep, 0.01 / (1.2 * np.tan(np.radians(0.28))), places=9)
        self.assertAlmostEqual(shaft.turns_deg(), 0.28, places=9)
        solid = shaft.solid().trim_by_plane((0, 0, -1), 0.0)
        self.assertAlmostEqual(solid.volume(), 2.4 * 2 * (8 - shaft.steep) + 2.4 * 2 * shaft.steep / 2, places=6)
        socket = manifold3d.Manifold.cube([30, 30, 20], center=True).translate([0, 0, -10]) - shaft.solid(0.08)
        for lift in (0.0, 0.5, 4.0):
            self.assertLess((shaft.solid().translate([0, 0, lift]) ^ socket).volume(), 1e-6, lift)

    def test_on_its_roof_it_turns_less_than_the_air_of_its_walls_would_let_it(self) -> None:
        shaft = self.shaft()
        socket = manifold3d.Manifold.cube([30, 30, 20], center=True).translate([0, 0, -10]) - shaft.solid(0.08)
        die = shaft.solid()
        self.assertLess((die ^ socket).volume(), 1e-9)
        told = shaft.turns_deg()
        turned = {
            deg: (die.rotate([0, 0, deg]).translate([0, 0, lift]) ^ socket).volume() for deg, lift in ((told, 0.0), (told * 0.98, 0.0101))
        }
        # Where it stands it binds at once; lifted by a hundredth of a millimetre it turns so far.
        self.assertGreater(turned[told], 1e-4)
        self.assertLess(turned[told * 0.98], 1e-6)
        self.assertLess(told, np.degrees(0.08 / 4.0))

    def test_it_goes_in_one_way_only(self) -> None:
        plan = oval(4.0, 3.0)
        made = shaft_shape(plan, np.array([0.0, -1.0]), [oval(20, 20)], DieSizes())
        assert made is not None
        there = made.rotate(180)
        self.assertGreater((there - made.offset(0.06, manifold3d.JoinType.Round)).area(), 0.5)

    def test_walls_stay_round_it_and_between_two(self) -> None:
        sizes = DieSizes(wall=1.2)
        body = manifold3d.CrossSection.square((12, 7), center=True)
        one = shaft_shape(oval(5, 4), np.array([0.0, -1.0]), [body], sizes)
        assert one is not None
        ring = np.asarray(body.to_polygons()[0])
        self.assertGreaterEqual(least_apart(ring, grown(ring_of(one), sizes.air)), 1.2)
        two = give_way([oval(3, 3), oval(3, 3).translate((6.1, 0))], sizes)
        assert two[0] is not None and two[1] is not None
        apart = least_apart(*(grown(ring_of(each), sizes.air) for each in two if each is not None))
        self.assertGreaterEqual(apart, 1.2)
        self.assertLess(apart, 1.3)

    def test_a_hole_goes_through_what_is_under_it(self) -> None:
        shaft = self.shaft()
        hole = hole_of(shaft, -11.0)
        assert hole is not None
        low, high = hole.bounding_box()[2], hole.bounding_box()[5]
        self.assertLess(low, -11.0)
        self.assertGreater(high, shaft.foot)
        self.assertEqual(half_plane(np.array([1.0, 0]), np.array([1.0, 0])).bounds()[0], 1.0)


class PlanTest(unittest.TestCase):
    """Two balls of 8 mm, the one between them (if any) 0.1 mm off; seen from above they are discs."""

    def row(self, gap: float, *, over: float = 0.0) -> Near:
        ball = sphere(4.0, 60).as_scan()
        other = ball.with_vertices(ball.vertices_mm + [8.0 + gap, 0, over])
        return Near(46, ball, {45: other}, np.zeros(3))

    def test_outlines_and_overlaps_in_closed_form(self) -> None:
        for gap in (-0.6, -0.2, 0.3, 1.0):
            told = overlap_along(self.row(gap), np.eye(3), 0.05)
            # Two discs that overlap by d lie in one another by d / 2 at most; apart, the room between them.
            self.assertAlmostEqual(told, -gap / 2 if gap < 0 else -gap, delta=0.06)

    def test_alone_it_goes_so_far_beyond_its_tooth(self) -> None:
        view = seen(Near(46, sphere(4.0, 60).as_scan(), {}, np.zeros(3)), np.eye(3))
        plan = planned(view, DieSizes())
        assert plan is not None
        self.assertAlmostEqual(plan.shape.area(), np.pi * (4 + DieSizes().rim) ** 2, delta=0.9)

    def test_a_neighbour_that_stays_gives_way(self) -> None:
        plan = planned(seen(self.row(0.05), np.eye(3)), DieSizes())
        assert plan is not None
        self.assertGreaterEqual(plan.shape.bounds()[2], 4.0 - 0.01)
        self.assertAlmostEqual(plan.opened[45].mm, 0.15 - 0.05 + 0.02, delta=0.06)

    def test_where_both_hang_together_both_lose_half(self) -> None:
        plan = planned(seen(self.row(-0.4), np.eye(3)), DieSizes())
        assert plan is not None
        # The wall stands half the room before the middle.
        middle = plan.shape ^ manifold3d.CrossSection.square((20, 0.02), center=True)
        self.assertAlmostEqual(middle.bounds()[2], 3.8 - 0.075, delta=0.06)
        moved = planned(seen(self.row(-0.4), np.eye(3)), DieSizes(), moved={45: 0.15})
        assert moved is not None
        middle = moved.shape ^ manifold3d.CrossSection.square((20, 0.02), center=True)
        self.assertAlmostEqual(middle.bounds()[2], 3.8 + 0.075, delta=0.06)
        # What is told of it is what would be said, and towards the neighbour.
        for each, asked in ((plan, 0.0), (moved, 0.15)):
            self.assertAlmostEqual(each.walls[45].moved_mm, asked, delta=0.06)
            np.testing.assert_allclose(each.walls[45].towards, [1, 0], atol=0.06)
            self.assertAlmostEqual(each.walls[45].at[0], 3.8 - 0.075 + asked, delta=0.06)

    def test_a_wall_pulled_from_where_it_stands_by_itself_goes_so_far(self) -> None:
        """With room between the two it stands at its own tooth, not half way: what is told of it is from half way all the same."""
        view = seen(self.row(0.8), np.eye(3))
        alone = planned(view, DieSizes())
        assert alone is not None
        self.assertAlmostEqual(alone.walls[45].moved_mm, alone.walls[45].at[0] - 4.4 + 0.075, delta=0.06)
        pulled = planned(view, DieSizes(), moved={45: alone.walls[45].moved_mm + 0.2})
        assert pulled is not None
        self.assertAlmostEqual(pulled.walls[45].at[0] - alone.walls[45].at[0], 0.2, delta=0.06)

    def test_it_leans_out_from_under_what_hangs_over_it(self) -> None:
        teeth = self.row(-0.3, over=4.0)
        way = way_out([teeth], UP)
        self.assertLess(way[0], -0.05)
        self.assertLess(np.degrees(np.arccos(way @ UP)), 12.001)
        np.testing.assert_allclose(way_out([self.row(1.0)], UP), UP)
        self.assertEqual(len(fan(UP)), 61)

    def test_those_side_by_side_go_together(self) -> None:
        groups = side_by_side([Wanted(fdi) for fdi in (21, 14, 11, 16, 17)])
        self.assertEqual([[w.fdi for w in group] for group in groups], [[17, 16], [14], [11, 21]])


class DiesTest(unittest.TestCase):
    store: Any
    document: Any

    @classmethod
    def setUpClass(cls) -> None:
        cls.store = known_store()
        both = arches(61)
        cls.document = case(cls.store, both.upper.mesh, both.lower.mesh).model_copy(update={"teeth": "46 45 36", "number": "2611-09"})

    def worked(self, chart: str = "", settings: dict[str, Any] | None = None, **more: Any) -> Any:
        changed: dict[str, Any] = {
            "settings": {
                "dies": {"*": {"dies": "chart"} | more},
                "base": {"*": {"thickness_mm": 5.0}},
                "plate": {"*": {"printer": "heron"}},
            }
            | (settings or {})
        }
        if chart:
            changed["teeth"] = chart
        return evaluate(self.document.model_copy(update=changed), CASE, self.store).graph

    def body(self, graph: Any, step: str, piece: str) -> Mesh:
        return unpack(graph.node(step, piece).good.values["body"], self.store.blobs)

    def test_each_goes_in_and_out_without_touching_and_nothing_is_missing(self) -> None:
        graph = self.worked()
        piece = next(p for p, jaw in graph.jaws.items() if jaw == "lower")
        told = graph.node("dies", piece).json("dies")
        self.assertEqual(sorted(d["fdi"] for d in told), [36, 45, 46])
        before, model = self.body(graph, "base", piece), self.body(graph, "assemble", piece)
        self.assertEqual((check_solid(model).ok, check_solid(model).components), (True, 1))
        whole, solid = manifold(before), manifold(model)
        left = whole - solid
        dies = {each["fdi"]: manifold(self.body(graph, "assemble", f"{piece}.{each['part']}")) for each in told}
        for one, two in ((46, 45), (46, 36), (45, 36)):
            self.assertEqual((dies[one] ^ dies[two]).volume(), 0.0)
        for each in told:
            die = self.body(graph, "assemble", f"{piece}.{each['part']}")
            self.assertEqual((check_solid(die).ok, check_solid(die).components), (True, 1))
            self.assertGreater(int((die.groups == GROUP_SCAN).sum()), 500)
            self.assertGreater(each["kept"], 0.85)
            made, way = manifold(die), np.array(each["way"])
            for lift in (0.0, 0.01, 0.3, 2.0, 6.0, 12.0, 20.0):
                self.assertLess((made.translate(list(lift * way)) ^ solid).volume(), 1e-5, (each["fdi"], lift))
            # It takes nothing that the model has not lost.
            self.assertLess((made - whole).volume(), 0.3)
            left -= made
        # What neither has are the gaps: room and air, ditches, windows and holes.
        gaps = whole.volume() - solid.volume() - sum(
            (manifold(self.body(graph, "assemble", f"{piece}.{d['part']}")) ^ whole).volume() for d in told
        )  # fmt: skip
        self.assertAlmostEqual(left.volume(), gaps, delta=0.001 * whole.volume())

    def test_they_stand_on_pillars_the_models_lie_flat(self) -> None:
        graph = self.worked()
        raised = {n.piece: bool(n.good.values) for n in graph.of_step("supports")}
        self.assertEqual({p.partition(".")[2] for p, on in raised.items() if on}, {"", "die-36", "die-45", "die-46"})
        self.assertEqual(len(graph.node("plate").manifest.values["home_to_plate"]["by_piece"]), 5)
        self.propped(graph)

    def propped(self, graph: Any) -> None:
        """The model with the sockets stands on the plate itself; in each of its windows stands a prop that hangs together with it above and
        below and keeps off the die."""
        piece = next(p for p, jaw in graph.jaws.items() if jaw == "lower")
        node = graph.node("supports", piece)
        told = graph.node("dies", piece).json("dies")
        windows = [d["window"] for d in told if d["window"]]
        self.assertGreater(len(windows), 0)
        props, model = manifold(unpack(node.good.values["mesh"], self.store.blobs)), manifold(self.body(graph, "assemble", piece))
        each = props.decompose()
        self.assertGreaterEqual(len(each), len(windows))
        for window in windows:
            start, end = np.array(window["from_mm"]), np.array(window["to_mm"])
            way = (end - start) / np.linalg.norm(end - start)
            middles = [np.asarray(p.to_mesh64().vert_properties)[:, :3].mean(0) - start for p in each]
            self.assertTrue(any(np.linalg.norm(m - (m @ way) * way) < 0.3 for m in middles))
        for prop in each:
            # Above and below it goes into the model.
            self.assertEqual(len((prop ^ model).decompose()), 2)
            for d in told:
                die = manifold(self.body(graph, "assemble", f"{piece}.{d['part']}"))
                self.assertGreater(prop.min_gap(die, 1.0), 0.05)

    def test_the_plate_shuts_no_hole_in(self) -> None:
        """A little over the plate every hole from below is joined to the outside; without vents each is a ring of its own."""
        shut = {}
        for vent_mm in (1.5, 0.0):
            graph = self.worked(vent_mm=vent_mm)
            piece = next(p for p, jaw in graph.jaws.items() if jaw == "lower")
            place = np.array(graph.node("plate").json("home_to_plate", piece))
            layer = manifold(self.body(graph, "assemble", piece).moved(place)).slice(0.3)
            shut[vent_mm] = sum(
                manifold3d.CrossSection([np.asarray(ring)[::-1]]).area() > 1.0 for ring in layer.to_polygons() if area_of(ring) < 0
            )
            said = {f["code"] for f in graph.node("check", piece).manifest.flags}
            self.assertEqual("shut-on-plate" in said, vent_mm == 0.0, said)
        self.assertEqual(shut, {1.5: 0, 0.0: 3})

    def test_their_rafts_are_joined_in_a_row(self) -> None:
        graph = self.worked()
        dies = [n for n in graph.nodes.values() if n.step.name == "supports" and "die-" in n.piece]
        self.assertEqual(len(dies), 3)
        rafts = []
        for node in dies:
            place = np.array(graph.node("plate").json("home_to_plate", node.piece))
            made = unpack(node.good.values["mesh"], self.store.blobs)
            rafts.append(manifold(made.moved(place)))
        together = manifold3d.Manifold.batch_boolean(rafts, manifold3d.OpType.Add)
        self.assertEqual(len(together.decompose()), 1)
        # And nothing of them lies under a model.
        for piece in graph.jaws:
            model = manifold(self.body(graph, "assemble", piece).moved(np.array(graph.node("plate").json("home_to_plate", piece))))
            self.assertEqual((model ^ together).volume(), 0.0)

    @tag("long")
    def test_hollowed_it_keeps_its_wall_round_the_sockets(self) -> None:
        graph = self.worked(settings={"hollow": {"*": {"style": "closed", "wall_mm": 2.0}}})
        piece = next(p for p, jaw in graph.jaws.items() if jaw == "lower")
        cavity = unpack(graph.node("hollow", piece).good.values["solids"], self.store.blobs)[0].mesh
        for each in graph.node("dies", piece).json("dies"):
            solids = unpack(graph.node("dies", piece).good.values["solids"], self.store.blobs)
            socket = next(s.mesh for s in solids if s.op == "cut" and s.name.endswith(f" {each['fdi']}"))
            self.assertLess((manifold(cavity) ^ manifold(socket)).volume(), 1e-6, each["fdi"])
            self.assertGreater(manifold(cavity).min_gap(manifold(socket), 3.0), 1.9)

    def test_a_tooth_that_is_not_there_is_said_with_what_leaves_it_out(self) -> None:
        graph = self.worked("46 48")
        piece = next(p for p, jaw in graph.jaws.items() if jaw == "lower")
        flag = next(f for f in graph.node("dies", piece).manifest.flags if f["code"] == "no-die")
        self.assertIn("48", flag["message"])
        self.assertIn("Dies says why", graph.node("assemble", f"{piece}.die-48").manifest.flags[0]["message"])
        fix = flag["fix"]
        again = self.worked("46 48", **{fix["at"]: {fix["id"] or "t1": fix["values"]}})
        self.assertEqual([d["fdi"] for d in again.node("dies", piece).json("dies")], [46])
        self.assertIsNone(again.node("assemble", f"{piece}.die-48"))
        self.assertTrue(again.node("plate").good)

    def test_a_neighbour_comes_out_too_with_its_gum_as_it_is(self) -> None:
        graph = self.worked("46", taken={"t1": {"fdi": 47, "kind": "loose"}})
        piece = next(p for p, jaw in graph.jaws.items() if jaw == "lower")
        before, out = self.body(graph, "base", piece), self.body(graph, "assemble", f"{piece}.loose-47")
        self.assertLess((manifold(out) - manifold(before)).volume(), 0.2)
        self.assertGreater(next(d["kept"] for d in graph.node("dies", piece).json("dies") if d["kind"] == "loose"), 0.9)

    def test_a_base_too_low_is_said_and_the_fix_gives_it_room(self) -> None:
        """One press gives room to all that lack it."""
        graph = self.worked("46 44", settings={"base": {"*": {"thickness_mm": 1.0}}}, seat_under_mm=6.0)
        piece = next(p for p, jaw in graph.jaws.items() if jaw == "lower")
        fixes = [f["fix"] for f in graph.node("dies", piece).manifest.flags if f["code"] == "no-die"]
        self.assertEqual({fix["step"] for fix in fixes}, {"base"})
        self.assertEqual(len({fix["values"]["thickness_mm"] for fix in fixes}), 1)
        fix = fixes[0]
        again = self.worked("46 44", settings={"base": {"*": {"thickness_mm": 1.0}, fix["piece"]: fix["values"]}}, seat_under_mm=6.0)
        self.assertEqual([d["fdi"] for d in again.node("dies", piece).json("dies")], [46, 44])

    def test_a_way_turned_too_far_is_given_back(self) -> None:
        graph = self.worked("46", taken={"t1": {"fdi": 46, "way": [0.0, 0.0, -1.0]}})
        piece = next(p for p, jaw in graph.jaws.items() if jaw == "lower")
        fix = next(f for f in graph.node("dies", piece).manifest.flags if f["code"] == "no-die")["fix"]
        self.assertEqual((fix["step"], fix["at"], fix["id"]), ("dies", "taken", "t1"))
        again = self.worked("46", taken={"t1": fix["values"]})
        (die,) = again.node("dies", piece).json("dies")
        self.assertFalse(die["by_hand"])
        self.assertLess(die["lean_deg"], 30)

    def test_volume_of_the_dies_and_the_model(self) -> None:
        graph = self.worked("36")
        piece = next(p for p, jaw in graph.jaws.items() if jaw == "lower")
        whole, model = (volume_ml(self.body(graph, step, piece)) for step in ("base", "assemble"))
        die = volume_ml(self.body(graph, "assemble", f"{piece}.die-36"))
        self.assertGreater(whole, model + die)
        self.assertLess(whole - model - die, 0.35)


class SettingsTest(unittest.TestCase):
    def test_what_a_person_says_counts_before_the_resins_record(self) -> None:
        for said, kept, air in ((None, None, 0.06), (None, 0.09, 0.09), (0.04, 0.09, 0.04)):
            resin = {"id": "sand", "name": "Sandstone", "data": {"die_air_mm": kept}}
            self.assertEqual(DiesSettings(die_air_mm=said).sizes(resin).air, air)
        self.assertEqual(DiesSettings().sizes(None).air, 0.06)


class NearTest(unittest.TestCase):
    def test_only_what_stands_beside_it(self) -> None:
        three = [slab((9.0 * k, 0, 0), (9.0 * k + 8, 8, 6)) for k in range(3)]
        body = Mesh.of(
            np.vstack([m.vertices_mm for m in three]), np.vstack([m.faces + 8 * k for k, m in enumerate(three)])
        )  # fmt: skip
        tooth = np.repeat([46, 45, 44], 12)
        found = near(body, tooth, 46)
        assert found is not None
        self.assertEqual(set(found.others), {45})
        self.assertIsNone(near(body, tooth, 36))


class StripTest(unittest.TestCase):
    def test_the_peg_goes_into_every_socket_with_the_air_that_stands_before_it(self) -> None:
        strip, peg = (mesh for _, mesh in fit_strip())
        for body in (strip, peg):
            self.assertEqual((check_solid(body).ok, check_solid(body).components), (True, 1))
            self.assertAlmostEqual(float(body.vertices_mm[:, 2].min()), 0.0, places=9)
        self.assertEqual((manifold(strip) ^ manifold(peg)).volume(), 0.0)
        one = one_shaft()
        for number, air in enumerate(AIRS_MM):
            there = one.solid().translate(socket_at(number).tolist())
            self.assertLess((there ^ manifold(strip)).volume(), 1e-9)
            # Over the foot and under the strip's top.
            walls = there.trim_by_plane((0, 0, 1), 6.0).trim_by_plane((0, 0, -1), -10.5)
            self.assertAlmostEqual(walls.min_gap(manifold(strip), 1.0), air * np.cos(np.radians(1.0)), delta=0.002)

    def test_the_size_strip_is_as_long_as_it_says(self) -> None:
        strip = size_strip()
        self.assertEqual((check_solid(strip).ok, check_solid(strip).components), (True, 1))
        np.testing.assert_allclose(np.ptp(strip.vertices_mm, axis=0), LENGTHS_MM)
        # Two bars and a post of 7 mm, less what is engraved.
        plain = 7 * 7 * (60 + 53 + 23) / 1000
        self.assertLess(volume_ml(strip), plain)
        self.assertGreater(volume_ml(strip), 0.98 * plain)
        self.assertAlmostEqual(correction_percent(0, 60 / 1.004), 0.4)
