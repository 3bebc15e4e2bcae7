"""Layers beside sections, winding numbers and volumes by other libraries; their pictures read back by another reader."""

from __future__ import annotations

import io
import json
import tempfile
import unittest
import zipfile
from pathlib import Path

import igl
import manifold3d
import numpy as np
import trimesh
from PIL import Image

from benchrun.__main__ import main
from bitecore.engine.gives import unpack
from bitecore.errors import StepFailed
from bitecore.files import stl
from bitecore.mesh import Mesh, volume_ml
from bitecore.ops.layers import Layers, layers
from bitecore.ops.rigid import placed
from bitecore.parts.layer_zip import PlateLayers, about, laid_out, picture, written
from bitecore.parts.printing import printing_of, seconds_of, takes_of
from bitecore.parts.shelf import BUILT_IN
from bitecore.runsheet import CASE, MemoryStore, evaluate
from bitecore.runsheet.plated import plate_layers
from tests.core.known import known_store
from tests.core.test_check import mesh_of
from tests.core.test_runsheet import case
from tests.shapes import box, manifold, sphere
from tests.shapes import light_jaws as jaws

NAMES = {"printer": "Wren", "resin": "Plaster grey"}
TIMING = {"layer_s": 7.0, "first_layer_s": 30.0, "first_layers": 5}


def at(x: float, y: float, z: float) -> np.ndarray:
    return placed(np.eye(3), [x, y, z])


def seen(bodies: list[Layers], layer: int, size_px: tuple[int, int]) -> np.ndarray:
    """(tall, wide) rows towards +y: 1 where another library's reader of the picture finds white."""
    return np.asarray(Image.open(io.BytesIO(picture(bodies, layer, size_px)))).astype(np.uint8)[::-1]


class ShapeTest(unittest.TestCase):
    def test_a_box_to_the_pixel(self) -> None:
        made = layers(box((10, 6, 2)), at(3.01, 4.01, 0), pixel_mm=0.05, layer_mm=0.1)
        image = seen([made], 7, (400, 400))
        rows, columns = np.flatnonzero(image.any(1)), np.flatnonzero(image.any(0))
        # Middles at 0.025 + 0.05 k between 3.01 and 13.01, and between 4.01 and 10.01.
        self.assertEqual((columns[0], columns[-1], rows[0], rows[-1]), (60, 259, 80, 199))
        self.assertEqual((made.count, int(image.sum())), (20, 200 * 120))
        np.testing.assert_allclose(made.areas_mm2(), 60.0)

    def test_overlapping_parts_are_as_their_union(self) -> None:
        a, b = sphere(5, 40), sphere(4, 36)
        both = Mesh.of(np.vstack([a.vertices_mm, b.vertices_mm + [4, 1, 0.5]]), np.vstack([a.faces, b.faces + len(a.vertices_mm)]))
        made = layers(both, at(10, 10, 5), pixel_mm=0.05, layer_mm=0.05)
        solids = [manifold(a), manifold(b).translate([4, 1, 0.5])]
        self.assertAlmostEqual(made.volume_ml * 1000 / (solids[0] + solids[1]).volume(), 1, delta=0.002)

    def test_a_body_with_a_hole_in_it_is_refused(self) -> None:
        ball = sphere(5, 20)
        with self.assertRaises(StepFailed):
            layers(ball.of_faces(np.arange(ball.triangles) > 40), at(10, 10, 5), pixel_mm=0.05, layer_mm=0.05)

    def test_what_hangs_under_the_plate_is_not_cured_and_bytes_come_back(self) -> None:
        made = layers(box((4, 4, 4)), at(1, 1, -1), pixel_mm=0.1, layer_mm=0.1)
        self.assertEqual(made.count, 30)
        back = Layers.from_bytes(made.to_bytes())
        np.testing.assert_array_equal(back.runs, made.runs)
        np.testing.assert_array_equal(back.areas_mm2(), made.areas_mm2())


