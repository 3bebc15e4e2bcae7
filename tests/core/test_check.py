"""The print check in closed form: ledges, islands, slopes, rooms with and without a way out; and on jaws as they are made."""

from __future__ import annotations

import unittest

import manifold3d
import numpy as np
import trimesh
from django.test import tag

from bitecore.mesh import Mesh
from bitecore.ops.cups import cups
from bitecore.ops.held import Unheld, shut_in, unheld
from bitecore.ops.layers import Layers, layers
from bitecore.parts.print_check import checked
from bitecore.progress import QUIET
from bitecore.runsheet import CASE, evaluate
from tests.core.known import known_store
from tests.core.test_runsheet import case
from tests.shapes import light_jaws as jaws

Solid = manifold3d.Manifold


def block(size: tuple[float, float, float], at: tuple[float, float, float] = (0, 0, 0)) -> Solid:
    return Solid.cube(size).translate(at)


def mesh_of(solid: Solid) -> Mesh:
    out = solid.to_mesh64()
    return Mesh.of(np.asarray(out.vert_properties)[:, :3], np.asarray(out.tri_verts).astype(np.int64))


def cut(solid: Solid, layer_mm: float = 0.05) -> Layers:
    return layers(mesh_of(solid), np.eye(4), pixel_mm=0.05, layer_mm=layer_mm)


class HeldTest(unittest.TestCase):
    def ledge(self, long: float) -> list[Unheld]:
        return unheld(cut(block((5, 10, 11)) + block((5 + long, 10, 1), (0, 0, 10))), reach_mm=2.0)

    def test_a_ledge_holds_up_to_its_reach(self) -> None:
        self.assertEqual(self.ledge(1.0) + self.ledge(1.9), [])
        for long in (2.3, 4.0, 10.0):
            (found,) = self.ledge(long)
            self.assertFalse(found.island)
            self.assertEqual(found.layer, 200)
            self.assertAlmostEqual(found.far_mm, long, delta=0.11)
            self.assertAlmostEqual(found.area_mm2, (long - 2.0) * 10, delta=0.15 * 10)

    def test_a_steep_wall_leans_out_without_end_and_a_flat_one_does_not(self) -> None:
        for deg, told in ((50, False), (30, True)):
            # From the level; 45° is as flat as may be.
            far = 8 / np.tan(np.radians(deg))
            wedge = Solid.hull_points(
                np.array([[x, y, z] for y in (0, 10) for x, z in ((0, 0), (5, 0), (0, 10), (5 + far, 10), (5 + far, 9.9), (5, 2))], float)
            )
            self.assertEqual(bool(unheld(cut(wedge), reach_mm=2.0)), told, deg)

    def test_a_speck_is_the_same_whatever_stands_beside_it(self) -> None:
        """Three pixels wide, on every phase of the coarser field: by itself over a plate, and with a post that begins farther out."""
        plate = block((4, 4, 1), (10, 10, 0))
        for shift in (0.0, 0.05):
            speck = block((0.15, 0.15, 1), (12 + shift, 12, 5))
            alone = unheld(cut(plate + speck), reach_mm=2.0, island_mm2=0.01)
            self.assertEqual(len(alone), 1)
            for away in (0.05, 0.1, 0.15):
                beside = unheld(cut(plate + speck + block((1, 1, 2), (5 + away, 5 + away, 0))), reach_mm=2.0, island_mm2=0.01)
                self.assertEqual([u.area_mm2 for u in beside], [alone[0].area_mm2], (shift, away))

    def test_what_begins_in_mid_air_is_an_island_until_it_is_told(self) -> None:
        (found,) = unheld(cut(block((5, 5, 2)) + block((2, 3, 4), (10, 0, 6))), reach_mm=2.0)
        self.assertTrue(found.island)
        self.assertEqual(found.layer, 120)
        self.assertAlmostEqual(found.area_mm2, 6.0, delta=0.3)
        # Joined within a tenth of a millimetre it is of no account: a slanted top of a wall begins so.
        joined = block((10, 5, 2)) + block((1, 1, 0.1), (9.5, 2, 1.9)) + block((4, 5, 1), (9, 0, 1.95))
        self.assertFalse(any(u.island for u in unheld(cut(joined), reach_mm=4.0)))

    def test_what_hangs_beside_a_post_is_held_by_nothing_however_narrow_the_gap(self) -> None:
        """Round pins that hang from a ceiling, all around a post, 0.15 to 0.5 mm from it; one that touches it is held."""
        post = Solid.cylinder(12, 2, 2, 64) + Solid.cylinder(2, 8, 8, 64).translate([0, 0, 10])
        for deg in (0, 30, 45, 70):
            way = np.array([np.cos(np.radians(deg)), np.sin(np.radians(deg))])
            for gap in (-0.1, 0.15, 0.3, 0.5):
                pin = Solid.cylinder(6, 0.8, 0.8, 64).translate([*(way * (2.8 + gap)), 5])
                islands = [u for u in unheld(cut(post + pin), reach_mm=9.0) if u.island]
                self.assertEqual([u.layer for u in islands], [100] if gap > 0 else [], (deg, gap))
                if islands:
                    self.assertAlmostEqual(islands[0].area_mm2, np.pi * 0.8**2, delta=0.15)

    def test_a_spike_that_hangs_is_told_however_slender(self) -> None:
        """It begins as a speck and grows: told by where it begins. One so short that it is joined as a speck is of no account."""
        ceiling = block((3, 12, 14)) + block((20, 12, 3), (0, 0, 12))
        for deg in (3, 10, 30, 45):
            spike = Solid.cylinder(6, 0.001, 6 * np.tan(np.radians(deg)), 64).translate([12, 6, 7])
            (found,) = unheld(cut(ceiling + spike), reach_mm=20.0)
            # Its tip lies no farther than half a diagonal from a pixel, 0.036 mm.
            self.assertTrue(found.island and 140 <= found.layer <= 141 + 0.036 / np.tan(np.radians(deg)) / 0.05, (deg, found))
            self.assertIn("island", [f.code for f in checked(cut(ceiling + spike), 20.0, QUIET).found])
        short = Solid.cylinder(0.5, 0.001, 0.09, 64).translate([12, 6, 11.5])
        self.assertEqual(unheld(cut(ceiling + short), reach_mm=20.0), [])

    def test_one_standing_on_the_plate_is_held(self) -> None:
        self.assertEqual(unheld(cut(Solid.cylinder(10, 8, 3, 64)), reach_mm=0.5), [])

    def test_a_cavity_is_told_from_the_outside_even_with_a_drain(self) -> None:
        room = block((20, 20, 10)) - block((14, 14, 8), (3, 3, -1)) - block((10, 3, 2), (-1, 8, -1))
        (found,) = unheld(cut(room), reach_mm=2.0)
        self.assertTrue(shut_in(cut(room), found.layer - 1, found.x, found.y))
        self.assertTrue(shut_in(cut(room), 5, found.x, found.y), "the drain is no way in")
        mushroom = cut(block((5, 5, 10), (10, 10, 0)) + block((25, 25, 2), (0, 0, 10)))
        (brim,) = unheld(mushroom, reach_mm=2.0)
        self.assertFalse(shut_in(mushroom, brim.layer - 1, brim.x, brim.y))


