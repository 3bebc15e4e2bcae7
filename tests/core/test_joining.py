"""One body with the jaw: gaps in closed form between boxes; a denture on the jaw it was made on, each scanned by itself."""

from __future__ import annotations

import unittest
from functools import cache

import numpy as np

from bitecore.anatomy.as_came import as_came
from bitecore.errors import StepFailed
from bitecore.mesh import Mesh
from bitecore.parts.joining import joined_on, whole
from bitecore.runsheet import CASE, MemoryStore, evaluate
from bitecore.runsheet.document import CaseDocument
from bitecore.runsheet.who import CaseGraph
from demo import rescans
from demo.arch import ArchPlan, pair
from demo.variants import denture
from tests.core.test_runsheet import case
from tests.shapes import box, manifold, sheet, turn


def slab(low: float, high: float, *, noise_mm: float, seed: int) -> Mesh:
    """20 x 20 mm from z = low to high, its lower side rough by so much."""
    rng = np.random.default_rng(seed)
    top = sheet(81, 81, lambda x, y: np.full(x.shape, high), (20.0, 20.0))
    n = len(top.vertices_mm)
    under = top.vertices_mm.copy()
    under[:, 2] = low
    inner = (np.abs(under[:, :2]) < 9.9).all(1)
    under[inner, 2] += rng.uniform(-noise_mm, noise_mm, int(inner.sum()))
    rim = _rim(81)
    wall = [f for a, b in zip(rim, np.roll(rim, -1), strict=True) for f in ((a, a + n, b), (b, a + n, b + n))]
    return Mesh.of(np.vstack([top.vertices_mm, under]), np.vstack([top.faces, top.faces[:, ::-1] + n, np.array(wall)]))


def _rim(count: int) -> np.ndarray:
    k = np.arange(count)
    return np.r_[k[:-1] * count, (count - 1) * count + k[:-1], k[:0:-1] * count + count - 1, k[:0:-1]]


class ClosedFormTest(unittest.TestCase):
    def test_two_rough_faces_a_gap_apart_become_one_body_and_nothing_else_moves(self) -> None:
        model = box((30.0, 30.0, 10.0)).moved(np.array([[1, 0, 0, -15], [0, 1, 0, -15], [0, 0, 1, -10], [0, 0, 0, 1.0]]))
        other = whole(slab(0.02, 5.0, noise_mm=0.06, seed=4), "the slab")
        done = joined_on(model, other, reach_mm=0.3)
        # A plain union of the two is what this is for: many hollows between them.
        self.assertGreater(len((manifold(model) + manifold(other)).decompose()), 5)
        both = manifold(model) + manifold(done.solid)
        self.assertEqual(len(both.decompose()), 1)
        self.assertEqual(done.pockets_mm3, 0.0)
        self.assertAlmostEqual(done.gap_mm, 0.08, delta=0.002)
        self.assertAlmostEqual(done.deep_mm, 0.04, delta=0.002)
        self.assertLessEqual(done.pushed_mm, done.gap_mm + 0.1 + 1e-9)
        # The union is the two blocks and, within the rim where a crack stays, what was between them.
        self.assertAlmostEqual(both.volume(), 30 * 30 * 10 + 20 * 20 * 5, delta=20 * 20 * 0.02 + 1.0)
        moved = np.abs(done.solid.vertices_mm - other.vertices_mm).max(1) > 0
        self.assertTrue((other.vertices_mm[moved, 2] < 0.1).all())
        self.assertTrue((np.abs(other.vertices_mm[moved, :2]) < 10).all())

    def test_what_is_too_far_or_open_is_refused_with_how_far(self) -> None:
        model = box((30.0, 30.0, 10.0)).moved(np.array([[1, 0, 0, -15], [0, 1, 0, -15], [0, 0, 1, -10], [0, 0, 0, 1.0]]))
        with self.assertRaisesRegex(StepFailed, "0.70 mm off"):
            joined_on(model, whole(slab(0.7, 5.0, noise_mm=0.0, seed=1), "the slab"), reach_mm=0.3)
        with self.assertRaisesRegex(StepFailed, "The sheet is open"):
            whole(sheet(20, 20, lambda x, y: 0 * x), "the sheet")
        inside_out = slab(0.02, 5.0, noise_mm=0.0, seed=1).turned_inside_out()
        self.assertGreater(manifold(whole(inside_out, "the slab")).volume(), 0)

    def test_what_lies_on_it_as_the_files_have_it(self) -> None:
        """A slab of 20 × 20 mm on a block: over its whole underside; farther off, turned inside out or sunk in it does not lie there."""
        model = box((30.0, 30.0, 10.0)).moved(np.array([[1, 0, 0, -15], [0, 1, 0, -15], [0, 0, 1, -10], [0, 0, 0, 1.0]]))
        lies = as_came(slab(0.05, 5.0, noise_mm=0.02, seed=2), model)
        self.assertTrue(lies.lies)
        self.assertAlmostEqual(lies.facing_mm2 / 400, 1, delta=0.05)
        self.assertAlmostEqual(lies.rms_mm, 0.05, delta=0.01)
        self.assertEqual(lies.deep_mm, 0.0)
        for low in (0.4, -1.0):
            self.assertFalse(as_came(slab(low, 5.0, noise_mm=0.0, seed=2), model).lies, low)
        self.assertFalse(as_came(slab(0.05, 5.0, noise_mm=0.0, seed=2).turned_inside_out(), model).lies)


