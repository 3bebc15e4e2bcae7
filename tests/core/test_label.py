"""Letters beside another reading of the same font (Pillow's FreeType), their place, and what the cavity keeps off."""

from __future__ import annotations

import unittest
from pathlib import Path

import igl
import numpy as np
import trimesh
from fontTools.pens.areaPen import AreaPen
from fontTools.ttLib import TTFont
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFont

import bitecore
from bitecore.engine.gives import unpack
from bitecore.errors import BadSetting
from bitecore.mesh import GROUP_CUT, GROUP_SCAN, Mesh, check_solid, face_components, volume_ml
from bitecore.ops.assembly import assemble
from bitecore.ops.free_wall import free_wall
from bitecore.ops.letters import Bend, line, on_floor, on_wall, unknown
from bitecore.runsheet import CASE, MemoryStore, evaluate, standard
from tests.core.test_runsheet import case
from tests.shapes import box, jaws

FONT = Path(bitecore.__file__).parent / "fonts" / "BarlowSemiCondensed-SemiBold.ttf"
PIXEL_MM = 0.05


def by_freetype(text: str, tall_mm: float) -> NDArray[np.bool_]:
    """The line as another program draws it, cropped to its ink; a row of pixels up is +y."""
    font = TTFont(FONT)
    size = round(tall_mm / PIXEL_MM * font["head"].unitsPerEm / font["OS/2"].sCapHeight)
    drawn = ImageFont.truetype(str(FONT), size)
    at, image = 20.0, Image.new("L", (4000, 3 * size))
    for letter in text:
        ImageDraw.Draw(image).text((at, size), letter, fill=255, font=drawn)
        at += drawn.getlength(letter) + 0.06 * tall_mm / PIXEL_MM
    return cropped(np.asarray(image)[::-1] > 127)


def cropped(ink: NDArray[np.bool_]) -> NDArray[np.bool_]:
    rows, columns = np.flatnonzero(ink.any(1)), np.flatnonzero(ink.any(0))
    return ink[rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1]


def of_cut(solid: Mesh, *, right: NDArray, up: NDArray, towards: NDArray, at: float) -> NDArray[np.bool_]:
    """What a plane square to `towards` (to the eye) cuts of a solid, as the eye sees it, by trimesh."""
    theirs = trimesh.Trimesh(solid.vertices_mm, solid.faces, process=False)
    path = theirs.section(plane_origin=np.asarray(towards, float) * at, plane_normal=towards)
    middle = np.array([solid.vertices_mm.mean(0) @ right, solid.vertices_mm.mean(0) @ up]) / PIXEL_MM
    ink = np.zeros((600, 4000), bool)
    for loop in path.discrete:
        flat = np.c_[loop @ right, loop @ up] / PIXEL_MM + [2000, 300] - middle
        image = Image.new("1", (4000, 600))
        ImageDraw.Draw(image).polygon([(float(x), float(y)) for x, y in flat], fill=1)
        ink ^= np.asarray(image)
    return cropped(ink)


def alike(a: NDArray[np.bool_], b: NDArray[np.bool_]) -> float:
    """Share of the ink of both that is in both."""
    shape = (max(a.shape[0], b.shape[0]), max(a.shape[1], b.shape[1]))
    one, two = (np.pad(x, [(0, shape[0] - x.shape[0]), (0, shape[1] - x.shape[1])]) for x in (a, b))
    return float((one & two).sum() / (one | two).sum())


class LetterTest(unittest.TestCase):
    def test_areas_and_widths_are_the_fonts_own(self) -> None:
        font = TTFont(FONT)
        glyphs, known = font.getGlyphSet(), font.getBestCmap()
        scale = 3.0 / font["OS/2"].sCapHeight
        for letter in "AR8g§":
            pen = AreaPen(glyphs)
            glyphs[known[ord(letter)]].draw(pen)
            text = line(letter, 3.0)
            self.assertAlmostEqual(text.shape.area() / (abs(pen.value) * scale**2), 1, delta=0.02, msg=letter)
            self.assertAlmostEqual(text.width, glyphs[known[ord(letter)]].width * scale, places=9)

    def test_what_the_font_has_no_letter_for(self) -> None:
        self.assertEqual(unknown("Größe 12 漢漢"), "漢")

    def test_pattern_is_checked(self) -> None:
        step = standard()["label"]
        for bad in ("{patient}", "{number", "a}b", "漢"):
            with self.assertRaises(BadSetting):
                step.check({"pattern": bad})
        step.check({"pattern": "Lab 7 – {number}/{jaw}"})


def block() -> Mesh:
    made = box((60, 30, 12))
    return Mesh.of(made.vertices_mm, made.faces, np.full(12, GROUP_CUT, np.uint8))


