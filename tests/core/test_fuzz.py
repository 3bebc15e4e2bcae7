"""Readers against damaged bytes: a result or a sentence, never anything else; the same seeds every time."""

from __future__ import annotations

import unittest

import numpy as np
import trimesh

from bitecore.errors import UnreadableFile
from bitecore.files import Limits, ply, read_mesh, stl, unpack
from tests.core.test_files import zipped
from tests.shapes import sphere

ROUNDS = 250
SMALL = Limits(triangles=20_000, drop_bytes=3_000_000)


def damaged(data: bytes, rng: np.random.Generator) -> bytes:
    """Bytes changed, cut out, doubled or cut off, mostly near the front, where the format is told."""
    out = bytearray(data)
    for _ in range(rng.integers(1, 6)):
        reach = len(out) if rng.random() < 0.4 else min(len(out), 400)
        at = int(rng.integers(0, max(reach, 1)))
        kind = rng.integers(0, 4)
        if kind == 0:
            out[at : at + 1] = bytes([int(rng.integers(0, 256))])
        elif kind == 1:
            del out[at : at + int(rng.integers(1, 60))]
        elif kind == 2:
            out[at:at] = out[at : at + int(rng.integers(1, 60))]
        else:
            out = out[: max(at, 1)]
    return bytes(out)


class FuzzTest(unittest.TestCase):
    def fuzz(self, data: bytes, seed: int) -> tuple[int, int]:
        rng, read, refused = np.random.default_rng(seed), 0, 0
        for _ in range(ROUNDS):
            broken = damaged(data, rng)
            try:
                mesh = read_mesh("x", broken, SMALL)
            except UnreadableFile as error:
                refused += 1
                self.assertTrue(error.message.endswith("."), error.message)
            else:
                read += 1
                self.assertTrue(np.isfinite(mesh.points).all())
                self.assertEqual(mesh.points.shape[1], 3)
                self.assertLessEqual(mesh.triangles, SMALL.triangles)
        return read, refused

    def test_binary_stl(self) -> None:
        read, refused = self.fuzz(stl.write_binary(sphere(5, 10)), 1)
        self.assertGreater(min(read, refused), 5)

    def test_ascii_stl(self) -> None:
        self.assertGreater(min(self.fuzz(stl.write_ascii(sphere(5, 6)), 2)), 5)

    def test_binary_ply(self) -> None:
        self.assertGreater(self.fuzz(ply.write(sphere(5, 10)), 3)[1], 5)

    def test_ascii_ply(self) -> None:
        mesh = sphere(5, 6)
        head = (
            f"ply\nformat ascii 1.0\nelement vertex {len(mesh.vertices_mm)}\nproperty float x\nproperty float y\n"
            f"property float z\nelement face {mesh.triangles}\nproperty list uchar int vertex_indices\nend_header\n"
        )
        rows = [" ".join(map(str, v)) for v in mesh.vertices_mm] + [f"3 {a} {b} {c}" for a, b, c in mesh.faces]
        text = (head + "\n".join(rows) + "\n").encode()
        self.assertEqual(read_mesh("x", text).triangles, mesh.triangles)
        self.assertGreater(self.fuzz(text, 4)[1], 5)

    def test_obj_3mf_and_glb(self) -> None:
        """Written by a general-purpose library, then damaged."""
        ball = trimesh.creation.icosphere(1, 5.0)
        for seed, kind in ((6, "obj"), (7, "3mf"), (8, "glb")):
            data = ball.export(file_type=kind)
            self.assertGreater(self.fuzz(data.encode() if isinstance(data, str) else data, seed)[1], 5, kind)

    def test_zip(self) -> None:
        data = zipped(("a/u.stl", stl.write_binary(sphere(5, 8))), ("l.ply", ply.write(sphere(5, 8))))
        rng, refused = np.random.default_rng(5), 0
        for _ in range(ROUNDS):
            try:
                for source in unpack("x.zip", damaged(data, rng), SMALL):
                    read_mesh(source.name, source.data, SMALL)
            except UnreadableFile:
                refused += 1
        self.assertGreater(refused, ROUNDS // 4)
