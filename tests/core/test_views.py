"""What the stage and the rack get: GLB by its published container rules, light copies, pictures."""

from __future__ import annotations

import io
import json
import struct
import unittest

import meshopt
import numpy as np
from PIL import Image

from bitecore import views
from bitecore.mesh import GROUP_SCAN, Mesh
from bitecore.ops.base import base
from bitecore.ops.crease import creased, of_walls
from bitecore.ops.picture import picture, turntable
from bitecore.ops.upright import Plan
from tests.shapes import dome, jaws, turn


def opened(data: bytes) -> tuple[dict, bytes]:
    """Khronos glTF 2.0 specification, section 4: 12-byte header, then a JSON and a BIN chunk, each padded to 4."""
    magic, version, length = struct.unpack_from("<4sII", data)
    assert (magic, version, length) == (b"glTF", 2, len(data))
    size, kind = struct.unpack_from("<I4s", data, 12)
    assert kind == b"JSON" and size % 4 == 0
    document = json.loads(data[20 : 20 + size])
    bin_size, bin_kind = struct.unpack_from("<I4s", data, 20 + size)
    assert bin_kind == b"BIN\0" and bin_size % 4 == 0
    return document, data[28 + size :]


def decoded(data: bytes) -> tuple[np.ndarray, np.ndarray, dict]:
    document, body = opened(data)
    out = []
    for view in (document["bufferViews"][0], document["bufferViews"][3]):
        ext = view["extensions"]["EXT_meshopt_compression"]
        part = body[ext["byteOffset"] : ext["byteOffset"] + ext["byteLength"]]
        out.append((part, ext))
    (p, pe), (f, fe) = out
    positions = np.asarray(meshopt.decode_gltf_buffer(p, pe["count"], pe["byteStride"], pe["mode"])).view("<f4").reshape(-1, 3)
    faces = np.asarray(meshopt.decode_gltf_buffer(f, fe["count"], fe["byteStride"], fe["mode"])).view("<u4").reshape(-1, 3)
    return positions, faces, document


class GlbTest(unittest.TestCase):
    def test_full_copy_holds_every_triangle_where_it_is(self) -> None:
        mesh = jaws(21)[0].moved(turn(2, 3000.0))
        positions, faces, document = decoded(views.glb(mesh))
        self.assertEqual(len(faces), mesh.triangles)
        origin = np.array(document["meshes"][0]["extras"]["origin_mm"])
        middle = np.sort(positions[faces].astype(float).mean(1) + origin, axis=0)
        np.testing.assert_allclose(middle, np.sort(mesh.vertices_mm[mesh.faces].mean(1), axis=0), atol=1e-5)
        accessor = document["accessors"][0]
        np.testing.assert_allclose(accessor["min"], positions.min(0), atol=1e-6)
        self.assertEqual(accessor["count"], len(positions))

    def test_light_copy_is_small_and_near(self) -> None:
        mesh = jaws(21)[0]
        light = views.lighter(mesh)
        self.assertLess(light.triangles, 0.7 * mesh.triangles)
        np.testing.assert_allclose(light.vertices_mm.min(0), mesh.vertices_mm.min(0), atol=1.0)

    def test_hard_edges_on_the_base_soft_on_the_anatomy(self) -> None:
        body = base(dome(10, 0, 30), up=[0, 0, 1], plan=Plan(thickness_mm=3)).body
        split = creased(body)
        down = np.abs(split.normals[:, 2] + 1) < 1e-6
        low = body.vertices_mm[split.source][:, 2] < -2.9
        flat = np.abs(split.normals[:, 2]) < 0.05
        self.assertTrue((down | flat)[low].all())  # each corner of the floor is split into floor and wall
        self.assertGreater(down.sum(), 50)
        np.testing.assert_allclose(np.linalg.norm(split.normals, axis=1), 1, atol=1e-9)

    def test_a_model_that_came_with_its_base_looks_as_one_that_was_given_it(self) -> None:
        """Of a file it is not known what was made: walls are told by their long triangles, and what lies level with them."""
        body = base(dome(10, 0, 60), up=[0, 0, 1], plan=Plan(thickness_mm=12)).body
        came = Mesh.of(body.vertices_mm, body.faces)
        made = body.vertices_mm[body.faces][:, :, 2].max(1) < -0.5
        self.assertTrue(of_walls(came)[made].all())
        self.assertLess(of_walls(came)[body.groups == GROUP_SCAN].mean(), 0.02)
        split = creased(came)
        low = came.vertices_mm[split.source][:, 2] < -11.9
        self.assertTrue(((split.normals[low][:, 2] < -1 + 1e-6) | (np.abs(split.normals[low][:, 2]) < 0.05)).all())
        self.assertFalse(of_walls(jaws(3)[0]).any())


class PictureTest(unittest.TestCase):
    def test_fills_its_frame_on_a_clear_ground(self) -> None:
        upper, lower = jaws(3)
        data = picture([(upper, np.eye(4)), (lower, np.eye(4))], size_px=(312, 150))
        image = np.array(Image.open(io.BytesIO(data)))
        self.assertEqual(image.shape, (150, 312, 4))
        rows = np.flatnonzero(image[:, :, 3].any(1))
        self.assertGreater(np.ptp(rows), 0.8 * 150)
        self.assertEqual(image[0, 0, 3], 0)
        shades = image[image[:, :, 3] > 250][:, :3].astype(int).sum(1)
        self.assertGreater(shades.std(), 40)  # light and fissures, not a flat patch

    def test_the_front_view_shows_the_patients_right_on_the_left(self) -> None:
        ball = dome(3, -2.9, 12)
        right = Mesh.of(ball.vertices_mm + [-20, 0, 0], ball.faces)  # x is the patient's left
        left = Mesh.of(ball.vertices_mm * 0.5 + [20, 0, 0], ball.faces)
        image = np.array(
            Image.open(io.BytesIO(picture([(right, np.eye(4)), (left, np.eye(4))], size_px=(200, 100), turn_deg=0, tilt_deg=0)))
        )
        seen = image[:, :, 3] > 128
        self.assertGreater(seen[:, :100].sum(), seen[:, 100:].sum())


class TurntableTest(unittest.TestCase):
    def test_sixteen_views_of_one_size_side_by_side(self) -> None:
        strip = Image.open(io.BytesIO(turntable(jaws(21)[1], np.eye(4))))
        self.assertEqual(strip.size, (16 * 76, 58))
        alpha = np.asarray(strip)[:, :, 3]
        for k in range(16):
            view = alpha[:, k * 76 : (k + 1) * 76] > 128
            self.assertGreater(view.mean(), 0.1)
            # Nothing is cut off at the sides.
            self.assertFalse(view[:, 0].any() or view[:, -1].any() or view[0].any() or view[-1].any())
        self.assertGreater(np.abs(np.asarray(strip)[:, :76].astype(int) - np.asarray(strip)[:, 76:152]).mean(), 1)
