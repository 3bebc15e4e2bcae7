"""The reference block: goes out with a jaw, and brings home a file that shares nothing else with it."""

from __future__ import annotations

import unittest

import numpy as np
import trimesh
from django.test import tag

from bitecore.anatomy.block import SIZES_MM, block, find, stands_at
from bitecore.files import read_mesh, stl
from bitecore.mesh import Mesh, check_solid, volume_ml
from bitecore.ops.weld import weld
from bitecore.runsheet import CASE, CaseDocument, MemoryStore, PieceEntry, evaluate
from bitecore.runsheet.export import joined
from demo.variants import turned
from tests.shapes import jaws


def appliance() -> Mesh:
    """A bare thing that shares no surface with any jaw."""
    ball = trimesh.creation.icosphere(subdivisions=3, radius=9.0)
    return Mesh.of(ball.vertices * [1.0, 2.0, 0.5] + [3.0, -20.0, 5.0], ball.faces)


class ShapeTest(unittest.TestCase):
    def test_a_box_with_a_corner_off(self) -> None:
        """Volume against the formula: edges multiplied, less a tetrahedron of a sixth of the cut's cube."""
        for jaw, (a, b, c) in SIZES_MM.items():
            mesh = block(jaw)
            self.assertTrue(check_solid(mesh).ok)
            self.assertAlmostEqual(1000 * volume_ml(mesh), a * b * c - 3.0**3 / 6, places=9)
            self.assertAlmostEqual(trimesh.Trimesh(mesh.vertices_mm, mesh.faces).volume, a * b * c - 4.5, places=6)

    def test_found_in_any_place_whole_or_finely_meshed(self) -> None:
        for seed in range(6):
            m = turned(seed)
            for jaw in SIZES_MM:
                fine = trimesh.Trimesh(block(jaw).vertices_mm, block(jaw).faces, process=False).subdivide().subdivide()
                for known in (block(jaw), Mesh.of(fine.vertices, fine.faces)):
                    found = find(joined([appliance().moved(m), known.moved(m)]))
                    self.assertIsNotNone(found)
                    self.assertEqual(found.jaw, jaw)
                    np.testing.assert_allclose(found.matrix, m, atol=1e-6)

    def test_noise_is_told(self) -> None:
        rng = np.random.default_rng(3)
        fine = trimesh.Trimesh(block("upper").vertices_mm, block("upper").faces, process=False)
        for _ in range(4):
            fine = fine.subdivide()
        noisy = Mesh.of(fine.vertices + rng.normal(0, 0.01, fine.vertices.shape), fine.faces)
        found = find(joined([appliance(), noisy]))
        self.assertIsNotNone(found)
        far = np.array([[40.0, 0, 0], [0, 40.0, 0], [0, 0, 40.0]])
        off = far @ (found.matrix[:3, :3].T - np.eye(3)) + found.matrix[:3, 3]
        self.assertLess(float(np.linalg.norm(off, axis=1).max()), 3 * found.error_mm)

    def test_nothing_else_is_taken_for_one(self) -> None:
        self.assertIsNone(find(appliance()))
        self.assertIsNone(find(jaws(3)[0]))
        box = trimesh.creation.box(extents=SIZES_MM["upper"])
        self.assertIsNone(find(joined([appliance(), Mesh.of(box.vertices, box.faces)])))
        two = joined([block("upper"), block("upper").moved(turned(1))])
        self.assertIsNone(find(two))


class ThereAndBackTest(unittest.TestCase):
    """Out by the hand-off, through another program that moved it and kept only the block, and home again."""

    @tag("long")
    def test_a_bare_appliance_comes_home(self) -> None:
        store = MemoryStore()
        upper, lower = jaws(3)
        entries = [
            PieceEntry(id=p, file=f"{p}.stl", sha256=store.blobs.write(stl.write_binary(m))) for p, m in (("p1", upper), ("p2", lower))
        ]
        document = CaseDocument(
            number="2611-01", pieces=entries, settings={"hand-off": {"*": {"block": True, "frame": "home", "stl": "each"}}}
        )
        graph = evaluate(document, CASE, store, demanded=frozenset({"hand-off"})).graph
        node = graph.node("hand-off")
        self.assertFalse(node.manifest.stopped, node.manifest.flags)
        rows = node.manifest.values["outputs"]["json"]
        sha = next(r["sha256"] for r in rows if r["jaw"] == "lower" and r["file"].endswith(".stl"))
        out = weld(read_mesh("x.stl", store.blobs.read(sha)).points).mesh
        gone = find(out)
        self.assertEqual(gone.jaw, "lower")
        about = graph.node("intake", "p2").manifest.values["about"]["json"]
        np.testing.assert_allclose(gone.matrix, stands_at(about), atol=1e-4)
        # Made on the model in its own coordinates; then everything is moved and the model itself taken away.
        away = turned(77)
        bare = joined([appliance().moved(stands_at(about)), block("lower").moved(stands_at(about))]).moved(away)
        back = PieceEntry(id="p3", file="splint.stl", sha256=store.blobs.write(stl.write_binary(bare)), drop=1)
        later = document.model_copy(update={"pieces": [*entries, back]})
        graph = evaluate(later, CASE, store, until="level").graph
        found = graph.node("intake", "p3").manifest.values["about"]["json"]
        self.assertEqual((found["kind"], found["looks"]), ("returned", "lower"))
        place = graph.node("follow", "p3").manifest.values["place"]["json"]
        self.assertEqual((place["on"], place["by"]), ("p2", "block"))
        np.testing.assert_allclose(np.array(place["home_to_jaw"]) @ away, np.eye(4), atol=2e-3)
        self.assertIn("Brought home by its reference block", graph.node("follow", "p3").manifest.flags[0]["message"])


if __name__ == "__main__":
    unittest.main()