class PlaneTest(unittest.TestCase):
    """On a block of 60 × 30 × 12 the letters are measured as a flat drawing."""

    TEXT = "R2F 61-J"

    def test_on_the_wall_it_is_read_from_outside_and_as_deep_as_asked(self) -> None:
        body = block()
        wall = free_wall(body)
        assert wall
        text = line(self.TEXT, 4.0)
        start = wall.bend.nearest(np.array([10.0, 0.0]))  # along the front, which is seen from -y
        letters = on_wall(text, wall.bend, start=start, floor=0.0, foot=3.0, inner=0.5, outer=0.3, lean=wall.leans)
        done = assemble(body, cut=[("the label", letters)]).body
        self.assertTrue(check_solid(done).ok)
        taken = (volume_ml(body) - volume_ml(done)) * 1000
        self.assertAlmostEqual(taken / (text.shape.area() * 0.5), 1, delta=0.01)
        seen = of_cut(letters, right=np.array([1.0, 0, 0]), up=np.array([0, 0, 1.0]), towards=np.array([0, -1.0, 0]), at=-0.25)
        drawn = by_freetype(self.TEXT, 4.0)
        self.assertGreater(alike(seen, drawn), 0.88)
        self.assertLess(alike(seen[:, ::-1], drawn), 0.7, "a mirrored line would be told")

    def test_underneath_it_is_read_from_below(self) -> None:
        body = block()
        text = line(self.TEXT, 4.0)
        letters = on_floor(text, middle=np.array([30.0, 15]), across=np.array([-1.0, 0]), floor=0.0, inner=0.5, outer=0.3)
        done = assemble(body, cut=[("the label", letters)]).body
        self.assertAlmostEqual((volume_ml(body) - volume_ml(done)) * 1000 / (text.shape.area() * 0.5), 1, delta=0.01)
        # From below with the front (-y) up, +x is on the right.
        seen = of_cut(letters, right=np.array([1.0, 0, 0]), up=np.array([0, -1.0, 0]), towards=np.array([0, 0, -1.0]), at=-0.25)
        self.assertGreater(alike(seen, by_freetype(self.TEXT, 4.0)), 0.85)

    def test_room_on_a_wall(self) -> None:
        wall = free_wall(block())
        assert wall
        self.assertAlmostEqual(wall.bend.length, 180, places=6)
        bends = wall.starts(40.0, 11.0)
        good = wall.bend.at(np.flatnonzero(np.isfinite(bends)) * wall.step_mm)
        # 40 mm without a corner fit on the two long sides only.
        self.assertTrue(len(good) and (np.isclose(good[:, 1], 0) | np.isclose(good[:, 1], 30)).all())
        self.assertFalse(np.isfinite(wall.starts(40.0, 12.5)).any())

    def test_bend_of_a_circle(self) -> None:
        t = np.linspace(0, 2 * np.pi, 400)[:-1]
        bend = Bend(20 * np.c_[np.cos(t), np.sin(t)])
        self.assertAlmostEqual(bend.length, 40 * np.pi, delta=0.05)
        np.testing.assert_allclose(bend.outward(10.0), bend.at(10.0) / 20, atol=1e-3)


class JawTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.store = MemoryStore()
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
                self.assertEqual(node.json("label")["text"], f"{self.document.number} {jaw}")
                self.assertEqual(node.json("label")["where"], "on the wall")
                stand = graph.node("level").json("stand", piece)
                self.outside(graph, piece, np.array(node.json("label")["middle"]), np.array(stand["up"]))
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
        there = first.node("label", piece).json("label")["middle"]
        away = (np.array(there) + [3.0, 0.0, 0.0]).tolist()
        settings = {"label": {"*": {"style": "engraved"}, piece: {"at": away}}}
        moved = evaluate(self.document.model_copy(update={"settings": settings}), CASE, self.store).graph
        now = moved.node("label", piece).json("label")["middle"]
        self.assertLess(np.linalg.norm(np.array(now) - away), np.linalg.norm(np.array(there) - away) + 0.3)
        self.assertEqual(moved.node("label", other).manifest.key, first.node("label", other).manifest.key)
        long = self.graph(
            label={"style": "engraved", "pattern": "much too much for any wall of any jaw there is {number}"}, hollow={"style": "open"}
        )
        self.assertEqual({n.manifest.flags[0]["code"] for n in long.of_step("label")}, {"no-label"})
        self.assertEqual({n.state for n in long.of_step("assemble")}, {"done"})

    def test_walls_too_low_are_raised_by_the_fix(self) -> None:
        asked: dict = {"base": {"*": {"thickness_mm": 1.0}}, "hollow": {"*": {"style": "open"}}}
        asked["label"] = {"*": {"style": "engraved", "tall_mm": 5.0}}
        graph = evaluate(self.document.model_copy(update={"settings": asked}), CASE, self.store, until="label").graph
        for node in graph.of_step("label"):
            flag = node.manifest.flags[0]
            self.assertEqual((flag["code"], flag["fix"]["step"], flag["fix"]["piece"]), ("no-label", "base", node.piece))
            asked["base"][node.piece] = flag["fix"]["values"]
        graph = evaluate(self.document.model_copy(update={"settings": asked}), CASE, self.store, until="label").graph
        self.assertEqual({n.json("label")["where"] for n in graph.of_step("label")}, {"on the wall"})
