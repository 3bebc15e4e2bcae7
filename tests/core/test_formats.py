"""OBJ, PLY, 3MF and GLB in, against general-purpose libraries on the same files and the formats' published rules."""

from __future__ import annotations

import io
import json
import struct
import tempfile
import unittest
import zipfile
from pathlib import Path

import lib3mf
import meshio
import numpy as np
import trimesh

from bitecore import views
from bitecore.errors import UnreadableFile
from bitecore.files import Limits, read_mesh, unpack
from bitecore.files.read import sniff
from bitecore.ops.weld import weld
from tests.shapes import sphere

CUBE = trimesh.creation.box((3, 4, 5))


def volume(data: bytes) -> float:
    mesh = weld(read_mesh("x", data).points).mesh
    return float(trimesh.Trimesh(mesh.vertices_mm, mesh.faces).volume)


def exported(mesh: trimesh.Trimesh | trimesh.Scene, kind: str, **options: object) -> bytes:
    data = mesh.export(file_type=kind, **options)
    return data.encode() if isinstance(data, str) else data


class GeneralWritersTest(unittest.TestCase):
    """The same body written by two general-purpose libraries reads as the same body."""

    def test_trimesh(self) -> None:
        ball = trimesh.creation.icosphere(2, 7.0)
        for kind, form in (("obj", "obj"), ("glb", "glb"), ("3mf", "3mf"), ("ply", "ply")):
            data = exported(ball, kind)
            self.assertEqual(sniff(data), form)
            self.assertEqual(read_mesh("x", data).triangles, len(ball.faces))
            self.assertAlmostEqual(volume(data), ball.volume, delta=1e-4 * ball.volume)
        self.assertAlmostEqual(volume(exported(ball, "ply", encoding="ascii")), ball.volume, delta=1e-3)

    def test_meshio(self) -> None:
        mesh = sphere(6.0, 10)
        theirs = meshio.Mesh(mesh.vertices_mm, [("triangle", mesh.faces)])
        exact = trimesh.Trimesh(mesh.vertices_mm, mesh.faces).volume
        for kind, options in (("obj", {}), ("ply", {"binary": True}), ("ply", {"binary": False}), ("stl", {"binary": False})):
            with tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / f"a.{kind}"
                meshio.write(path, theirs, file_format=kind, **options)
                data = path.read_bytes()
            self.assertEqual(read_mesh("x", data).triangles, mesh.triangles)
            self.assertAlmostEqual(volume(data), exact, delta=1e-4 * exact)

    def test_general_readers_see_the_same_corners(self) -> None:
        ball = trimesh.creation.icosphere(1, 3.0)
        for kind in ("obj", "glb", "3mf", "ply"):
            data = exported(ball, kind)
            theirs = trimesh.load(io.BytesIO(data), file_type=kind, force="mesh", process=False)
            ours = read_mesh("x", data).points
            np.testing.assert_allclose(np.sort(ours, axis=0), np.sort(theirs.triangles.reshape(-1, 3), axis=0), atol=1e-5)


class ObjTest(unittest.TestCase):
    """Wavefront, Advanced Visualizer manual, appendix B1 (from memory): indices from 1, negative ones from the end."""

    CORNERS = "v 0 0 0 0.9 0.8 0.7\nv 1 0 0 0.9 0.8 0.7\nv 1 1 0 0.9 0.8 0.7\nv 0 1 0 0.9 0.8 0.7\n"

    def read(self, text: str) -> np.ndarray:
        return read_mesh("a.obj", text.encode()).points

    def test_colours_quads_and_slashes(self) -> None:
        square = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 0, 0], [1, 1, 0], [0, 1, 0]], float)
        for face in ("f 1 2 3 4", "f 1/1 2/1 3/1 4/1", "f 1//7 2//7 3//7 4//7", "f 1/2/3 2/2/3 3/2/3 4/2/3", "f -4 -3 -2 -1"):
            np.testing.assert_array_equal(self.read(f"# scan\no jaw\n{self.CORNERS}vn 0 0 1\n{face}\n"), square)

    def test_mixed_polygons_carried_lines_and_returns(self) -> None:
        text = self.CORNERS.replace("\n", "\r\n") + "f 1 2 3\r\nf 1 2 \\\r\n3 4\r\n"
        self.assertEqual(len(self.read(text.replace("\\\r\n", "\\\n"))), 9)

    def test_damage_is_a_sentence(self) -> None:
        for text in (self.CORNERS + "f 1 2 9\n", self.CORNERS + "f 1 2 x\n", self.CORNERS, "v 0 0\nf 1 1 1\n"):
            with self.assertRaises(UnreadableFile) as caught:
                self.read(text)
            self.assertIn("a.obj", caught.exception.message)


