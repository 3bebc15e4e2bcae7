"""Supports: tips that hold in closed form and by the print check itself, pillars that keep off the body, another face laid down."""

from __future__ import annotations

import json
import tempfile
import unittest
from pathlib import Path

import manifold3d
import numpy as np
import trimesh
from django.test import tag
from scipy.spatial import cKDTree

from benchrun.__main__ import main
from bitecore.anatomy.teeth.numbers import numbers_of_faces
from bitecore.engine.gives import unpack
from bitecore.files import stl
from bitecore.mesh import Mesh, check_solid, face_normals, joined, volume_ml
from bitecore.ops.held import tips_for, unheld
from bitecore.ops.layers import layers
from bitecore.parts.laying import face_towards, raised
from bitecore.parts.supports import INTO_MM, TIP_MM, Sizes, supports
from bitecore.parts.tips import Said, set_by_hand
from bitecore.runsheet import CASE, evaluate
from tests.core.known import known_store
from tests.core.test_check import block, mesh_of
from tests.core.test_runsheet import case
from tests.shapes import islands, manifold
from tests.shapes import light_jaws as jaws

NOWHERE = np.zeros((0, 3))
HERON = {"printer": "heron"}


def at_height(mesh: Mesh, z: float) -> Mesh:
    return mesh.with_vertices(mesh.vertices_mm + [20, 20, z - mesh.vertices_mm[:, 2].min()])