class ZipTest(unittest.TestCase):
    def test_pictures_and_figures(self) -> None:
        bodies = [
            layers(box((10, 6, 2)), at(3, 4, 0), pixel_mm=0.05, layer_mm=0.1),
            layers(sphere(3, 40), at(25, 10, 3), pixel_mm=0.05, layer_mm=0.1),
        ]
        says = about(bodies, (800, 400), NAMES, TIMING)
        sized = about(bodies, (800, 400), NAMES, TIMING | {"sized_percent": [0.3, 0.0, -0.2]})
        self.assertEqual(sized, says | {"sized_percent": [0.3, 0.0, -0.2]})
        with zipfile.ZipFile(io.BytesIO(written(PlateLayers(bodies, (800, 400), says)))) as archive:
            self.assertEqual(json.loads(archive.read("layers.json")), says)
            self.assertEqual(len(archive.namelist()), 61)
            image = Image.open(io.BytesIO(archive.read(says["layers"][12]["file"])))
            self.assertEqual((image.mode, image.size), ("1", (800, 400)))
            read = np.asarray(image)
        # Row 0 at the far side: the box lies in front, so low in the picture.
        rows = np.flatnonzero(read[:, :300].any(1))
        self.assertEqual((rows[0], rows[-1]), (400 - 200, 400 - 81))
        self.assertAlmostEqual(read.sum() * 0.05**2, says["layers"][12]["area_mm2"], places=3)
        self.assertEqual(says["seconds"], 5 * 30 + 55 * 7)
        self.assertAlmostEqual(says["resin_ml"], sum(b.volume_ml for b in bodies), places=5)

    def test_two_heights_are_sections_where_they_say(self) -> None:
        """A cone and a ball: below 4.2 mm in layers of 0.1, above in layers of 0.05; every picture is the section at its middle by another
        library, times and volume in closed form."""
        store = MemoryStore()
        cone = mesh_of(manifold3d.Manifold.cylinder(9, 5, 1, 96).translate([8, 10, 0]))
        ball = mesh_of(manifold3d.Manifold.sphere(3, 96).translate([20, 10, 3.0]))
        sent = []
        for body in (cone, ball):
            stacks = [layers(body, np.eye(4), pixel_mm=0.05, layer_mm=high) for high in (0.05, 0.1)]
            fine, thick = (store.blobs.write(stack.to_bytes()) for stack in stacks)
            sent.append(f"{fine} 0 0 {thick}")
        plate = {"printer": "Wren", "width_mm": 30.0, "depth_mm": 20.0, "pixel_mm": 0.05}
        resin = {"name": "Plaster grey", "data": {"exposure_s": 2.5, "thick_exposure_s": 3.6, "base_exposure_s": 25.0, "base_layers": 5}}
        printing = printing_of({"data": BUILT_IN["printer"]["wren"].data}, resin, 0.05, (0.1, 4.2))
        found = laid_out(sent, plate, printing, store.blobs)
        rows = found.says["layers"]
        self.assertEqual(len(rows), 42 + (180 - 84))
        self.assertEqual(
            [rows[0]["z_mm"], rows[41]["z_mm"], rows[42]["z_mm"], rows[-1]["z_mm"]], [[0, 0.1], [4.1, 4.2], [4.2, 4.25], [8.95, 9.0]]
        )
        whole = manifold(cone) + manifold(ball)
        for k in (0, 7, 30, 41, 42, 60, 137):
            low, high = rows[k]["z_mm"]
            want = whole.slice((low + high) / 2).area()
            self.assertAlmostEqual(rows[k]["area_mm2"] / want, 1, delta=0.01)
            image = np.asarray(Image.open(io.BytesIO(found.picture(k))))
            self.assertAlmostEqual(image.sum() * 0.05**2, rows[k]["area_mm2"], places=3)
        self.assertAlmostEqual(found.says["resin_ml"] * 1000 / whole.volume(), 1, delta=0.002)
        lift = printing["layer_s"] - 2.5
        self.assertAlmostEqual(printing["thick"]["layer_s"], 3.6 + lift)
        self.assertAlmostEqual(found.says["seconds"], 5 * (25 + lift) + 37 * (3.6 + lift) + 96 * (2.5 + lift), places=2)
        self.assertAlmostEqual(found.fine_seconds, 5 * (25 + lift) + 175 * (2.5 + lift), places=2)
        self.assertAlmostEqual(takes_of(printing, [{"layers": 180, "ml": 1.0}])["minutes"] * 60, found.says["seconds"], places=2)
        # Lower than the boundary: it ends with a thick layer.
        self.assertEqual(len(seconds_of(printing, 33)), 17)

    def test_grey_edges_are_what_pixels_cover(self) -> None:
        """A box whose sides lie on quarters of pixels, to the step; a cylinder's area in closed form, nearer than by whole pixels."""
        store = MemoryStore()
        block = box((10, 6, 2)).moved(at(3.0125, 4.025, 0))
        tube = mesh_of(manifold3d.Manifold.cylinder(2, 5, 5, 720).translate([22.013, 10.021, 0]))
        sent = []
        for body in (block, tube):
            stacks = [layers(body, np.eye(4), pixel_mm=pixel, layer_mm=high) for pixel in (0.05, 0.0125) for high in (0.05, 0.1)]
            fine, thick, grey, thick_grey = (store.blobs.write(stack.to_bytes()) for stack in stacks)
            sent.append(f"{fine} 0 0 {thick} {grey} {thick_grey}")
        plate = {"printer": "Heron", "width_mm": 30.0, "depth_mm": 20.0, "pixel_mm": 0.05}
        resin = {"name": "Plaster grey", "data": {"exposure_s": 2.5}}
        printing = printing_of({"data": BUILT_IN["printer"]["heron"].data}, resin, 0.05, (0.1, 1.0), 4)
        found = laid_out(sent, plate, printing, store.blobs)
        self.assertEqual((found.says["bits"], found.says["pixel_mm"], len(found.says["layers"])), (8, [0.05, 0.05], 30))
        whole = laid_out(
            [" ".join(each.split()[:4]) for each in sent], plate, {k: v for k, v in printing.items() if k != "grey"}, store.blobs
        )
        self.assertNotIn("bits", whole.says)
        for k in (3, 20):
            image = Image.open(io.BytesIO(found.picture(k)))
            self.assertEqual((image.mode, image.size), ("L", (600, 400)))
            grey = np.asarray(image)[::-1].astype(int)
            # Columns 60 to 260, three quarters of the first and a quarter of the last; rows 80 to 200, half of the first and the last.
            self.assertEqual(grey[100, [59, 60, 61, 259, 260, 261]].tolist(), [0, 191, 255, 255, 64, 0])
            self.assertEqual(grey[[79, 80, 81, 199, 200, 201], 100].tolist(), [0, 128, 255, 255, 128, 0])
            self.assertAlmostEqual(grey.sum() / 255 * 0.05**2, found.says["layers"][k]["area_mm2"], delta=0.01)
            exact = 60 + np.pi * 25
            # On the screen each pixel is as bright as the mean of those it stands for.
            seen = np.asarray(Image.open(io.BytesIO(whole.seen(k, 150)))).astype(float)
            mean = np.asarray(Image.open(io.BytesIO(whole.picture(k)))).astype(float).reshape(100, 4, 150, 4).mean((1, 3)) * 255
            self.assertLessEqual(np.abs(seen - mean).max(), 0.5)
            errors = [abs(each.says["layers"][k]["area_mm2"] - exact) for each in (found, whole)]
            self.assertLess(errors[0], 0.02)
            self.assertLess(errors[0], errors[1] + 1e-9)

    def test_light_by_height(self) -> None:
        """By the same share for every 0.05 mm (what is cured deepens with the logarithm of the light)."""
        resin = {"name": "r", "data": {"exposure_s": 2.0, "thick_exposure_s": 3.0}}
        printer = {"data": BUILT_IN["printer"]["wren"].data}
        lift = printing_of(printer, resin, 0.05)["layer_s"] - 2.0
        for high, want in ((0.1, 3.0), (0.15, 4.5), (0.025, 2.0 / 1.5**0.5)):
            self.assertAlmostEqual(printing_of(printer, resin, high)["layer_s"] - lift, want, places=5)

    def test_a_picture_of_odd_width_and_what_stands_over_its_edges(self) -> None:
        random = np.random.default_rng(3)
        # Sixty boxes 1 mm high on a plate of 21 by 13 pixels of 0.1 mm, many of them over its edges.
        for low in random.uniform(-0.6, 2.0, (60, 2)):
            size = random.uniform(0.1, 1.2, 2)
            made = layers(box((size[0], size[1], 1)), at(low[0], low[1], 0), pixel_mm=0.1, layer_mm=0.1)
            i, j = np.meshgrid((np.arange(21) + 0.5) * 0.1, (np.arange(13) + 0.5) * 0.1)
            inside = (i > low[0]) & (i < low[0] + size[0]) & (j > low[1]) & (j < low[1] + size[1])
            np.testing.assert_array_equal(seen([made], 4, (21, 13)), inside)


class JawTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.store = known_store()
        settings = {"hollow": {"*": {"style": "open"}}, "plate": {"*": {"printer": "heron"}}}
        cls.document = case(cls.store, *jaws(21)).model_copy(update={"settings": settings})
        cls.graph = evaluate(cls.document, CASE, cls.store).graph

    def test_hollow_jaws_beside_sections_and_winding_numbers(self) -> None:
        found = plate_layers(self.graph, self.store.blobs)
        assert found
        self.assertEqual(found.size_px, (3960, 2480))
        for piece, made in zip(self.graph.jaws, found.bodies, strict=True):
            body = unpack(self.graph.node("assemble", piece).manifest.values["body"], self.store.blobs)  # type: ignore[union-attr]
            matrix = np.array(self.graph.node("plate").json("home_to_plate", piece))  # type: ignore[union-attr]
            self.assertAlmostEqual(made.volume_ml / volume_ml(body), 1, delta=0.001)
            points = body.vertices_mm @ matrix[:3, :3].T + matrix[:3, 3]
            solid = manifold(body.with_vertices(points))
            areas = made.areas_mm2()
            for k in range(3, made.count, 60):
                theirs = solid.slice((k + 0.5) * made.layer_mm).area()
                self.assertAlmostEqual(areas[k], theirs, delta=0.01 * theirs + 0.05)
            image = seen([made], 150, found.size_px)
            rows = np.flatnonzero(image.any(1))[::40]
            columns = np.flatnonzero(image.any(0))
            columns = np.arange(columns[0] - 3, columns[-1] + 4, 5)
            j, i = np.meshgrid(rows, columns, indexing="ij")
            where = np.c_[(i.ravel() + 0.5) * 0.05, (j.ravel() + 0.5) * 0.05, np.full(i.size, 150.5 * made.layer_mm)]
            inside = igl.fast_winding_number(points, body.faces.astype(np.int64), where) > 0.5
            self.assertLess((inside != (image[j.ravel(), i.ravel()] > 0)).mean(), 0.002)

    def test_what_the_plate_takes_is_what_its_layers_say(self) -> None:
        found = plate_layers(self.graph, self.store.blobs)
        takes = self.graph.node("takes").json("takes")  # type: ignore[union-attr]
        self.assertEqual(takes["layers"], len(found.says["layers"]))
        self.assertAlmostEqual(takes["ml"], found.says["resin_ml"], places=4)
        self.assertAlmostEqual(takes["minutes"] * 60, found.says["seconds"], places=2)

    def test_one_picture_holds_both_jaws(self) -> None:
        found = plate_layers(self.graph, self.store.blobs)
        assert found
        image = seen(found.bodies, 100, found.size_px)
        self.assertAlmostEqual(image.sum() * 0.05**2, found.says["layers"][100]["area_mm2"], delta=1e-6)


