"""Pins and sleeves: beside exact booleans and the closed form of a pin in a hole; where they can stand and where not."""

from __future__ import annotations

import unittest
from functools import cached_property

import numpy as np
import trimesh

from bitecore.engine.gives import unpack
from bitecore.errors import BadSetting
from bitecore.mesh import GROUP_CUT, GROUP_SCAN, Mesh, check_solid
from bitecore.ops.heights import heights
from bitecore.parts.pin_places import USUAL, ZONES, No, Place, Room, Sizes
from bitecore.parts.pins import pair, play
from bitecore.runsheet import CASE, evaluate, standard
from tests.core.known import known_store
from tests.core.test_runsheet import case
from tests.shapes import box, manifold, sphere
from tests.shapes import light_jaws as jaws

POST_MM, AIR_MM, PIN_MM, DEEP_MM = USUAL.radius, USUAL.off_mm, USUAL.pin_mm / 2, USUAL.deep_mm
PINS = {"articulate": {"*": {"style": "pins"}}}


def pieces() -> tuple[Mesh, Mesh]:
    """Two boxes, one over the other, that touch at z = 0."""
    return block(0, 14), block(-14, 0)


def block(bottom: float, top: float) -> Mesh:
    """40 by 30 mm, no face of it a scan's."""
    made = box((40.0, 30.0, top - bottom))
    points = made.vertices_mm - made.vertices_mm.min(0) + [-20, 0, bottom]
    return Mesh.of(points, made.faces, np.full(made.triangles, GROUP_CUT, np.uint8))


class HeightTest(unittest.TestCase):
    def test_a_ball_in_closed_form(self) -> None:
        ball = sphere(5.0, 24)
        lowest, highest = heights(ball.vertices_mm, ball.faces, np.array([-6.0, -6.0]), (61, 61), 0.2)
        x, y = np.meshgrid(np.arange(61) * 0.2 - 6, np.arange(61) * 0.2 - 6, indexing="ij")
        inside = np.hypot(x, y) < 4.5
        np.testing.assert_allclose(highest[inside], np.sqrt(25 - x[inside] ** 2 - y[inside] ** 2), atol=0.06)
        np.testing.assert_allclose(lowest[inside], -highest[inside], atol=0.06)
        self.assertTrue(np.isinf(highest[np.hypot(x, y) > 5.1]).all())


class RoomTest(unittest.TestCase):
    @cached_property
    def room(self) -> Room:
        return Room(*pieces())

    def test_says_why_a_place_is_bad(self) -> None:
        for at, word in (((0, 15), "touch a model"), ((20 + POST_MM, 15), "touch a model"), ((34, 15), "mm long"), ((90, 90), "too far")):
            found = self.room.ask(np.array(at, float))
            assert isinstance(found, No), at
            self.assertIn(word, found.why)

    def test_a_place_beside_the_wall_and_its_struts(self) -> None:
        place = self.room.ask(np.array([20 + POST_MM + AIR_MM + 0.3, 15.0]))
        assert isinstance(place, Place)
        self.assertAlmostEqual(place.long[0], POST_MM + AIR_MM + 0.3, delta=0.21)
        np.testing.assert_allclose(place.wall[0], [20, 15], atol=0.21)

    def test_what_cannot_stand_goes_to_the_nearest_place_that_can(self) -> None:
        place, why = self.room.near(np.array([20.0, 15.0]))
        self.assertIn("touch a model", why)
        self.assertLess(np.hypot(*(place.at - [20, 15])), POST_MM + AIR_MM + 0.8)
        self.assertIsNone(self.room.near(np.array([0.0, 15.0]))[0])

    def test_the_map_says_what_asking_says(self) -> None:
        low, codes = self.room.map(0.8)
        rng = np.random.default_rng(2)
        for i, j in rng.integers(0, codes.shape, (300, 2)):
            found = self.room.ask(low + 0.8 * np.array([i, j]))
            self.assertEqual(isinstance(found, Place), codes[i, j] == 0)
            if isinstance(found, No):
                self.assertEqual(found.why.split(" would be")[0], self.room.why(int(codes[i, j])).split(" would be")[0])
        self.assertGreater((codes == 0).sum(), 100)

    def test_sizes_are_what_a_place_asks_for(self) -> None:
        """Beside a box: the post stands as far off as said, its strut is as high as said, both meet where said."""
        sizes = Sizes(post_mm=8.0, off_mm=2.0, high_mm=5.0, seat_mm=12.0, deep_mm=5.0)
        room = Room(*pieces(), sizes)
        self.assertIsInstance(room.ask(np.array([20 + 4 + 1.5, 15.0])), No)
        place = room.ask(np.array([20 + 4 + 2.3, 15.0]))
        assert isinstance(place, Place)
        self.assertAlmostEqual(place.long[0], 6.3, delta=0.21)
        self.assertAlmostEqual(place.ends[0] - room.floor, 5.0)
        self.assertAlmostEqual(room.ceiling - place.ends[1], 5.0)
        self.assertAlmostEqual(room.seat - room.floor, 12.0)
        away = room.anywhere(np.array([0.0, 90.0]))
        assert away is not None
        np.testing.assert_allclose(away.at[1], 30 + 4 + 2.2, atol=0.3)

    def test_too_low_together_is_said(self) -> None:
        flat = Room(block(0, 1), block(-12, 0))
        found = flat.ask(np.array([24.5, 15.0]))
        assert isinstance(found, No)
        self.assertIn("too low", found.why)