class TipTest(unittest.TestCase):
    def held(self, body: Mesh, reach: float = 2.0) -> tuple[np.ndarray, Mesh]:
        """The tips, and body and supports as one, which the print check has nothing to say of."""
        cut = layers(body, np.eye(4), pixel_mm=0.05, layer_mm=0.1)
        tips, left = tips_for(cut, reach_mm=reach, free=NOWHERE)
        self.assertEqual(left, [])
        made = supports(body, tips)
        self.assertTrue(check_solid(made.mesh).ok)
        self.assertEqual((check_solid(made.mesh).components, made.stands.all()), (1, True))
        both = joined([body, made.mesh])
        # Pixels of the tips' field are 0.25 mm: so much it may be farther.
        self.assertEqual(unheld(layers(both, np.eye(4), pixel_mm=0.05, layer_mm=0.05), reach_mm=reach + 0.3), [])
        return tips, made.mesh

    def test_a_level_face_gets_a_lattice(self) -> None:
        tips, _ = self.held(at_height(mesh_of(block((20, 20, 4))), 5))
        # Points that cover a plane within r need 2 / (3 sqrt(3) r²) each area at least (Kershner 1939, from memory): 38 here.
        least = 400 * 2 / (3 * np.sqrt(3) * 2.0**2)
        self.assertTrue(least <= len(tips) <= 2.2 * least, len(tips))
        self.assertLess(np.ptp(tips[:, 2]), 1e-9)

    def test_a_ball_and_a_lone_spike_are_held_from_below(self) -> None:
        ball = mesh_of(manifold3d.Manifold.sphere(6, 96))
        tips, _ = self.held(at_height(ball, 5))
        low = tips[tips[:, 2].argmin()]
        np.testing.assert_allclose(low[:2], [20, 20], atol=0.6)
        self.assertLess(low[2], 5.4)

    def test_pins_that_hang_close_together_are_held_each(self) -> None:
        """Not a shape of the trade: 24 pins of 0.1 to 2 mm at their ends under one bar, as close as they come; by another library nothing
        begins in mid-air then."""
        rng = np.random.default_rng(13)
        comb = block((40, 10, 4))
        for _ in range(24):
            pin = manifold3d.Manifold.cylinder(rng.uniform(3, 15), rng.uniform(0.3, 2), rng.uniform(0.1, 2), 16).rotate([180, 0, 0])
            comb += pin.translate([rng.uniform(2, 38), rng.uniform(1, 9), 2])
        body = at_height(mesh_of(comb), 5)
        _, under = self.held(body)
        self.assertEqual(islands(manifold(body) + manifold(under)), [])

    def test_no_tip_where_it_is_barred(self) -> None:
        body = at_height(mesh_of(block((10, 10, 4))), 5)
        cut = layers(body, np.eye(4), pixel_mm=0.05, layer_mm=0.1)
        x, y = np.meshgrid(np.arange(26, 30.1, 0.2), np.arange(20, 30.1, 0.2))
        tips, left = tips_for(cut, reach_mm=2.0, free=np.c_[x.ravel(), y.ravel(), np.full(x.size, 5.0)])
        self.assertTrue(len(tips) > 0 and (tips[:, 0] <= 25.7).all(), tips)
        self.assertTrue(left and left[0].far_mm > 2.0)
        # What lies above is no matter.
        tips, left = tips_for(cut, reach_mm=2.0, free=np.array([[25.0, 25.0, 8.0]]))
        self.assertEqual(left, [])
        self.assertGreater(len(tips), 8)

    def test_tips_by_hand(self) -> None:
        body = at_height(mesh_of(block((20, 20, 4))), 5)
        own = np.array([[x, y, 5.0] for x in (24.0, 30.0, 36.0) for y in (24.0, 30.0, 36.0)])
        said = {
            "t1": Said(None, np.array([24.2, 24.0, 5.0])),  # taken away
            "t2": Said(np.array([32.0, 30.0, 5.0]), np.array([30.0, 30.0, 5.0])),  # moved
            "t3": Said(np.array([27.0, 27.0, 5.3]), None),  # added; the body has changed a little
            "t4": Said(np.array([30.0, 30.0, 9.0]), None),  # on top
            "t5": Said(np.array([30.0, 30.0, 2.0]), None),  # in the air
            "t6": Said(None, np.array([50.0, 30.0, 5.0])),  # there is none any more
            "t7": Said(np.array([36.2, 36.0, 5.0]), None),  # beside one that stands there
        }
        done = set_by_hand(body, own, said)
        self.assertEqual(sorted(done.lost), ["t4", "t5"])
        at = {who: tip.tolist() for who, tip in zip(done.by, done.tips, strict=True) if who}
        self.assertEqual(at, {"t2": [32.0, 30.0, 5.0], "t3": [27.0, 27.0, 5.0], "t7": [36.2, 36.0, 5.0]})
        kept = [tip.tolist() for who, tip in zip(done.by, done.tips, strict=True) if not who]
        gone = ([24.0, 24.0, 5.0], [30.0, 30.0, 5.0], [36.0, 36.0, 5.0])
        self.assertEqual(kept, [tip.tolist() for tip in own if tip.tolist() not in gone])

    def test_sizes_by_hand_and_feet_without_a_raft(self) -> None:
        """Sections by another library: as thick where they touch, as wide where they stand as was said; parts of one foot each."""
        body = at_height(mesh_of(block((20, 20, 4))), 9)
        tips = np.array([[x, y, 9.0] for x in (24.0, 36.0) for y in (24.0, 36.0)])
        for sizes in (Sizes(), Sizes(tip_mm=0.8, foot_mm=6.0), Sizes(tip_mm=0.3, foot_mm=2.0, raft=False)):
            made = supports(body, tips, sizes=sizes).mesh
            theirs = trimesh.Trimesh(made.vertices_mm, made.faces, process=False)
            self.assertEqual((theirs.is_watertight, check_solid(made).components), (True, 1 if sizes.raft else 4))
            touch = theirs.section(plane_origin=[0, 0, 8.999], plane_normal=[0, 0, 1])
            # Few corners, and the area of a round one.
            self.assertAlmostEqual(touch.to_2D()[0].area, 4 * np.pi * (sizes.tip_mm / 2) ** 2, delta=0.01)
            ground = theirs.section(plane_origin=[0, 0, 0.01], plane_normal=[0, 0, 1]).to_2D()[0]
            if not sizes.raft:
                self.assertAlmostEqual(ground.area, 4 * np.pi / 4 * sizes.foot_mm**2, delta=0.03 * ground.area)
            self.assertAlmostEqual(theirs.bounds[0][0], 24 - sizes.foot_mm / 2 - 0.4, delta=0.05)

    def braced(self, height: float, *more: Mesh) -> trimesh.Trimesh:
        """Four pillars 12 by 9 mm apart under a slab, with whatever else stands there."""
        slab = at_height(mesh_of(block((20, 20, 4))), height)
        body = joined([slab, *more]) if more else slab
        tips = np.array([[x, y, height] for x in (24.0, 36.0) for y in (25.5, 34.5)])
        made = supports(body, tips)
        self.assertTrue(made.stands.all() and check_solid(made.mesh).ok)
        # All by themselves they rise without hanging anywhere: 0.3 mm is nothing that a printer lets down.
        cut = layers(made.mesh, np.eye(4), pixel_mm=0.05, layer_mm=0.05)
        self.assertEqual(unheld(cut, reach_mm=0.5), [])
        return trimesh.Trimesh(made.mesh.vertices_mm, made.mesh.faces, process=False)

    def test_slender_pillars_are_braced_and_short_ones_are_not(self) -> None:
        def parts(of: trimesh.Trimesh, z: float) -> int:
            cut = of.section(plane_origin=[0, 0, z], plane_normal=[0, 0, 1])
            return len(cut.to_2D()[0].polygons_full)

        short, tall = self.braced(9.0), self.braced(31.0)
        # From 1.8 mm up each way takes 12 or 9 mm of height: half way up it is a section of its own, between two pillars.
        self.assertEqual([parts(short, z) for z in (3.0, 5.0, 6.5)], [4, 4, 4])
        self.assertGreaterEqual(parts(tall, 1.8 + 4.5), 6)
        self.assertGreaterEqual(parts(tall, 1.8 + 6.0), 6)
        # Of a bar of 0.9 mm across that goes up by 45°, a level section has the area of a disc of that.
        cut = tall.section(plane_origin=[0, 0, 1.8 + 6.0], plane_normal=[0, 0, 1]).to_2D()[0]
        areas = sorted(float(p.area) for p in cut.polygons_full)
        self.assertAlmostEqual(areas[0], np.pi * 0.45**2, delta=0.01)

    def test_what_is_braced_from_two_sides_may_be_half_as_thick(self) -> None:
        def across(of: trimesh.Trimesh, x: float, y: float) -> float:
            cut = of.section(plane_origin=[0, 0, 28.8], plane_normal=[0, 0, 1]).to_2D()[0]
            to_3d = of.section(plane_origin=[0, 0, 28.8], plane_normal=[0, 0, 1]).to_2D()[1]
            middles = [(to_3d @ [*p.centroid.coords[0], 0, 1])[:2] for p in cut.polygons_full]
            (own,) = [p for p, at in zip(cut.polygons_full, middles, strict=True) if np.hypot(*(at - [x, y])) < 1]
            return float(np.sqrt(own.area / 3.0) * 2)  # a ring of twelve corners: 3 r²

        # 31 mm tall: a twenty-eighth of that, where the other three stand near by; by itself a fourteenth.
        self.assertAlmostEqual(across(self.braced(31.0), 24.0, 25.5), 31.0 / 28, delta=0.1)
        lone = supports(at_height(mesh_of(block((20, 20, 4))), 31.0), np.array([[24.0, 25.5, 31.0]])).mesh
        self.assertAlmostEqual(across(trimesh.Trimesh(lone.vertices_mm, lone.faces, process=False), 24.0, 25.5), 31.0 / 14, delta=0.15)

    def test_no_brace_goes_through_a_body(self) -> None:
        wall = mesh_of(block((2, 30, 33)))
        wall = wall.with_vertices(wall.vertices_mm - wall.vertices_mm.min(0) + [29.0, 15.0, 1.5])
        open_way, barred = self.braced(31.0), self.braced(31.0, wall)
        box = trimesh.creation.box((2, 30, 33))
        box.apply_translation([30.0, 30.0, 18.0])
        mids = np.array([[30.0, y, z] for y in (25.5, 34.5) for z in np.arange(5.0, 28.0, 0.5)])
        self.assertFalse(barred.contains(mids).any())
        self.assertTrue(open_way.contains(mids).any())

    def test_a_row_of_tips_along_an_edge(self) -> None:
        """Along the lowest line of a lying round bar: every 3 mm, on the line."""
        bar = mesh_of(manifold3d.Manifold.cylinder(30, 4, 4, 96).rotate([0, 90, 0]).refine_to_length(0.4))
        body = at_height(bar, 5)
        y = float(body.vertices_mm[body.vertices_mm[:, 2].argmin(), 1])
        low = float(body.vertices_mm[:, 0].min())
        ends = [np.array([low + x, y, 5.0]) for x in (3.0, 27.0)]
        done = set_by_hand(body, np.zeros((0, 3)), {"t1": Said(ends[0], to=ends[1])})
        self.assertEqual((done.by, done.lost), (["t1"] * 9, {}))
        self.assertLess(np.abs(done.tips[:, 1] - y).max(), 0.05)
        self.assertLess(np.abs(np.diff(np.sort(done.tips[:, 0])) - 3.0).max(), 0.05)

    def test_tips_touch_and_pillars_keep_off(self) -> None:
        store = known_store()
        graph = evaluate(case(store, *jaws(5)), CASE, store, until="base").graph
        piece = next(p for p, jaw in graph.jaws.items() if jaw == "upper")
        body = unpack(graph.node("base", piece).manifest.values["body"], store.blobs)
        stand = graph.node("level").json("stand", piece)
        matrix, size = raised(body, stand["up"], stand["front"], tilt_deg=60, by_mm=5, room_mm=3)
        points = body.vertices_mm @ matrix[:3, :3].T + matrix[:3, 3]
        np.testing.assert_allclose(points.min(0), [3, 3, 5], atol=1e-6)
        np.testing.assert_allclose(points.max(0) + [3, 3, 0], size, atol=1e-6)
        lying = body.with_vertices(points)
        tips, _ = tips_for(layers(body, matrix, pixel_mm=0.05, layer_mm=0.1), reach_mm=2.0, free=NOWHERE)
        made = supports(lying, tips)
        # By an exact boolean: all that goes into the body are the tips' ends.
        both = manifold(lying) ^ manifold(made.mesh)
        one = np.pi / 4 * TIP_MM**2 * INTO_MM
        self.assertLess(both.volume(), 6 * one * made.stands.sum())
        self.assertGreater(both.volume(), 0.3 * one * made.stands.sum())
        self.assertGreaterEqual(made.mesh.vertices_mm[:, 2].min(), 0.0)


