"""Files in and out, against their formats' facts and against general-purpose readers."""

from __future__ import annotations

import io
import stat
import struct
import unittest
import zipfile

import lib3mf
import numpy as np
import trimesh
from lxml import etree

from bitecore.errors import UnreadableFile
from bitecore.files import Limits, ply, read_mesh, stl, threemf, unpack
from bitecore.files.read import sniff
from bitecore.mesh import joined
from bitecore.ops.weld import weld
from tests.shapes import box, sphere


def refused(case: unittest.TestCase, name: str, data: bytes, **limits: int) -> UnreadableFile:
    """The refusal, which must be a sentence that names the file."""
    with case.assertRaises(UnreadableFile) as caught:
        read_mesh(name, data, Limits(**limits) if limits else None)
    case.assertIn(name, caught.exception.message)
    case.assertTrue(caught.exception.message.endswith("."), caught.exception.message)
    return caught.exception


class StlTest(unittest.TestCase):
    """Facts of the format: 3D Systems, StereoLithography Interface Specification, 1989 (from memory)."""

    def setUp(self) -> None:
        self.mesh = sphere(7.5, 12)
        self.data = stl.write_binary(self.mesh)

    def test_binary_layout(self) -> None:
        self.assertEqual(len(self.data), 80 + 4 + 50 * self.mesh.triangles)
        self.assertEqual(struct.unpack_from("<I", self.data, 80)[0], self.mesh.triangles)
        self.assertFalse(self.data[:5].lower() == b"solid")
        first = struct.unpack_from("<12fH", self.data, 84)
        corner = self.mesh.vertices_mm[self.mesh.faces[0]].astype("f4").ravel()
        np.testing.assert_array_equal(np.array(first[3:12], "f4"), corner)
        self.assertAlmostEqual(float(np.linalg.norm(first[:3])), 1.0, places=6)

    def test_corners_that_single_precision_makes_one_stay_two_on_an_edge_of_four_faces(self) -> None:
        one, two = box(), box()
        size = np.ptp(one.vertices_mm, axis=0)
        # Edge on edge, but for less than the last bit of single precision.
        pair = joined([one, two.with_vertices(two.vertices_mm + [size[0] + 1e-9, size[1] + 1e-9, 0])])
        theirs = trimesh.load(io.BytesIO(stl.write_binary(pair)), file_type="stl")
        self.assertTrue(theirs.is_watertight)
        self.assertEqual(theirs.body_count, 2)
        np.testing.assert_allclose(theirs.triangles, pair.vertices_mm[pair.faces], atol=2e-6)
        # Elsewhere not a bit is changed.
        alone = np.frombuffer(stl.write_binary(one), stl.RECORD, offset=84)["corner"]
        np.testing.assert_array_equal(alone, one.vertices_mm[one.faces].astype(np.float32))

    def test_general_reader_agrees(self) -> None:
        theirs = trimesh.load(io.BytesIO(self.data), file_type="stl")
        self.assertTrue(theirs.is_watertight)
        self.assertEqual(len(theirs.faces), self.mesh.triangles)
        ours = weld(read_mesh("a.stl", self.data).points).mesh
        self.assertEqual(len(ours.vertices_mm), len(theirs.vertices))
        self.assertAlmostEqual(trimesh.Trimesh(ours.vertices_mm, ours.faces).volume, theirs.volume, places=6)

    def test_reads_what_a_general_writer_wrote(self) -> None:
        for text in (False, True):
            theirs = trimesh.creation.box((3, 4, 5))
            data = theirs.export(file_type="stl_ascii" if text else "stl")
            data = data.encode() if isinstance(data, str) else data
            ours = weld(read_mesh("box.stl", data).points).mesh
            self.assertEqual((len(ours.vertices_mm), ours.triangles), (8, 12))

    def test_binary_whose_header_begins_with_solid(self) -> None:
        data = b"solid made somewhere, facet".ljust(80, b" ") + self.data[80:]
        self.assertEqual(sniff(data), "stl")
        self.assertEqual(read_mesh("a.stl", data).triangles, self.mesh.triangles)

    def test_attribute_bytes_are_ignored(self) -> None:
        raw = bytearray(self.data)
        for i in range(self.mesh.triangles):
            struct.pack_into("<H", raw, 84 + 50 * i + 48, 0x8000 | i % 900)
        np.testing.assert_array_equal(read_mesh("a.stl", bytes(raw)).points, read_mesh("a.stl", self.data).points)

    def test_ascii_round_trip(self) -> None:
        text = stl.write_ascii(self.mesh)
        np.testing.assert_allclose(read_mesh("a.stl", text).points, read_mesh("a.stl", self.data).points, rtol=1e-6)
        windows = text.replace(b"\n", b"\r\n").replace(b"vertex", b"VERTEX")
        self.assertEqual(read_mesh("a.stl", windows).triangles, self.mesh.triangles)

    def test_cut_short(self) -> None:
        for length in (90, 500, len(self.data) - 1):
            error = refused(self, "half.stl", self.data[:length])
            self.assertEqual(error.code, "truncated-file")
        refused(self, "half.stl", stl.write_ascii(self.mesh)[:2000])

    def test_not_a_scan(self) -> None:
        self.assertEqual(refused(self, "none.stl", b"").code, "empty-file")
        self.assertEqual(refused(self, "letter.stl", b"Dear colleague,\n" * 40).code, "not-a-scan")
        self.assertEqual(refused(self, "short.stl", b"solid").code, "not-a-scan")
        self.assertEqual(refused(self, "none.stl", b"\0" * 84).code, "no-triangles")

    def test_triangles_without_area_are_no_scan(self) -> None:
        record = np.zeros(2500, stl.RECORD)
        data = b"\0" * 80 + struct.pack("<I", 2500) + record.tobytes()
        self.assertEqual(refused(self, "flat.stl", data).code, "no-triangles")
        record["corner"][-1] = [[0, 0, 0], [1, 0, 0], [0, 1, 0]]
        self.assertEqual(read_mesh("flat.stl", data[:84] + record.tobytes()).triangles, 2500)

    def test_more_than_the_limit(self) -> None:
        error = refused(self, "big.stl", self.data, triangles=100)
        self.assertEqual(error.code, "too-many-triangles")
        self.assertIn("100", error.message)
        # A header that lies about a huge count is not believed and nothing is reserved for it.
        refused(self, "lie.stl", b"\0" * 80 + struct.pack("<I", 4_000_000_000) + b"\1" * 500)

    def test_corners_that_are_no_numbers(self) -> None:
        raw = bytearray(self.data)
        struct.pack_into("<f", raw, 84 + 50 * 3 + 12, float("nan"))
        struct.pack_into("<f", raw, 84 + 50 * 9 + 16, float("inf"))
        read = read_mesh("a.stl", bytes(raw))
        self.assertEqual((read.dropped_nan, read.triangles), (2, self.mesh.triangles - 2))
        for i in range(self.mesh.triangles):
            struct.pack_into("<f", raw, 84 + 50 * i + 12, float("nan"))
        self.assertEqual(refused(self, "a.stl", bytes(raw)).code, "no-triangles")


