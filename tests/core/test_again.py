"""Which of several scans of one jaw was made first: by what treatment took away, the name only where that is silent."""

from __future__ import annotations

import unittest
from functools import cache

import numpy as np

from bitecore.anatomy.following import follow, taken_away
from bitecore.anatomy.jaw import Jaw
from bitecore.anatomy.whatis import recognise
from bitecore.files import stl
from bitecore.mesh import Mesh, volume_ml
from bitecore.runsheet import CASE, CaseDocument, MemoryStore, PieceEntry, evaluate
from bitecore.runsheet.who import CaseGraph
from demo import rescans
from demo.arch import ArchPlan, Pair, pair
from demo.variants import prepared, turned

PLAN = ArchPlan(seed=208, grid_mm=0.6, noise_mm=0.01)


@cache
def both() -> Pair:
    return pair(PLAN)


@cache
def again(fdi: int = 0) -> Mesh:
    """The lower scanned once more in a frame of its own, one tooth of it prepared where a number is given."""
    rng = np.random.default_rng(fdi)
    lower = prepared(both().lower, fdi) if fdi else both().lower
    return rescans.as_scanned(rescans.otherwise_meshed(lower.mesh, rng), PLAN, rng).moved(turned(fdi + 1))


def seen(mesh: Mesh) -> Jaw:
    shape = recognise(mesh)
    return Jaw(mesh, np.array(shape.up), np.array(shape.front), np.array(shape.incisal))


class OrderTest(unittest.TestCase):
    def test_what_was_ground_away_is_measured(self) -> None:
        """Against the volume between the two surfaces, by the divergence theorem over the same triangles."""
        lower = both().lower
        ground = prepared(lower, 36)
        moved = (ground.mesh.vertices_mm != lower.mesh.vertices_mm).any(1)[lower.mesh.faces].any(1)
        middle = lower.mesh.vertices_mm[lower.mesh.faces[moved]].mean((0, 1))

        def cone_mm3(mesh: Mesh) -> float:
            return 1000 * volume_ml(Mesh.of(mesh.vertices_mm - middle, mesh.faces[moved]))

        gone = cone_mm3(lower.mesh) - cone_mm3(ground.mesh)
        self.assertGreater(gone, 50.0)
        found = taken_away(seen(lower.mesh), seen(ground.mesh), np.eye(4))
        self.assertTrue(found.before)
        # Measured as distance times area on both surfaces, which bends round the cusps: within a third.
        self.assertAlmostEqual((found.more_mm3 - found.less_mm3) / gone, 1.0, delta=0.34)

    def test_the_same_surface_tells_nothing(self) -> None:
        first, once_more = seen(both().lower.mesh), seen(again())
        done = follow(once_more, first)
        self.assertIsNotNone(done.matrix, done.why)
        found = taken_away(once_more, first, done.matrix)
        self.assertIsNone(found.before)
        self.assertLess(found.more_mm3 + found.less_mm3, 2.0)

    def test_either_way_round(self) -> None:
        first, later = seen(both().lower.mesh), seen(again(46))
        done = follow(later, first)
        self.assertIs(taken_away(later, first, done.matrix).before, False)
        self.assertIs(taken_away(first, later, np.linalg.inv(done.matrix)).before, True)


class AssignedTest(unittest.TestCase):
    """On the run sheet, up to Intake and what is read off several scans of one jaw."""

    store: MemoryStore

    @classmethod
    def setUpClass(cls) -> None:
        cls.store = MemoryStore()

    def looked_at(self, *scans: tuple[str, Mesh, int]) -> CaseGraph:
        entries = [
            PieceEntry(id=f"p{i}", file=name, sha256=self.store.blobs.write(stl.write_binary(mesh)), drop=drop)
            for i, (name, mesh, drop) in enumerate(scans, 1)
        ]
        return evaluate(CaseDocument(pieces=entries), CASE, self.store, until="intake").graph

    def test_the_prepared_one_is_worked_on_whatever_the_names_say(self) -> None:
        graph = self.looked_at(
            ("final.stl", both().lower.mesh, 0), ("u.stl", both().upper.mesh, 0), ("pre-op.stl", again(46), 0)
        )  # fmt: skip
        self.assertEqual(graph.jaws, {"p2": "upper", "p3": "lower"})
        self.assertEqual(graph.kinds, {"p1": "before"})
        words = [f["message"] for f in graph.node("again").manifest.flags]
        self.assertEqual(len(words), 1)
        self.assertRegex(words[0], r"^pre-op\.stl shows \d+ mm³ less of the lower teeth than final\.stl: final\.stl was made before")

    def test_the_name_tells_scans_of_one_surface_apart(self) -> None:
        graph = self.looked_at(("initial.stl", both().lower.mesh, 0), ("u.stl", both().upper.mesh, 0), ("x.stl", again(), 0))
        self.assertEqual((graph.jaws, graph.kinds), ({"p2": "upper", "p3": "lower"}, {"p1": "before"}))

    def test_a_scan_that_comes_later_never_takes_a_place_by_itself(self) -> None:
        graph = self.looked_at(("l.stl", both().lower.mesh, 0), ("u.stl", both().upper.mesh, 0), ("later.stl", again(46), 1))
        self.assertEqual((graph.jaws, graph.kinds), ({"p2": "upper", "p1": "lower"}, {"p3": "further"}))

    def test_a_pair_alone_is_not_compared(self) -> None:
        graph = self.looked_at(("l.stl", both().lower.mesh, 0), ("u.stl", both().upper.mesh, 0))
        self.assertIsNone(graph.node("again"))
        self.assertEqual(set(graph.jaws.values()), {"upper", "lower"})


if __name__ == "__main__":
    unittest.main()