class LayTest(unittest.TestCase):
    def test_the_face_at_a_place(self) -> None:
        cube = mesh_of(block((10, 10, 10)))
        np.testing.assert_allclose(face_towards(cube, [10, 5, 5]), [1, 0, 0], atol=1e-9)
        np.testing.assert_allclose(face_towards(cube, [5, 0, 5]), [0, -1, 0], atol=1e-9)


class SheetTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.store = known_store()
        cls.document = case(cls.store, *jaws(5))
        cls.graph = cls.worked()

    @classmethod
    def worked(cls, **plate: object):  # noqa: ANN206
        return evaluate(cls.document.model_copy(update={"settings": {"plate": {"*": HERON | plate}}}), CASE, cls.store).graph

    def test_supported_bodies_are_held_and_counted(self) -> None:
        graph = self.worked(supports="all")
        takes, flat = graph.node("takes").json("takes"), self.graph.node("takes").json("takes")
        extra = 0.0
        for piece in graph.jaws:
            node = graph.node("supports", piece)
            extra += volume_ml(unpack(node.manifest.values["mesh"], self.store.blobs))
            codes = {f["code"] for f in graph.node("check", piece).manifest.flags}
            self.assertLessEqual(codes, {"cup", "roof"}, codes)
        self.assertAlmostEqual(takes["ml"], flat["ml"] + extra, delta=0.02 * extra + 0.02)
        self.assertGreater(takes["layers"], flat["layers"] + 90)

    @tag("long")
    def test_denser_tips_and_rafts_that_hang_together(self) -> None:
        def made(**settings: object) -> tuple[list[Mesh], int]:
            document = self.document.model_copy(
                update={"settings": {"plate": {"*": HERON | {"supports": "all", "tilt_deg": 75.0}}, "supports": {"*": settings}}}
            )
            graph = evaluate(document, CASE, self.store, until="supports").graph
            out, tips = [], 0
            for piece in graph.jaws:
                mesh = unpack(graph.node("supports", piece).manifest.values["mesh"], self.store.blobs)
                out.append(mesh.moved(np.array(graph.node("plate").json("home_to_plate", piece))))
                tips += len(graph.node("supports", piece).json("tips"))
            return out, tips

        (one, two), few = made()
        self.assertEqual((manifold(one) ^ manifold(two)).volume(), 0.0)
        (one, two), many = made(dense="many", raft="joined")
        self.assertGreater(many, 1.5 * few)
        # Their bars go into one another: one solid.
        self.assertEqual(len((manifold(one) + manifold(two)).decompose()), 1)

    def test_tips_keep_off_teeth_unless_a_person_insists(self) -> None:
        graph = self.worked(supports="all", tilt_deg=75.0)
        piece = next(p for p, jaw in graph.jaws.items() if jaw == "upper")
        tips = graph.node("supports", piece).json("tips")
        teeth = unpack(graph.node("teeth", piece).manifest.values["mesh"], self.store.blobs)
        on = teeth.vertices_mm[np.unique(teeth.faces[numbers_of_faces(teeth) > 0])]
        off = cKDTree(on).query([tip["at_mm"] for tip in tips])[0]
        # A tip is 0.4 mm wide, its edge no nearer to a tooth than 0.3 mm; a pixel of its field is 0.25.
        self.assertGreater(off.min(), 0.3)
        self.assertTrue(all(tip["tooth"] == 0 for tip in tips))
        # On the palatal side of a front tooth, insisted on; then one that is taken away.
        matrix = np.array(graph.node("plate").json("home_to_plate", piece))
        body = unpack(graph.node("assemble", piece).manifest.values["body"], self.store.blobs)
        down = (face_normals(body) @ matrix[:3, :3].T)[:, 2] < -0.6
        middle = body.vertices_mm[body.faces].mean(1)
        there = middle[down][cKDTree(on).query(middle[down])[0].argmin()]
        held = next(tip for tip in tips if tip["stands"])
        hand = {"t1": {"at": there.tolist()}, "t2": {"instead": held["at_mm"]}}
        document = self.document.model_copy(
            update={"settings": {"plate": {"*": HERON | {"supports": "all", "tilt_deg": 75.0}}, "supports": {piece: {"tips": hand}}}}
        )
        node = evaluate(document, CASE, self.store, until="supports").graph.node("supports", piece)
        told = node.json("tips")
        own = next(tip for tip in told if tip["by"] == "t1")
        self.assertGreater(own["tooth"], 0)
        self.assertNotIn(held["at_mm"], [tip["at_mm"] for tip in told])
        if own["stands"]:
            flag = next(f for f in node.manifest.flags if f["code"] == "tip-on-tooth")
            self.assertEqual(flag["fix"]["values"], {"at": None, "instead": None})

    @tag("long")
    def test_what_hangs_without_its_tips_is_found_and_one_press_after_the_other_mends_it(self) -> None:
        plate = {"supports": "all", "tilt_deg": 60.0}
        graph = self.worked(**plate)
        piece = next(p for p, jaw in graph.jaws.items() if jaw == "upper")
        matrix = np.array(graph.node("plate").json("home_to_plate", piece))
        at = np.array([tip["at_mm"] for tip in graph.node("supports", piece).json("tips")])
        high = at @ matrix[2, :3]
        near = high < high.min() + 1.5
        said: dict[str, dict] = {f"t{k}": {"instead": tip} for k, tip in enumerate(at[near].tolist(), 1)}

        def found() -> list[dict]:
            settings = {"plate": {"*": HERON | plate}, "supports": {piece: {"tips": said}}}
            now = evaluate(self.document.model_copy(update={"settings": settings}), CASE, self.store).graph
            return [f for f in now.node("check", piece).manifest.flags if f["code"] in ("island", "hang")]

        hanging = found()
        self.assertIn("island", [f["code"] for f in hanging])
        for _ in range(6):
            if not hanging:
                break
            for fix in (f["fix"] for f in hanging):
                self.assertEqual((fix["step"], fix["piece"], fix["at"], fix["label"]), ("supports", piece, "tips", "Add a tip"))
                said[f"t{len(said) + 1}"] = fix["values"]
            hanging = found()
        self.assertEqual(hanging, [])
        # Of one that lies flat the way out is other: it is put on supports.
        body = unpack(graph.node("assemble", piece).manifest.values["body"], self.store.blobs)
        up = np.array(graph.node("level").json("stand", piece)["up"])
        tip = body.vertices_mm[(body.vertices_mm @ up).argmax()].tolist()
        flat = self.worked(lay={piece: {"at": tip}}, stands={piece: "none"})
        fixes = [f["fix"] for f in flat.node("check", piece).manifest.flags if f["code"] in ("island", "hang")]
        self.assertTrue(fixes)
        self.assertEqual({(f["label"], f["values"]["stands"][piece]) for f in fixes}, {("On supports", "all")})

    def test_one_body_on_supports_the_other_flat(self) -> None:
        upper, lower = (next(p for p, jaw in self.graph.jaws.items() if jaw == j) for j in ("upper", "lower"))
        graph = self.worked(stands={upper: "all"}, raise_mm=6.0)
        low = {}
        for piece in (upper, lower):
            matrix = np.array(graph.node("plate").json("home_to_plate", piece))
            body = unpack(graph.node("assemble", piece).manifest.values["body"], self.store.blobs).moved(matrix)
            low[piece] = round(float(body.vertices_mm[:, 2].min()), 4)
        self.assertEqual(low, {upper: 6.0, lower: 0.0})
        self.assertGreater(len(graph.node("supports", upper).json("tips")), 5)
        self.assertNotIn("tips", graph.node("supports", lower).manifest.values)
        other = self.worked(supports="all", stands={upper: "none"})
        self.assertNotIn("tips", other.node("supports", upper).manifest.values)
        self.assertGreater(len(other.node("supports", lower).json("tips")), 5)

    @tag("long")
    def test_ways_side_by_side_are_what_they_are_printed_as(self) -> None:
        beside = self.worked(compare=True)
        for piece in beside.jaws:
            self.assertIsNone(self.graph.node("ways", piece).json("ways"))
            ways = {w["way"]: w for w in beside.node("ways", piece).json("ways")}
            self.assertEqual(list(ways), ["flat", "level", "half", "steep"])
            self.assertEqual((ways["flat"]["tips"], ways["flat"]["barred"]), (0, 0))
            for tilt, way in ((None, ways["flat"]), (0.0, ways["level"]), (75.0, ways["steep"])):
                done = self.graph if tilt is None else self.worked(supports="all", tilt_deg=tilt)
                matrix = np.array(done.node("plate").json("home_to_plate", piece))
                body = unpack(done.node("assemble", piece).manifest.values["body"], self.store.blobs).moved(matrix)
                # The plate is printed larger by what the resin shrinks, at most 0.5 %.
                self.assertAlmostEqual(way["mm"] / body.vertices_mm[:, 2].max(), 1, delta=0.005)
                self.assertAlmostEqual(way["minutes"], done.node("takes").json("takes")["minutes"], delta=0.25 * way["minutes"])
                if tilt is not None:
                    told = {r["name"]: r["value"] for r in done.node("supports", piece).manifest.readings}
                    # Their lattice begins elsewhere.
                    self.assertAlmostEqual(way["tips"] / told["tips"], 1, delta=0.2)
                    self.assertAlmostEqual(way["ml"], volume_ml(body) + told["supports and raft"], delta=0.06 * way["ml"])
            self.assertGreater(ways["level"]["tips"], ways["steep"]["tips"])
            self.assertGreater(ways["steep"]["minutes"], 1.2 * ways["flat"]["minutes"])

    @tag("long")
    def test_every_island_is_held_as_another_library_sees_it(self) -> None:
        """Sections by manifold: whatever begins in a layer lies on something of the layer below, or hangs together with such within a
        tenth of a millimetre. Without the supports the same bodies have islands."""
        graph = self.worked(supports="all", tilt_deg=40.0)
        alone = 0
        for piece in graph.jaws:
            matrix = np.array(graph.node("plate").json("home_to_plate", piece))
            body = unpack(graph.node("assemble", piece).manifest.values["body"], self.store.blobs).moved(matrix)
            held = unpack(graph.node("supports", piece).manifest.values["mesh"], self.store.blobs).moved(matrix)
            self.assertEqual(islands(manifold(body) + manifold(held)), [])
            alone += len(islands(manifold(body)))
        self.assertGreater(alone, 3)

    def test_off_they_cost_nothing(self) -> None:
        for piece in self.graph.jaws:
            self.assertEqual(self.graph.node("supports", piece).manifest.values, {})
        again = evaluate(self.document.model_copy(update={"settings": {"plate": {"*": HERON | {"raise_mm": 9.0}}}}), CASE, self.store)
        # The other ways are asked for with it, and are none.
        ways = again.graph.of_step("ways")
        self.assertEqual(again.worked, {node.task.key for node in ways})
        self.assertEqual([node.json("ways") for node in ways], [None, None])

    def test_a_body_is_laid_on_its_back_wall(self) -> None:
        piece = next(iter(self.graph.jaws))
        body = unpack(self.graph.node("assemble", piece).manifest.values["body"], self.store.blobs)
        front = np.array(self.graph.node("level").json("stand", piece)["front"])
        wall = np.flatnonzero(face_normals(body) @ -front > 0.999)
        at = body.vertices_mm[body.faces[wall]].mean((0, 1))
        nearest = wall[np.linalg.norm(body.vertices_mm[body.faces[wall]].mean(1) - at, axis=1).argmin()]
        point = body.vertices_mm[body.faces[nearest]].mean(0).tolist()
        graph = self.worked(lay={piece: {"at": point}})
        matrix = np.array(graph.node("plate").json("home_to_plate", piece))
        down = matrix[:3, :3] @ face_normals(body)[nearest]
        np.testing.assert_allclose(down, [0, 0, -1], atol=0.02)
        self.assertAlmostEqual(float((body.vertices_mm @ matrix[2, :3] + matrix[2, 3]).min()), 0.0, places=6)
        other = next(p for p in graph.jaws if p != piece)
        turned = np.array(graph.node("plate").json("home_to_plate", other))[:3, :3]
        np.testing.assert_allclose(turned, np.array(self.graph.node("plate").json("home_to_plate", other))[:3, :3])

    def test_the_plate_as_a_file_has_them_as_items_of_their_own(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            (folder / "l.stl").write_bytes(stl.write_binary(jaws(21)[1]))
            settings = ["--set", "plate.supports=all", "--set", "plate.printer=heron", "--set", "hand-off.plate=true"]
            self.assertEqual(main([str(folder / "l.stl"), "--out", str(folder / "out"), "--layers", *settings]), 0)
            scene = trimesh.load(folder / "out" / "plate.3mf")
            self.assertEqual(sorted(scene.geometry), ["lower", "lower supports"])
            rows = json.loads((folder / "out" / "report.json").read_text())["outputs"]
            on_plate = sorted((r["name"], r["kind"], r["frame"]) for r in rows if r["file"] == "plate.3mf")
            self.assertEqual(on_plate, [("lower", "body", "plate"), ("lower supports", "supports", "plate")])