@cache
def without_teeth() -> tuple[Mesh, Mesh]:
    """An upper without teeth and the denture that was made on it, each scanned for itself, the denture elsewhere."""
    rng = np.random.default_rng(3)
    upper = pair(ArchPlan(seed=41, grid_mm=0.8, noise_mm=0.0, warp_mm=0.0, flaws=False)).upper
    worn = denture(upper, upper=True)
    half = len(worn.vertices_mm) // 2
    tissue = Mesh.of(worn.vertices_mm[half:], worn.faces[(worn.faces >= half).all(1)][:, ::-1] - half)
    plan = ArchPlan(noise_mm=0.02, warp_mm=0.0)
    jaw = rescans.as_scanned(rescans.otherwise_meshed(tissue, rng), plan, rng)
    return jaw, rescans.as_scanned(worn, plan, rng).moved(turn(12))


class DentureTest(unittest.TestCase):
    graph: CaseGraph
    document: CaseDocument

    @classmethod
    def setUpClass(cls) -> None:
        cls.store = MemoryStore()
        cls.document = case(
            cls.store,
            *without_teeth(),
            intake={"p1": {"kind": "jaw", "jaw": "upper"}, "p2": {"kind": "denture"}},
            join={"p1": {"scans": ("p2",)}},
        )
        cls.graph = evaluate(cls.document, CASE, cls.store).graph

    def body(self, address: str) -> Mesh:
        node = self.graph.node("assemble", address)
        assert node is not None and node.mesh("body"), (address, node and node.manifest)
        return Mesh.from_bytes(self.store.blobs.read(node.mesh("body")))

    def test_jaw_alone_and_jaw_with_denture_are_two_bodies_in_one_relation(self) -> None:
        told = self.graph.node("join", "p1").json("joined")
        self.assertEqual([row["scan"] for row in told], ["p2"])
        alone, both = manifold(self.body("p1")), manifold(self.body("p1.joined"))
        self.assertEqual((len(alone.decompose()), len(both.decompose())), (1, 1))
        self.assertLess(told[0]["gap_mm"], 0.3)
        self.assertGreater(both.volume(), alone.volume() + 1000)
        # What is of the jaw alone is in the joined body where it was, to nothing.
        self.assertLess((alone - both).volume(), 0.05)
        self.assertIn("joined", [f["code"] for f in self.graph.node("join", "p1").manifest.flags])
        self.assertIsNotNone(self.graph.node("plate").json("home_to_plate", "p1.joined"))

    def test_a_piece_is_joined_where_its_file_has_it_and_else_stands_by_itself(self) -> None:
        """The same as a die, which is laid by nothing it shares with the jaw: in one relation with it, and moved."""
        jaw, worn = without_teeth()
        for there, figure in ((worn.moved(np.linalg.inv(turn(12))), "as it came"), (worn, "by itself")):
            document = case(
                self.store, jaw, there, intake={"p1": {"kind": "jaw", "jaw": "upper"}, "p2": {"kind": "die"}},
                join={"p1": {"scans": ("p2",)}},
            )  # fmt: skip
            graph = evaluate(document, CASE, self.store, until="join").graph
            self.assertEqual(graph.node("follow", "p2").manifest.figure, figure)
            told = graph.node("join", "p1").json("joined")
            self.assertEqual(len(told), figure == "as it came")
            if not told:
                self.assertEqual([f["code"] for f in graph.node("join", "p1").manifest.flags], ["join-apart"])

    def test_a_jaw_is_never_given_out_as_joined_where_nothing_was(self) -> None:
        graph = evaluate(
            self.document.model_copy(update={"settings": self.document.settings | {"join": {"p1": {"scans": ("p9",)}}}}), CASE, self.store
        ).graph
        (flag,) = graph.node("join", "p1").manifest.flags
        self.assertEqual((flag["code"], flag["fix"]["values"], flag["fix"]["label"]), ("join-gone", {"scans": []}, "Print it without"))
        node = graph.node("assemble", "p1.joined")
        self.assertEqual((node.state, node.manifest.flags[0]["code"]), ("failed", "no-part"))
        self.assertEqual(graph.node("assemble", "p1").state, "done")
