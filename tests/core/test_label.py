"""Labels on bodies: their place, what the cavity keeps off, and what the veil shows."""

from __future__ import annotations

import unittest
from types import SimpleNamespace
from unittest import mock

import igl
import numpy as np
import trimesh
from django.test import tag
from numpy.typing import NDArray
from PIL import Image, ImageDraw

from bitecore.engine.gives import unpack
from bitecore.engine.model import Inputs
from bitecore.mesh import GROUP_CUT, GROUP_SCAN, Mesh, check_solid, face_components, volume_ml
from bitecore.ops.assembly import assemble
from bitecore.ops.bends import Bend
from bitecore.ops.free_wall import free_wall
from bitecore.ops.writing import Surface, on_wall, underneath
from bitecore.ops.written import code, text
from bitecore.runsheet import CASE, evaluate
from bitecore.runsheet.framed import Frame
from bitecore.runsheet.label_says import Asked, Stands, behind
from bitecore.runsheet.labels import Said
from tests.core.known import known_store
from tests.core.test_runsheet import case
from tests.core.test_written import PIXEL_MM, alike, by_freetype, cropped, read_back
from tests.shapes import box
from tests.shapes import light_jaws as jaws

FRONT = np.array([0.0, -1.0])


def of_cut(solid: Mesh, *, right: NDArray, up: NDArray, towards: NDArray, at: float) -> NDArray[np.bool_]:
    """What a plane square to `towards` (to the eye) cuts of a solid, as the eye sees it, by trimesh."""
    theirs = trimesh.Trimesh(solid.vertices_mm, solid.faces, process=False)
    path = theirs.section(plane_origin=np.asarray(towards, float) * at, plane_normal=towards)
    middle = np.array([solid.vertices_mm.mean(0) @ right, solid.vertices_mm.mean(0) @ up]) / PIXEL_MM
    ink = np.zeros((1000, 4000), bool)
    for loop in path.discrete:
        flat = np.c_[loop @ right, loop @ up] / PIXEL_MM + [2000, 500] - middle
        image = Image.new("1", (4000, 1000))
        ImageDraw.Draw(image).polygon([(float(x), float(y)) for x, y in flat], fill=1)
        ink ^= np.asarray(image)
    return cropped(ink)


def block() -> Mesh:
    made = box((60, 30, 12))
    return Mesh.of(made.vertices_mm, made.faces, np.full(12, GROUP_CUT, np.uint8))


def wall_of(body: Mesh) -> Surface:
    wall = free_wall(body)
    assert wall
    return on_wall(wall, sides=FRONT, likes=lambda side: 0.0, left=1)