class ThreeMfTest(unittest.TestCase):
    """3MF Consortium, Core Specification 1.3: units (3.4), components with transforms (4.2), build items (3.4.3.1)."""

    def written(self, unit: object, transform: tuple[float, float, float]) -> bytes:
        wrapper = lib3mf.get_wrapper()
        model = wrapper.CreateModel()
        model.SetUnit(unit)
        mesh = model.AddMeshObject()
        vertices = [lib3mf.Position(Coordinates=tuple(v)) for v in CUBE.vertices]
        mesh.SetGeometry(vertices, [lib3mf.Triangle(Indices=tuple(int(i) for i in f)) for f in CUBE.faces])
        parts = model.AddComponentsObject()
        parts.AddComponent(mesh, wrapper.GetTranslationTransform(*transform))
        model.AddBuildItem(parts, wrapper.GetIdentityTransform())
        return bytes(model.QueryWriter("3mf").WriteToBuffer())

    def test_units_and_components_as_the_consortiums_writer_puts_them(self) -> None:
        for unit, mm in ((lib3mf.ModelUnit.MilliMeter, 1.0), (lib3mf.ModelUnit.Inch, 25.4), (lib3mf.ModelUnit.MicroMeter, 0.001)):
            points = read_mesh("a.3mf", self.written(unit, (10, 20, 30))).points
            np.testing.assert_allclose(points.min(0), (CUBE.bounds[0] + [10, 20, 30]) * mm, rtol=1e-5)

    def test_a_3mf_is_a_scan_not_a_zip_of_scans(self) -> None:
        data = self.written(lib3mf.ModelUnit.MilliMeter, (0, 0, 0))
        self.assertEqual([s.name for s in unpack("a.3mf", data)], ["a.3mf"])
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            archive.writestr("in/a.3mf", data)
            archive.writestr("in/letter.pdf", b"x")
        ignored: list[str] = []
        self.assertEqual([s.name for s in unpack("set.zip", out.getvalue(), ignored=ignored)], ["in/a.3mf"])
        self.assertEqual(ignored, ["in/letter.pdf"])

    def test_entities_are_refused(self) -> None:
        bomb = '<?xml version="1.0"?><!DOCTYPE m [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><model>&b;</model>'
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            archive.writestr("[Content_Types].xml", "<Types/>")
            archive.writestr("3D/a.model", bomb)
        with self.assertRaises(UnreadableFile) as caught:
            read_mesh("a.3mf", out.getvalue())
        self.assertIn("a.3mf", caught.exception.message)


class GlbTest(unittest.TestCase):
    """Khronos, glTF 2.0: column-major node matrices (3.5.2), strips and fans (3.7.2.1), packed views by extension."""

    def test_nodes_stand_in_their_places(self) -> None:
        scene = trimesh.Scene()
        move = trimesh.transformations.compose_matrix(translate=(1, 2, 3), angles=(0.3, -0.4, 0.5), scale=(2, 2, 2))
        scene.add_geometry(CUBE, transform=move)
        theirs = CUBE.copy().apply_transform(move)
        points = read_mesh("a.glb", exported(scene, "glb")).points
        np.testing.assert_allclose(points.min(0), theirs.bounds[0], atol=1e-5)
        self.assertAlmostEqual(volume(exported(scene, "glb")), theirs.volume, delta=1e-3)

    def test_our_own_packed_copies(self) -> None:
        mesh = sphere(9.0, 14)
        soup = read_mesh("a.glb", views.glb(mesh))
        self.assertEqual(soup.triangles, mesh.triangles)

    def test_strips_and_fans(self) -> None:
        for mode, wanted in ((5, [[0, 1, 2], [1, 3, 2]]), (6, [[0, 1, 2], [0, 2, 3]])):
            points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 1, 0]], "<f4")
            body = points.tobytes()
            document = {
                "asset": {"version": "2.0"}, "scenes": [{"nodes": [0]}], "nodes": [{"mesh": 0}],
                "meshes": [{"primitives": [{"attributes": {"POSITION": 0}, "mode": mode}]}],
                "buffers": [{"byteLength": len(body)}], "bufferViews": [{"buffer": 0, "byteLength": len(body)}],
                "accessors": [{"bufferView": 0, "componentType": 5126, "count": 4, "type": "VEC3"}],
            }  # fmt: skip
            text = json.dumps(document).encode()
            text += b" " * (-len(text) % 4)
            size = 12 + 8 + len(text) + 8 + len(body)
            data = struct.pack("<4sIIII", b"glTF", 2, size, len(text), 0x4E4F534A) + text + struct.pack("<II", len(body), 0x004E4942) + body
            found = read_mesh("a.glb", data).points.reshape(-1, 3, 3)
            np.testing.assert_array_equal(found, points[np.array(wanted)])

    def test_unknown_packing_and_cut_files_are_sentences(self) -> None:
        data = exported(CUBE, "glb")
        for broken in (data[: len(data) // 2], data[:20], data.replace(b'"asset"', b'"extensionsRequired":["X_packed"],"asset"', 1)):
            with self.assertRaises(UnreadableFile) as caught:
                read_mesh("a.glb", broken)
            self.assertTrue(caught.exception.message.endswith("."))


class LimitTest(unittest.TestCase):
    def test_too_many_triangles_in_every_format(self) -> None:
        ball = trimesh.creation.icosphere(2, 7.0)
        for kind in ("obj", "glb", "3mf", "ply", "stl"):
            with self.assertRaises(UnreadableFile) as caught:
                read_mesh("a", exported(ball, kind), Limits(triangles=100))
            self.assertEqual(caught.exception.code, "too-many-triangles")
