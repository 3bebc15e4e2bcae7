"""Which of several scans of one jaw was made first: by what treatment took away, the name only where that is silent."""

from __future__ import annotations

import unittest
from dataclasses import replace
from functools import cache

import numpy as np

from bitecore.anatomy.following import follow, taken_away
from bitecore.anatomy.jaw import Jaw
from bitecore.anatomy.posts import posts
from bitecore.anatomy.whatis import recognise
from bitecore.files import stl
from bitecore.mesh import Mesh, volume_ml
from bitecore.runsheet import CASE, CaseDocument, MemoryStore, PieceEntry, evaluate
from bitecore.runsheet.who import CaseGraph
from demo import rescans
from demo.arch import ArchPlan, Pair, pair
from demo.variants import prepared, turned, with_scan_bodies

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


class PostsTest(unittest.TestCase):
    """Scan bodies of any form stand where the other scan has gum; teeth that were pulled since are none."""

    def counted(self, gaps: tuple[int, ...], more: Mesh) -> tuple[int, int]:
        bare = pair(replace(PLAN, gaps=gaps)).lower
        one, other = (seen(rescans.as_scanned(m, PLAN, np.random.default_rng(k))) for k, m in enumerate((more, bare.mesh)))
        done = follow(one, other)
        assert done.matrix is not None, done.why
        return posts(one, other, done.matrix), posts(other, one, np.linalg.inv(done.matrix))

    def test_posts_are_counted_whatever_their_ends(self) -> None:
        for gaps, round_ended in (((31, 45, 47), False),):
            with self.subTest(gaps=gaps, round_ended=round_ended):
                jaw = pair(replace(PLAN, gaps=gaps)).lower
                more = with_scan_bodies(jaw, gaps, upper=False, round_ended=round_ended)
                self.assertEqual(self.counted(gaps, more), (len(gaps), 0))

    def test_teeth_pulled_since_are_no_posts(self) -> None:
        for gaps in ((36, 42, 44),):
            with self.subTest(gaps=gaps):
                self.assertEqual(self.counted(gaps, both().lower.mesh), (0, 0))


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

    def test_scans_with_scan_bodies_are_not_from_before(self) -> None:
        """In the mouth and on the cast: neither is the jaw, and neither was made before it."""
        gaps = (35, 46)
        lower = pair(replace(PLAN, gaps=gaps)).lower
        stand = with_scan_bodies(lower, gaps, upper=False, round_ended=True)
        mouth, desk = (rescans.as_scanned(stand, PLAN, np.random.default_rng(k)).moved(turned(k)) for k in (3, 4))
        graph = self.looked_at(("a.stl", mouth, 1), ("b.stl", lower.mesh, 1), ("c.stl", desk, 1))
        self.assertEqual((graph.jaws, graph.kinds), ({"p2": "lower"}, {"p1": "bodies", "p3": "bodies"}))
        words = " ".join(f["message"] for f in graph.node("again").manifest.flags)
        self.assertIn("a.stl shows 2 posts where b.stl has none", words)


if __name__ == "__main__":
    unittest.main()