class PlaneTest(unittest.TestCase):
    """On a block of 60 × 30 × 12 labels are measured as a flat drawing."""

    TEXT = "R2F 61-J"

    def test_on_the_wall_it_is_read_from_outside_and_as_deep_as_asked(self) -> None:
        body = block()
        wall, made = wall_of(body), text([self.TEXT], tall_mm=4.0)
        spot, off = wall.place(made, 0.0, wall.flat(np.array([30.0, 0.0, 6.0])))
        self.assertEqual(off, 0.0)
        letters = wall.solid(made, spot, inner=0.5, outer=0.3)
        done = assemble(body, cut=[("the label", letters)]).body
        self.assertTrue(check_solid(done).ok)
        taken = (volume_ml(body) - volume_ml(done)) * 1000
        self.assertAlmostEqual(taken / (made.shape.area() * 0.5), 1, delta=0.01)
        seen = of_cut(letters, right=np.array([1.0, 0, 0]), up=np.array([0, 0, 1.0]), towards=np.array([0, -1.0, 0]), at=-0.25)
        drawn = by_freetype(self.TEXT, 4.0)
        self.assertGreater(alike(seen, drawn), 0.88)
        self.assertLess(alike(seen[:, ::-1], drawn), 0.7, "a mirrored line would be told")

    def test_underneath_it_is_read_from_below(self) -> None:
        body = block()
        under, made = underneath(body, FRONT), text([self.TEXT], tall_mm=4.0)
        assert under
        letters = under.solid(made, under.place(made, 0.0, under.flat(np.array([30.0, 15, 0])))[0], inner=0.5, outer=0.3)
        done = assemble(body, cut=[("the label", letters)]).body
        self.assertAlmostEqual((volume_ml(body) - volume_ml(done)) * 1000 / (made.shape.area() * 0.5), 1, delta=0.01)
        # From below with the front (-y) up, +x is on the right.
        seen = of_cut(letters, right=np.array([1.0, 0, 0]), up=np.array([0, -1.0, 0]), towards=np.array([0, 0, -1.0]), at=-0.25)
        self.assertGreater(alike(seen, by_freetype(self.TEXT, 4.0)), 0.85)

    def test_a_code_in_the_body_is_read_back(self) -> None:
        """From a picture of the engraved body, cut 0.25 mm under its surface, by zxing-cpp: on the wall and underneath."""
        body, made = block(), code("2611-09", side_mm=9)
        under = underneath(body, FRONT)
        assert under
        views = [
            (wall_of(body), np.array([30.0, 0, 6]), ((1, 0, 0), (0, 0, 1), (0, -1, 0)), -0.25),
            (under, np.array([30.0, 15, 0]), ((1, 0, 0), (0, -1, 0), (0, 0, -1)), -0.25),
        ]
        for surface, at, (right, up, towards), depth in views:
            for turn in (0.0, 0.4 if surface is under else 0.0):
                spot, _ = surface.place(made, turn, surface.flat(at))
                solid = surface.solid(made, spot, inner=0.5, outer=0.3)
                done = assemble(body, cut=[("the code", solid)]).body
                self.assertTrue(check_solid(done).ok)
                self.assertEqual(face_components(done)[0], 1)
                axes = (np.array(v, float) for v in (right, up, towards))
                body_there = of_cut(done, **dict(zip(("right", "up", "towards"), axes, strict=True)), at=depth)
                self.assertEqual(read_back(cropped(~body_there)), ["2611-09"])

    def test_it_is_turned_exactly(self) -> None:
        body = block()
        under, made = underneath(body, FRONT), text(["IIIIIIIIII"], tall_mm=3.0)
        assert under
        for degrees in (-90, -30, 12, 45, 180):
            spot, off = under.place(made, float(np.radians(degrees)), under.flat(np.array([30.0, 15, 0])))
            _, along, up = under.axes(made, spot)
            # Seen from below with the front up: right is +x, up is -y.
            self.assertEqual(off, 0.0)
            angle = np.degrees(np.arctan2(-along[1], along[0]))
            self.assertAlmostEqual((angle - degrees + 180) % 360 - 180, 0, places=6)
            self.assertAlmostEqual(along @ up, 0, places=9)

    def test_labels_keep_off_one_another_and_off_edges(self) -> None:
        wall, made = wall_of(block()), text(["2611"], tall_mm=4.0)
        boxes = []
        for _ in range(30):
            found = wall.place(made, 0.0, None)
            if found is None:
                break
            boxes.append(found[0])
            wall = wall.without(made, found[0])
        # 180 mm around, in one row: as many as fit on four sides of 60, 30, 60 and 30 mm, each 10 mm wide and 1.2 mm from the next.
        self.assertGreaterEqual(len(boxes), 8)
        for k, a in enumerate(boxes):
            plan = wall.laid(wall.turned(np.array([[0.0, 2], [made.width, 2]]), made, a), np.zeros(2))[:, :2]
            self.assertTrue(np.isclose(plan[0], plan[1]).any(), "both ends on one side of the block")
            for b in boxes[k + 1 :]:
                apart = abs((a.x - b.x + 90) % 180 - 90)
                self.assertTrue(apart > made.width + 1 or abs(a.y - b.y) > made.height + 1)

    def test_where_it_does_not_fit(self) -> None:
        wall = wall_of(block())
        self.assertIsNone(wall.place(text(["2611-09 much too long for any wall"], tall_mm=8.0), 0.0, None))
        spot, off = wall.place(text(["2611"], tall_mm=4.0), 0.0, wall.flat(np.array([30.0, 0, 0.2])))
        self.assertGreater(off, 1.0, "over the edge it does not go")
        self.assertGreater(spot.y - 2.0, 0.45)

    def test_nothing_goes_through(self) -> None:
        """Underneath only where the body is thick enough over it; on a wall what is left behind is said, and the depth that leaves it."""
        body, made = block(), text(["2611"], tall_mm=4.0)
        for thick, stands in ((11.9, True), (12.1, False)):
            under = underneath(body, FRONT, thick_mm=thick)
            assert under
            self.assertEqual(under.place(made, 0.0, None) is not None, stands, thick)
        plate = Mesh.of(body.vertices_mm * [1, 2 / 30, 1], body.faces, body.groups)
        wall = wall_of(plate)
        spot, off = wall.place(made, 0.0, wall.flat(np.array([30.0, 0, 6])))
        said = Said("text", "text", ("2611",), None, lambda tall, hidden: made, ((4.0,), (4.0,)))
        found = Stands(Asked(said, "", None, 0.0), made, wall, spot, "cut", off)
        frame = Frame(np.eye(3), np.zeros(3))
        for depth, left, mended in ((1.5, "0.5", 1.2), (1.2, None, None), (1.9, "0.1", 1.2)):
            flags = list(behind(found, plate, Inputs({}, "p1", "upper"), SimpleNamespace(depth_mm=depth), frame))
            self.assertEqual(bool(flags), left is not None, depth)
            if left:
                self.assertIn(f"{left} mm are left", flags[0].message)
                self.assertEqual(flags[0].fix.values, {"depth_mm": mended})

    def test_room_on_a_wall(self) -> None:
        wall = free_wall(block())
        assert wall
        self.assertAlmostEqual(wall.bend.length, 180, places=6)
        bends = wall.starts(40.0, 11.0)
        good = wall.bend.at(np.flatnonzero(np.isfinite(bends)) * wall.step_mm)
        # 40 mm without a corner fit on the two long sides only.
        self.assertTrue(len(good) and (np.isclose(good[:, 1], 0) | np.isclose(good[:, 1], 30)).all())
        self.assertFalse(np.isfinite(wall.starts(40.0, 12.5)).any())

    def test_sides_are_the_patients(self) -> None:
        wall, made = free_wall(block()), text(["2611"], tall_mm=4.0)
        assert wall
        for side, axis, far in (("front", 1, 0.0), ("back", 1, 30.0), ("left", 0, 60.0), ("right", 0, 0.0)):
            surface = on_wall(wall, sides=FRONT, likes=lambda s, side=side: 0.0 if s == side else None, left=1)
            found = surface.place(made, 0.0, None)
            assert found
            middle, _, _ = surface.axes(made, found[0])
            self.assertAlmostEqual(middle[axis], far, places=6, msg=side)

    def test_bend_of_a_circle(self) -> None:
        t = np.linspace(0, 2 * np.pi, 400)[:-1]
        bend = Bend(20 * np.c_[np.cos(t), np.sin(t)])
        self.assertAlmostEqual(bend.length, 40 * np.pi, delta=0.05)
        np.testing.assert_allclose(bend.outward(10.0), bend.at(10.0) / 20, atol=1e-3)

    def test_a_box_of_cells_is_as_large_as_the_label(self) -> None:
        """The room that is found is that of shapely's polygons would be: every middle whose turned box lies within the block's floor."""
        under = underneath(block(), FRONT)
        assert under
        for turn in (0.0, 0.3, np.pi / 2, 2.2):
            room = under.room(20.0, 8.0, turn)
            xs, ys = under.middles()
            cos, sin = abs(np.cos(turn)), abs(np.sin(turn))
            wide, tall = 20 * cos + 8 * sin, 20 * sin + 8 * cos
            inside = room.any(1).nonzero()[0], room.any(0).nonzero()[0]
            for found, whole, need in ((xs[inside[0]], 60, wide), (ys[inside[1]], 30, tall)):
                # Two cells of 0.5 mm at most are given away at each end.
                self.assertLess(abs((np.ptp(found) + 0.5) - (whole - need)), 2.2)


class JawTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.store = known_store()
        cls.document = case(cls.store, *jaws(21))

    def graph(self, **settings: dict):  # noqa: ANN201
        return evaluate(self.document.model_copy(update={"settings": {k: {"*": v} for k, v in settings.items()}}), CASE, self.store).graph

    def mesh(self, graph, step: str, piece: str) -> Mesh:  # noqa: ANN001
        return unpack(graph.node(step, piece).manifest.values["body"], self.store.blobs)

    def test_engraved_on_both_jaws_off_the_scan_and_the_wall_stays(self) -> None:
        graph = self.graph(label={"style": "engraved", "depth_mm": 0.6}, hollow={"style": "open"})
        for piece, jaw in graph.jaws.items():
            with self.subTest(jaw=jaw):
                node = graph.node("label", piece)
                (label,) = node.json("labels")
                self.assertEqual(label["text"], f"{self.document.number} {jaw}")
                self.assertEqual(label["where"], "on the wall")
                stand = graph.node("level").json("stand", piece)
                self.outside(graph, piece, np.array(label["middle"]), np.array(stand["up"]))
                based, made = self.mesh(graph, "base", piece), self.mesh(graph, "assemble", piece)
                self.assertTrue(check_solid(made).ok)
                self.assertEqual(face_components(made)[0], 1)
                letters = next(iter(unpack(node.manifest.values["solids"], self.store.blobs))).mesh
                scan = based.of_faces(based.groups == GROUP_SCAN)
                off = np.sqrt(igl.point_mesh_squared_distance(letters.vertices_mm, scan.vertices_mm, scan.faces.astype(np.int64))[0])
                self.assertGreater(off.min(), 0.2, "no letter touches the scan")
                cavity = next(s for s in unpack(graph.node("hollow", piece).manifest.values["solids"], self.store.blobs) if s.op == "cut")
                corners, faces = letters.vertices_mm, letters.faces.astype(np.int64)
                wall = np.sqrt(igl.point_mesh_squared_distance(cavity.mesh.vertices_mm, corners, faces)[0])
                self.assertGreater(wall.min(), 1.95, "behind the letters the wall is as thick as anywhere")

    def outside(self, graph, piece: str, middle: NDArray, up: NDArray) -> None:  # noqa: ANN001
        """Nothing of the body lies far beyond the label, seen from its middle: it is on no inner side."""
        points = self.mesh(graph, "base", piece).vertices_mm
        flat = points - np.outer(points @ up, up)
        there = middle - up * (middle @ up)
        away = there - flat.mean(0)
        away /= np.linalg.norm(away)
        self.assertLess(((flat - there) @ away).max(), 12.0)

    def test_raised_is_one_body_and_changes_nothing_of_the_cavity(self) -> None:
        graph, bare = self.graph(label={"style": "raised"}, hollow={"style": "open"}), self.graph(hollow={"style": "open"})
        for piece in graph.jaws:
            made = self.mesh(graph, "assemble", piece)
            self.assertEqual(face_components(made)[0], 1)
            self.assertGreater(volume_ml(made), volume_ml(self.mesh(bare, "assemble", piece)))
            self.assertEqual(graph.node("hollow", piece).manifest.values, bare.node("hollow", piece).manifest.values)

    def test_where_it_is_put_and_where_there_is_no_room(self) -> None:
        first = self.graph(label={"style": "engraved"})
        piece, other = first.jaws
        there = first.node("label", piece).json("labels")[0]["middle"]
        away = (np.array(there) + [3.0, 0.0, 0.0]).tolist()
        settings = {"label": {"*": {"style": "engraved"}, piece: {"labels": {"l1": {"name": "text", "at": away}}}}}
        moved = evaluate(self.document.model_copy(update={"settings": settings}), CASE, self.store).graph
        now = moved.node("label", piece).json("labels")[0]["middle"]
        self.assertLess(np.linalg.norm(np.array(now) - away), np.linalg.norm(np.array(there) - away) + 0.3)
        self.assertEqual(moved.node("label", other).manifest.key, first.node("label", other).manifest.key)
        long = self.graph(
            label={"style": "engraved", "pattern": "much too much for any wall of any jaw there is {number}"}, hollow={"style": "open"}
        )
        self.assertEqual({n.manifest.flags[0]["code"] for n in long.of_step("label")}, {"no-label"})
        self.assertEqual({n.state for n in long.of_step("assemble")}, {"done"})

    def test_walls_too_low_are_raised_by_the_fix(self) -> None:
        for base in ({"thickness_mm": 1.0}, {"height": "total", "total_mm": 5.0, "thickness_mm": 9.0}):
            asked: dict = {"base": {"*": base}, "hollow": {"*": {"style": "open"}}}
            asked["label"] = {"*": {"style": "engraved", "tall_mm": 5.0, "least_mm": 5.0}}
            graph = evaluate(self.document.model_copy(update={"settings": asked}), CASE, self.store, until="label").graph
            for node in graph.of_step("label"):
                flag = node.manifest.flags[0]
                fix = next(flag[name] for name in ("fix", "other") if flag.get(name, {}).get("step") == "base")
                self.assertEqual((flag["code"], fix["piece"]), ("no-label", node.piece))
                asked["base"][node.piece] = fix["values"]
            graph = evaluate(self.document.model_copy(update={"settings": asked}), CASE, self.store, until="label").graph
            self.assertEqual({n.json("labels")[0]["where"] for n in graph.of_step("label")}, {"on the wall"})

    def test_what_has_no_room_finds_it_by_itself_and_says_how(self) -> None:
        base, style = {"*": {"thickness_mm": 8.0}}, {"style": "engraved", "free": "wait for the second frame, then go"}
        for more, how in (({"tall_mm": 9.0}, "smaller"), ({"pattern": "{text} {text} {text}"}, "on two lines")):
            asked = {"base": base, "hollow": {"*": {"style": "open"}}, "label": {"*": {**style, **more}}}
            graph = evaluate(self.document.model_copy(update={"settings": asked}), CASE, self.store, until="label").graph
            flags = [flag for node in graph.of_step("label") for flag in node.manifest.flags]
            self.assertNotIn("no-label", [flag["code"] for flag in flags])
            self.assertTrue(any(how in f["message"] for f in flags if f["code"] == "labelled"), [f["message"] for f in flags])
            self.assertGreaterEqual(min(label["tall_mm"] for n in graph.of_step("label") for label in n.json("labels")), 1.6)

    def test_between_plates_no_base_is_raised_alone(self) -> None:
        asked: dict = {"base": {"*": {"height": "gap", "gap_mm": 30.0}}, "hollow": {"*": {"style": "open"}}}
        asked["label"] = {"*": {"style": "engraved", "tall_mm": 10.0, "least_mm": 5.0, "pattern": "{number} {number}"}}
        graph = evaluate(self.document.model_copy(update={"settings": asked}), CASE, self.store, until="label").graph
        flags = [f for n in graph.of_step("label") for f in n.manifest.flags if f["code"] == "no-label"]
        self.assertTrue(flags)
        for flag in flags:
            self.assertTrue(flag["unmet"])
            self.assertNotIn("base", [flag[name]["step"] for name in ("fix", "other") if name in flag])

    def test_on_flat_gum_it_keeps_off_every_tooth_and_is_one_body_with_its_model(self) -> None:
        asked: dict = {"base": {"*": {"thickness_mm": 1.0}}, "hollow": {"*": {"style": "open"}}}
        asked["label"] = {"*": {"style": "engraved", "pattern": "GUM"}}
        # As on a base whose walls are bent too sharply everywhere.
        nowhere = mock.patch("bitecore.runsheet.steps.label._wall", return_value=None)
        nowhere.start()
        self.addCleanup(nowhere.stop)
        graph = evaluate(self.document.model_copy(update={"settings": asked}), CASE, self.store, until="label").graph
        lost = [n for n in graph.of_step("label") if any(f["code"] == "no-label" for f in n.manifest.flags)]
        self.assertTrue(lost, "this wall was to be too low")
        offered = [n for n in lost if n.manifest.flags[0].get("fix", {}).get("values") == {"on_gum": True}]
        self.assertTrue(offered)
        asked["label"]["*"]["on_gum"] = True
        graph = evaluate(self.document.model_copy(update={"settings": asked}), CASE, self.store).graph
        for node in offered:
            label = graph.node("label", node.piece).json("labels")[0]
            self.assertEqual(label["where"], "on the gum")
            told = unpack(graph.node("teeth", node.piece).manifest.values["mesh"], self.store.blobs)
            solid = unpack(graph.node("label", node.piece).manifest.values["solids"], self.store.blobs)[0].mesh
            crown = told.vertices_mm[np.nan_to_num(told.channel.values) > 0]
            off = np.linalg.norm(solid.vertices_mm[:, None] - crown[None, ::7], axis=2).min()
            self.assertGreater(off, 1.0)
            body = self.mesh(graph, "assemble", node.piece)
            self.assertTrue(check_solid(body).ok)
            self.assertEqual(face_components(body)[0], 1)

    def labels(self, graph, piece: str) -> dict:  # noqa: ANN001
        return {label["name"]: label for label in graph.node("label", piece).json("labels")}

    def test_several_labels_stand_apart_on_one_body(self) -> None:
        more = {"l1": {"kind": "text", "pattern": "{number}", "tall_mm": 2.0}, "l2": {"kind": "text", "pattern": "{teeth} {text}"}}
        graph = self.graph(
            base={"thickness_mm": 8.0}, label={"style": "engraved", "code": True, "labels": more, "free": "rush", "second": "{practice}"}
        )
        for piece in graph.jaws:
            found = self.labels(graph, piece)
            self.assertEqual(set(found), {"text", "code", "l1", "l2"})
            made = self.mesh(graph, "assemble", piece)
            self.assertTrue(check_solid(made).ok)
            self.assertEqual(face_components(made)[0], 1)
            solids = unpack(graph.node("label", piece).manifest.values["solids"], self.store.blobs)
            for k, one in enumerate(solids):
                for other in solids[k + 1 :]:
                    gap = np.sqrt(
                        igl.point_mesh_squared_distance(one.mesh.vertices_mm, other.mesh.vertices_mm, other.mesh.faces.astype(np.int64))[0]
                    )
                    self.assertGreater(gap.min(), 0.5)

    def test_the_patients_name_is_dots_under_the_veil_and_printed_as_it_is(self) -> None:
        document, kept = self.document.model_copy(update={"patient": "Ida Quell"}), self.document
        type(self).document = document
        try:
            graph = self.graph(label={"style": "engraved", "pattern": "{patient} {jaw}"}, base={"thickness_mm": 8.0})
        finally:
            type(self).document = kept
        for piece, jaw in graph.jaws.items():
            node = graph.node("label", piece)
            label = self.labels(graph, piece)["text"]
            self.assertEqual((label["text"], label["veiled"]), (f"Ida Quell {jaw}", f"••••• {jaw}"))
            said = [node.manifest.figure, *(flag["message"] for flag in node.manifest.flags)]
            self.assertFalse(any("Ida" in words for words in said))
            values = graph.node("assemble", piece).manifest.values
            body, veiled = (unpack(values[name], self.store.blobs) for name in ("body", "veiled"))
            self.assertTrue(check_solid(veiled).ok)
            self.assertGreater(abs(volume_ml(body) - volume_ml(veiled)) * 1000, 1.0)

    @tag("long")
    def test_a_line_far_too_long_is_said_at_once(self) -> None:
        document, kept = self.document.model_copy(update={"practice": "x" * 2000}), self.document
        type(self).document = document
        try:
            graph = self.graph(label={"style": "engraved", "pattern": "{practice}"})
        finally:
            type(self).document = kept
        for node in graph.of_step("label"):
            (flag,) = node.manifest.flags
            self.assertEqual(flag["code"], "no-label")
            self.assertLess(len(flag["message"]), 200)

    def test_no_name_no_second_body(self) -> None:
        graph = self.graph(label={"style": "engraved"})
        self.assertFalse(any("veiled" in n.manifest.values for n in graph.of_step("assemble")))

    @tag("long")
    def test_a_deep_code_under_a_thin_land_leaves_the_body_whole(self) -> None:
        graph = self.graph(
            label={"style": "engraved", "code": True, "depth_mm": 1.5, "side": "under"}, hollow={"style": "closed"},
            base={"shape": "flat", "thickness_mm": 1.0, "around_mm": 8.0},
        )  # fmt: skip
        for piece in graph.jaws:
            self.assertEqual(check_solid(self.mesh(graph, "assemble", piece)).components, 1, piece)

    @tag("long")
    def test_thin_strokes_and_deep_grooves_are_told_and_mended(self) -> None:
        asked: dict = {"style": "engraved", "font": "line", "pen_mm": 0.2, "depth_mm": 0.5}
        for code_, key in (("thin-strokes", "pen_mm"), ("deep-strokes", "depth_mm")):
            if code_ == "deep-strokes":
                asked |= {"pen_mm": 0.3, "depth_mm": 1.2}
            graph = self.graph(label=asked)
            flag = next(f for f in graph.of_step("label")[0].manifest.flags if f["code"] == code_)
            self.assertEqual(set(flag["fix"]["values"]), {key})
            mended = self.graph(label={**asked, **flag["fix"]["values"]})
            self.assertFalse(any(f["code"] == code_ for n in mended.of_step("label") for f in n.manifest.flags))

    def test_where_a_label_cannot_stand_it_is_told_and_let_go(self) -> None:
        first = self.graph(label={"style": "engraved"})
        piece, stand = next(iter(first.jaws)), first.node("foot").json("foot", next(iter(first.jaws)))
        there = np.array(self.labels(first, piece)["text"]["middle"])
        # Twenty millimetres up there are teeth.
        tooth = (there + 20 * np.array(stand["up"])).tolist()
        settings = {"label": {"*": {"style": "engraved"}, piece: {"labels": {"l1": {"name": "text", "at": tooth}}}}}
        graph = evaluate(self.document.model_copy(update={"settings": settings}), CASE, self.store, until="label").graph
        flag = next(f for f in graph.node("label", piece).manifest.flags if f["code"] == "label-moved")
        self.assertEqual((flag["fix"]["at"], flag["fix"]["id"], flag["fix"]["values"]["at"]), ("labels", "l1", None))