class PlayTest(unittest.TestCase):
    def test_one_line_of_two_pins_in_closed_form(self) -> None:
        # Two pins 40 mm apart, each 0.08 of air: along their line 0.08; square to it, at a point 20 mm before their middle, the
        # turn of at most 2 * 0.08 / 40 adds nothing to the shift, for either uses up the same air.
        at, air = np.array([[-20.0, 0.0], [20.0, 0.0]]), np.array([0.08, 0.08])
        self.assertAlmostEqual(play(at, air, np.array([0.0, 0.0])), 0.08, delta=0.001)
        # At the point (60, 0), three half-lengths out: turned about the middle, it moves 0.08 * 60 / 20.
        self.assertAlmostEqual(play(at, air, np.array([60.0, 0.0])), 0.24, delta=0.003)
        self.assertEqual(play(at[:1], air[:1], np.zeros(2)), float("inf"))


class PairTest(unittest.TestCase):
    def test_parts_are_closed_and_have_their_sizes(self) -> None:
        room = Room(*pieces())
        place = room.ask(np.array([24.2, 15.0]))
        assert isinstance(place, Place)
        parts = pair(place, seat=room.seat, floor=room.floor, ceiling=room.ceiling, air_mm=0.1)
        for mesh in (parts.lower, parts.upper, parts.sleeve):
            self.assertTrue(check_solid(mesh).ok)
        theirs = trimesh.Trimesh(parts.upper.vertices_mm, parts.upper.faces, process=False)
        self.assertAlmostEqual(theirs.bounds[0][2], room.seat - DEEP_MM, places=6)
        cut = theirs.section(plane_origin=[0, 0, room.seat - 2], plane_normal=[0, 0, 1])
        ring = cut.discrete[0]
        area = abs(0.5 * np.sum(ring[:-1, 0] * ring[1:, 1] - ring[1:, 0] * ring[:-1, 1]))
        self.assertAlmostEqual(area, np.pi * PIN_MM**2, delta=0.02 * np.pi * PIN_MM**2)


class JawTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.store = known_store()
        cls.document = case(cls.store, *jaws(5))
        cls.graph = cls.worked()

    @classmethod
    def worked(cls, **more: object):  # noqa: ANN206
        return evaluate(cls.document.model_copy(update={"settings": PINS | more}), CASE, cls.store).graph

    def on_bench(self, graph, step: str = "assemble") -> dict[str, Mesh]:  # noqa: ANN001
        out = {}
        for piece, jaw in graph.jaws.items():
            body = unpack(graph.node(step, piece).manifest.values["body"], self.store.blobs)
            matrix = np.array(graph.node("level").json("home_to_bench", piece))
            out[jaw] = body.with_vertices(body.vertices_mm @ matrix[:3, :3].T + matrix[:3, 3])
        return out

    def test_one_body_each_and_the_scan_is_untouched(self) -> None:
        before, now = self.on_bench(self.graph, "base"), self.on_bench(self.graph)
        for jaw, body in now.items():
            self.assertTrue(check_solid(body).ok)
            self.assertEqual(check_solid(body).components, 1)
            self.assertEqual(int((body.groups == GROUP_SCAN).sum()), int((before[jaw].groups == GROUP_SCAN).sum()))
        self.assertAlmostEqual(now["lower"].vertices_mm[:, 2].min(), before["lower"].vertices_mm[:, 2].min(), places=5)
        self.assertAlmostEqual(now["upper"].vertices_mm[:, 2].max(), before["upper"].vertices_mm[:, 2].max(), places=5)

    def test_closed_exactly_open_freely_blocked_sideways(self) -> None:
        """By exact booleans (manifold3d): the measure of the issue is what is asked here."""
        before, now = self.on_bench(self.graph, "base"), self.on_bench(self.graph)
        upper, lower = manifold(now["upper"]), manifold(now["lower"])
        own = (manifold(before["upper"]) ^ manifold(before["lower"])).volume()
        self.assertAlmostEqual((upper ^ lower).volume(), own, delta=1e-3)
        for apart in (0.5, 1, 2, 4, 6, 8, 12, 20):
            self.assertLess((upper.translate([0, 0, apart]) ^ lower).volume(), 1e-3, apart)
        for x, y in ((0.3, 0), (-0.3, 0), (0, 0.3), (0, -0.3)):
            self.assertGreater((upper.translate([x, y, 0.5]) ^ lower).volume(), 1.0, (x, y))
        # The posts meet at exactly the bite: lowered by 10 µm they overlap by their seats.
        more = (upper.translate([0, 0, -0.01]) ^ lower).volume() - (
            manifold(before["upper"]).translate([0, 0, -0.01]) ^ manifold(before["lower"])
        ).volume()
        seats = 4 * np.pi * (POST_MM**2 - (PIN_MM + 0.75) ** 2) * 0.01
        self.assertGreater(more, seats)

    def test_sleeves_on_the_upper_and_sizes_by_hand(self) -> None:
        """As before by exact booleans, the other way round, with pins, posts and struts of other sizes."""
        sizes = {"pin_mm": 4.0, "deep_mm": 5.0, "post_mm": 5.0, "strut_mm": 3.0, "off_mm": 1.2, "count": 3, "first": "beside"}
        graph = self.worked(articulate={"*": {"style": "pins", "sleeves": "upper", **sizes}})
        node = graph.node("articulate")
        self.assertEqual([p["zone"] for p in node.json("pins")], ["side left", "side right", "back left"])
        before, now = self.on_bench(graph, "base"), self.on_bench(graph)
        for body in now.values():
            self.assertTrue(check_solid(body).ok)
            self.assertEqual(check_solid(body).components, 1)
        upper, lower = manifold(now["upper"]), manifold(now["lower"])
        own = (manifold(before["upper"]) ^ manifold(before["lower"])).volume()
        self.assertAlmostEqual((upper ^ lower).volume(), own, delta=1e-3)
        for apart in (0.5, 2, 6, 12):
            self.assertLess((upper.translate([0, 0, apart]) ^ lower).volume(), 1e-3, apart)
        self.assertGreater((upper.translate([0.3, 0, 0.5]) ^ lower).volume(), 1.0)
        # Posts of 5 mm would leave too little round sleeves of 4.16 mm.
        flag = next(f for f in node.manifest.flags if f["code"] == "thin-posts")
        self.assertEqual(flag["fix"]["values"], {"post_mm": 5.8})
        piece = {jaw: p for p, jaw in graph.jaws.items()}
        solids = unpack(node.manifest.values["solids"]["by_piece"][piece["lower"]], self.store.blobs)
        self.assertEqual([s.op for s in solids], ["add"] * 3)
        seats = {round(float(p["at_mm"] @ np.array(p["axis"])), 3) for p in node.json("pins")}
        self.assertEqual(len(seats), 1)
        # From the seat the pins go 5 mm up into the upper; from the bench's vertical none of them leans.
        tips = [float((s.mesh.vertices_mm @ np.array(node.json("pins")[0]["axis"])).max()) for s in solids]
        np.testing.assert_allclose(tips, seats.pop() + 5.0, atol=1e-3)

    def test_a_pin_put_where_none_can_stand_is_led_to_where_one_can(self) -> None:
        lower = next(p for p, jaw in self.graph.jaws.items() if jaw == "lower")
        back = np.linalg.inv(np.array(self.graph.node("level").json("home_to_bench", lower)))
        pins = {"p1": {"at": (back @ [0, 22, 0, 1])[:3].tolist()}}
        flag = self.worked(articulate={"*": {"style": "pins", "count": 2, "pins": pins}}).node("articulate").manifest.flags[0]
        self.assertEqual((flag["code"], flag["fix"]["at"], flag["fix"]["id"]), ("pin-not-there", "pins", "p1"))
        graph = self.worked(articulate={"*": {"style": "pins", "count": 2, "pins": {"p1": flag["fix"]["values"]}}})
        self.assertEqual(graph.node("articulate").json("pins")[0]["entry"], "p1")
        self.assertEqual(len(graph.node("articulate").json("pins")), 3)
        said = {f["code"] for f in graph.node("articulate").manifest.flags}
        self.assertFalse(said & {"pin-not-there", "pin-moved"}, said)

    def test_another_bite_moves_the_pins_and_says_what_cannot_stay(self) -> None:
        lower = next(p for p, jaw in self.graph.jaws.items() if jaw == "lower")
        pin = next(p for p in self.graph.node("articulate").json("pins") if p["zone"] == "side left")
        pins = {"p1": {"zone": "side left", "at": pin["at_mm"]}}
        graph = self.worked(articulate={"*": {"style": "pins", "pins": pins}}, bite={"*": {"left_mm": 1.5, "up_mm": -0.6}})
        before, now = self.on_bench(graph, "base"), self.on_bench(graph)
        own = (manifold(before["upper"]) ^ manifold(before["lower"])).volume()
        self.assertAlmostEqual((manifold(now["upper"]) ^ manifold(now["lower"])).volume(), own, delta=1e-3)
        self.assertGreater((manifold(now["upper"]).translate([0.3, 0, 0.5]) ^ manifold(now["lower"])).volume(), 1.0)
        stands = next(p for p in graph.node("articulate").json("pins") if p["zone"] == "side left")
        moved = float(np.linalg.norm(np.array(stands["at_mm"]) - pin["at_mm"]))
        said = {f["code"] for f in graph.node("articulate").manifest.flags}
        # It stays with the lower where it was put; else it is said.
        self.assertTrue(moved < 1.0 or said & {"pin-moved", "pin-not-there"}, (moved, said))
        self.assertIn(lower, graph.jaws)

    def test_a_moved_pin_works_out_only_what_depends_on_it(self) -> None:
        lower = next(p for p, jaw in self.graph.jaws.items() if jaw == "lower")
        pin = next(p for p in self.graph.node("articulate").json("pins") if p["zone"] == "back left")
        other = np.array(self.graph.node("level").json("home_to_bench", lower))[:3, :3].T @ [1.5, 0, 0] + pin["at_mm"]
        entry = {"zone": "back left", "at": other.tolist()}
        document = self.document.model_copy(update={"settings": {"articulate": {"*": {"style": "pins", "pins": {"p1": entry}}}}})
        again = evaluate(document, CASE, self.store)
        steps = {n.step.name for n in again.graph.nodes.values() if n.task and n.task.key in again.worked}
        self.assertLessEqual(
            steps,
            {"articulate", "notch", "drains", "wall-map", "assemble", "amounts", "plate", "layers", "supports", "check", "takes", "ways"},
        )
        pins = {p["zone"]: p for p in again.graph.node("articulate").json("pins")}
        self.assertEqual(pins["back left"]["entry"], "p1")
        self.assertLess(np.linalg.norm(np.array(pins["back left"]["at_mm"]) - other), 1.0)

    def test_left_out_added_and_impossible(self) -> None:
        lower = next(p for p, jaw in self.graph.jaws.items() if jaw == "lower")
        back = np.linalg.inv(np.array(self.graph.node("level").json("home_to_bench", lower)))
        middle = (back @ [0, 15, 0, 1])[:3].tolist()
        far = (back @ [300, 0, 0, 1])[:3].tolist()
        pins = {"p1": {"zone": "side left"}, "p2": {"at": middle}, "p3": {"zone": "back right", "at": far}}
        graph = self.worked(articulate={"*": {"style": "pins", "pins": pins}})
        node = graph.node("articulate")
        zones = [p["zone"] for p in node.json("pins")]
        self.assertNotIn("side left", zones)
        self.assertIn("back right", zones)
        said = [f["message"] for f in node.manifest.flags if f["code"] == "pin-not-there"]
        self.assertTrue(any("added pin" in s and "left out" in s for s in said), said)
        self.assertTrue(any("back right" in s and "too far" in s for s in said), said)

    def test_label_and_drains_keep_off_the_struts(self) -> None:
        graph = self.worked(hollow={"*": {"style": "open"}}, label={"*": {"style": "engraved"}})
        for body in self.on_bench(graph).values():
            self.assertTrue(check_solid(body).ok)
            self.assertEqual(check_solid(body).components, 1)
        for piece in graph.jaws:
            struts = [
                manifold(s.mesh)
                for s in unpack(graph.node("articulate").manifest.values["solids"]["by_piece"][piece], self.store.blobs)
                if s.op == "add"
            ]
            for step in ("label", "drains"):
                for cut in unpack(graph.node(step, piece).manifest.values["solids"], self.store.blobs):
                    for strut in struts:
                        self.assertLess((strut ^ manifold(cut.mesh)).volume(), 1e-3, (step, piece))

    def test_one_jaw_or_an_open_bite_has_no_pins_and_says_why(self) -> None:
        upper, _ = jaws(5)
        store = known_store()
        document = case(store, upper).model_copy(update={"settings": PINS})
        node = evaluate(document, CASE, store).graph.node("articulate")
        self.assertEqual([f["code"] for f in node.manifest.flags], ["no-pins"])
        graph = self.worked(bite={"*": {"source": "none"}})
        self.assertIn("bite is open", graph.node("articulate").manifest.flags[0]["message"])
        self.assertTrue(all(n.state in ("done", "look") for n in graph.of_step("assemble")))

    def test_heights_that_leave_posts_too_free_are_found_by_themselves_at_a_press(self) -> None:
        thin = {"style": "pins", "pin_mm": 2.0, "post_mm": 4.0, "strut_high_mm": 3.0}
        graph = self.worked(articulate={"*": thin}, base={"*": {"height": "under", "thickness_mm": 12.0}})
        flag = graph.node("articulate").manifest.flags[0]
        self.assertIn(" free", flag["message"])
        self.assertEqual(flag["fix"]["label"], "Heights by themselves")
        before = graph.node("articulate").manifest.figure
        graph = self.worked(articulate={"*": {**thin, **flag["fix"]["values"]}}, base={"*": {"height": "under", "thickness_mm": 12.0}})
        self.assertEqual((before, graph.node("articulate").manifest.figure), ("no pins", "2 pins"))

    def test_wrong_settings_are_said(self) -> None:
        step = standard()["articulate"]
        for bad in ({"pins": {"p1": {"zone": "front"}}}, {"pins": {"first": {}}}, {"air_mm": 1}, {"pins": {"p1": {"at": [1, 2]}}}):
            with self.assertRaises(BadSetting):
                step.check(bad)
        self.assertEqual(len(ZONES), 4)