class PlyTest(unittest.TestCase):
    def test_general_writer_in_both_forms(self) -> None:
        theirs = trimesh.creation.icosphere(2)
        for encoding in ("ascii", "binary"):
            data = theirs.export(file_type="ply", encoding=encoding)
            ours = weld(read_mesh("a.ply", data).points).mesh
            self.assertEqual(ours.triangles, len(theirs.faces))
            self.assertAlmostEqual(trimesh.Trimesh(ours.vertices_mm, ours.faces).volume, theirs.volume, places=5)

    def test_general_reader_reads_ours(self) -> None:
        mesh = sphere(5, 10)
        theirs = trimesh.load(io.BytesIO(ply.write(mesh)), file_type="ply", process=False)
        np.testing.assert_allclose(theirs.vertices, mesh.vertices_mm)
        np.testing.assert_array_equal(theirs.faces, mesh.faces)

    def test_big_endian_with_colours_and_quads(self) -> None:
        head = (
            b"ply\nformat binary_big_endian 1.0\ncomment made by a test\nelement vertex 4\nproperty float x\n"
            b"property float y\nproperty float z\nproperty uchar red\nproperty uchar green\nproperty uchar blue\n"
            b"element face 1\nproperty list uchar int vertex_indices\nend_header\n"
        )
        corners = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)]
        body = b"".join(struct.pack(">3f3B", *map(float, c), 9, 8, 7) for c in corners)
        read = read_mesh("q.ply", head + body + struct.pack(">B4i", 4, 0, 1, 2, 3))
        self.assertEqual(read.triangles, 2)
        self.assertAlmostEqual(trimesh.Trimesh(read.points, np.arange(6).reshape(-1, 3)).area, 1.0)

    def test_damaged(self) -> None:
        data = ply.write(box())
        for broken in (data[:40], data[:-5], data.replace(b"element vertex 8", b"element vertex 99")):
            refused(self, "x.ply", broken)
        refused(self, "x.ply", b"ply\nformat binary_little_endian 1.0\nend_header\n")