class CupTest(unittest.TestCase):
    ROOM = block((20, 20, 10)) - block((10, 8, 6), (5, 5, -1))

    def test_a_room_on_the_plate_in_closed_form(self) -> None:
        (found,) = cups(cut(self.ROOM))[0]
        self.assertEqual((found.begins, found.ends), (0, 100))
        self.assertAlmostEqual(found.area_mm2, 80, delta=0.8)
        self.assertAlmostEqual(found.ml, 10 * 8 * 5 / 1000, delta=0.004)
        self.assertEqual(cups(cut(self.ROOM))[1], [], "in the hand it is open")

    def test_what_is_engraved_underneath_shuts_in_next_to_nothing(self) -> None:
        engraved = cut(block((20, 20, 10)) - block((10, 8, 1.5), (5, 5, -1)))
        (found,) = cups(engraved)[0]
        self.assertEqual(found.ends, 10)
        self.assertNotIn("shut-on-plate", [f.code for f in checked(engraved, 1.0, QUIET).found])
        codes = [f.code for f in checked(cut(self.ROOM), 1.0, QUIET).found]
        self.assertIn("shut-on-plate", codes)

    def test_a_drain_opens_it_at_its_own_height(self) -> None:
        (high,) = cups(cut(self.ROOM - block((10, 1, 1), (-1, 8, 2))))[0]
        self.assertEqual((high.begins, high.ends), (0, 40))
        self.assertEqual(cups(cut(self.ROOM - block((10, 1, 1), (-1, 8, -0.5))))[0], [])

    def test_a_bowl_and_a_pocket(self) -> None:
        (bowl,) = cups(cut(block((20, 20, 10)) - block((10, 8, 6), (5, 5, 5))))[0]
        self.assertEqual((bowl.begins, bowl.ends), (100, 200))
        hidden = cut(block((20, 20, 10)) - block((10, 8, 3), (5, 5, 3)) - Solid.sphere(1.0, 64).translate([2, 17, 5]))
        pockets = sorted(cups(hidden)[1], key=lambda c: c.ml)
        ball = trimesh.creation.icosphere(subdivisions=4, radius=1.0).volume
        self.assertAlmostEqual(pockets[0].ml, ball / 1000, delta=0.03 * ball / 1000)
        self.assertAlmostEqual(pockets[1].ml, 0.24, delta=0.003)
        self.assertTrue(5 < pockets[1].x * 0.05 < 15 and 5 < pockets[1].y * 0.05 < 13)


class JawTest(unittest.TestCase):
    def found(self, **settings: dict) -> dict[str, list]:
        store = known_store()
        document = case(store, *jaws(5)).model_copy(update={"settings": {"plate": {"*": {"printer": "heron"}}, **settings}})
        graph = evaluate(document, CASE, store).graph
        return {n.jaw: [f["code"] for f in n.manifest.flags] for n in graph.of_step("check")}

    def test_no_alarm_on_jaws_teeth_up(self) -> None:
        for more in ({}, {"hollow": {"*": {"style": "open"}}, "articulate": {"*": {"style": "pins"}}}):
            for jaw, codes in self.found(**more).items():
                self.assertLessEqual(set(codes), {"cup", "roof"}, (jaw, more))

    @tag("long")
    def test_a_lower_reach_asks_the_check_alone(self) -> None:
        store = known_store()
        document = case(store, *jaws(5))
        evaluate(document, CASE, store)
        again = evaluate(document.model_copy(update={"settings": {"plate": {"*": {"reach_mm": 0.3}}}}), CASE, store)
        worked = {n.step.name for n in again.graph.nodes.values() if n.task and n.task.key in again.worked}
        self.assertEqual(worked, {"check", "supports", "ways"})