class RunTest(unittest.TestCase):
    def test_layers_from_the_command_line(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            (folder / "l.stl").write_bytes(stl.write_binary(jaws(21)[1]))
            self.assertEqual(main([str(folder / "l.stl"), "--out", str(folder / "out"), "--layers"]), 0)
            with zipfile.ZipFile(folder / "out" / "layers.zip") as archive:
                says = json.loads(archive.read("layers.json"))
                self.assertEqual(len(archive.namelist()), len(says["layers"]) + 1)
            report = json.loads((folder / "out" / "report.json").read_text())
            volume = next(r["value"] for s in report["steps"] if s["step"] == "base" for r in s["readings"] if r["name"] == "volume")
            self.assertAlmostEqual(says["resin_ml"] / volume, 1, delta=0.01)
            self.assertEqual([(o["name"], o["kind"]) for o in report["outputs"]], [("lower", "body")] * 2)
            # The plate as bodies, read by another library: the same body, where the layers say it lies.
            scene = trimesh.load(folder / "out" / "plate.3mf")
            (lies,) = scene.dump()
            self.assertEqual(list(scene.geometry), ["lower"])
            self.assertAlmostEqual(lies.volume / 1000, volume, delta=1e-3 * volume)
            self.assertAlmostEqual(lies.bounds[0][2], 0.0, places=4)
            self.assertAlmostEqual(lies.bounds[1][2], says["layers"][-1]["z_mm"][1], delta=0.06)
            self.assertTrue((lies.bounds[0][:2] > 0).all() and lies.bounds[1][0] < 144 and lies.bounds[1][1] < 82)