class ThreeMfTest(unittest.TestCase):
    """3MF Consortium, Core Specification 1.3; lib3mf is the consortium's own reader."""

    def setUp(self) -> None:
        self.bodies = [("upper & <left>", box((2, 3, 4))), ("lower", sphere(6, 10))]
        self.data = threemf.write(self.bodies, title="case “7”")

    def test_reference_reader_in_strict_mode(self) -> None:
        model = lib3mf.get_wrapper().CreateModel()
        reader = model.QueryReader("3mf")
        reader.SetStrictModeActive(True)
        reader.ReadFromBuffer(self.data)
        self.assertEqual(reader.GetWarningCount(), 0)
        self.assertEqual(model.GetUnit(), lib3mf.ModelUnit.MilliMeter)
        found = {}
        objects = model.GetMeshObjects()
        while objects.MoveNext():
            mesh = objects.GetCurrentMeshObject()
            self.assertTrue(mesh.IsManifoldAndOriented())
            v = np.array([list(p.Coordinates) for p in mesh.GetVertices()])
            f = np.array([list(t.Indices) for t in mesh.GetTriangleIndices()])
            found[mesh.GetName()] = trimesh.Trimesh(v, f, process=False)
        for name, mesh in self.bodies:
            np.testing.assert_allclose(found[name].vertices, mesh.vertices_mm, atol=1e-6)
            np.testing.assert_array_equal(found[name].faces, mesh.faces)
        self.assertAlmostEqual(found["upper & <left>"].volume, 24.0, places=6)
        items = model.GetBuildItems()
        self.assertEqual(items.Count(), 2)

    def test_package_parts(self) -> None:
        with zipfile.ZipFile(io.BytesIO(self.data)) as package:
            self.assertIn("[Content_Types].xml", package.namelist())
            rels = etree.fromstring(package.read("_rels/.rels"))
            target = rels[0].get("Target")
            self.assertEqual(rels[0].get("Type"), "http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel")
            model = etree.fromstring(package.read(target.lstrip("/")))
        space = "{http://schemas.microsoft.com/3dmanufacturing/core/2015/02}"
        self.assertEqual(model.tag, f"{space}model")
        self.assertEqual(model.get("unit"), "millimeter")
        ids = [o.get("id") for o in model.iter(f"{space}object")]
        self.assertEqual(ids, [i.get("objectid") for i in model.iter(f"{space}item")])

    def test_same_bodies_same_bytes(self) -> None:
        self.assertEqual(self.data, threemf.write(self.bodies, title="case “7”"))


def zipped(*members: tuple[str | zipfile.ZipInfo, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in members:
            archive.writestr(name, data)
    return out.getvalue()


class ZipTest(unittest.TestCase):
    def refuse(self, data: bytes, **limits: int) -> str:
        with self.assertRaises(UnreadableFile) as caught:
            list(unpack("set.zip", data, Limits(**limits) if limits else None))
        self.assertIn("set.zip", caught.exception.message)
        return caught.exception.code

    def test_scans_in_folders_and_junk_left_out(self) -> None:
        one = stl.write_binary(box())
        data = zipped(("a/u.stl", one), ("__MACOSX/a/._u.stl", b"x"), ("readme.txt", b"hi"), (".hid/x.stl", one), ("b/l.PLY", one))
        self.assertEqual([s.name for s in unpack("set.zip", data)], ["a/u.stl", "b/l.PLY"])

    def test_paths_that_lead_out(self) -> None:
        one = stl.write_binary(box())
        link = zipfile.ZipInfo("l.stl")
        link.external_attr = (stat.S_IFLNK | 0o777) << 16
        for member in ("../u.stl", "/etc/u.stl", "a/../../u.stl", "..\\u.stl", "C:\\u.stl", link):
            self.assertEqual(self.refuse(zipped((member, one))), "zip-path")

    def test_bombs_and_damage(self) -> None:
        self.assertEqual(self.refuse(zipped(("u.stl", b"\0" * 3_000_000)), drop_bytes=1_000_000), "zip-too-large")
        self.assertEqual(self.refuse(zipped(*[(f"{i}.stl", b"x") for i in range(12)]), files=10), "zip-too-many")
        self.assertEqual(self.refuse(zipped(("note.txt", b"x"))), "zip-without-scans")
        whole = zipped(("u.stl", stl.write_binary(sphere(3, 8))))
        self.assertEqual(self.refuse(whole[: len(whole) // 2]), "bad-zip")
        lie = bytearray(whole)
        at = whole.rindex(b"PK\x01\x02")
        struct.pack_into("<I", lie, at + 24, 50)  # the directory says less than there is
        self.assertEqual(self.refuse(bytes(lie)), "bad-zip")
