"""Scans that lie on each other: desk scan on mouth scan by the scan bodies, mouth scan on jaw; and what a person brushed."""

from __future__ import annotations

import unittest
from functools import cache

import numpy as np

from bitecore.anatomy.following import follow_by_posts
from bitecore.anatomy.jaw import Jaw
from bitecore.anatomy.jawshape import area_samples
from bitecore.anatomy.scanbodies import discs, laid_by_posts
from bitecore.anatomy.swabbed import Stroke, swabbed
from bitecore.anatomy.whatis import recognise
from bitecore.files import stl
from bitecore.mesh import Mesh
from bitecore.ops.rigid import angle_deg
from bitecore.runsheet import CASE, CaseDocument, MemoryStore, PieceEntry, evaluate
from bitecore.runsheet.targets import found_target
from bitecore.runsheet.who import CaseGraph
from demo import rescans
from demo.arch import ArchPlan, Pair, pair
from demo.variants import turned, with_scan_bodies
from tests.shapes import sheet

SITES = (35, 37, 46)
PLAN = ArchPlan(seed=64, grid_mm=0.6, noise_mm=0.01, gaps=SITES)
AWAY = turned(5)


@cache
def both() -> Pair:
    return pair(PLAN)


@cache
def with_posts(*, desk: bool) -> Mesh:
    """The lower with scan bodies: as scanned in the mouth, in the jaw's own place; or at the desk, elsewhere, with a gum of
    its own (a cast is not the mouth)."""
    rng = np.random.default_rng(int(desk))
    mesh = with_scan_bodies(both().lower, SITES, upper=False)
    if not desk:
        return rescans.as_scanned(mesh, PLAN, rng)
    cast = mesh.vertices_mm.copy()
    cast[: len(both().lower.mesh.vertices_mm)] += [0.12, 0.0, 0.05]
    return Mesh.of(cast, mesh.faces).moved(AWAY)


def seen(mesh: Mesh) -> Jaw:
    shape = recognise(mesh)
    return Jaw(mesh, np.array(shape.up), np.array(shape.front), np.array(shape.incisal))


class PostsTest(unittest.TestCase):
    def test_every_scan_body_is_found_where_it_stands(self) -> None:
        mesh = with_posts(desk=True)
        found = discs(mesh, area_samples(mesh, 12_000))
        self.assertEqual(len(found), len(SITES))
        foot = [next(p for p in both().lower.places if p.fdi == fdi).origin_mm for fdi in SITES]
        m = AWAY @ both().lower.own_to_bench
        up = AWAY[:3, :3] @ [0.0, 0.0, 1.0]
        for disc in found:
            self.assertGreater(float(disc.axis @ (AWAY[:3, :3] @ [0.0, 0.0, 1.0])), 0.9999)
            off = [np.cross(disc.middle_mm - (m[:3, :3] @ f + m[:3, 3]), up) for f in foot]
            # The middle of the end is off the axis by what the flat side takes away: less than 0.2 mm.
            self.assertLess(min(float(np.linalg.norm(o)) for o in off), 0.35)
        self.assertEqual(recognise(mesh).kind, "desk")

    def test_by_the_posts_alone_from_any_frame(self) -> None:
        ends = [discs(m, area_samples(m, 12_000)) for m in (with_posts(desk=True), with_posts(desk=False))]
        self.assertEqual([len(e) for e in ends], [3, 3])
        m = laid_by_posts(*ends)
        self.assertIsNotNone(m)
        self.assertLess(angle_deg(m[:3, :3] @ AWAY[:3, :3]), 1.0)

    def test_the_scan_bodies_count_and_not_the_cast(self) -> None:
        """The cast stands 0.13 mm off its scan bodies: laid by those, they lie right and the teeth 0.13 mm off."""
        desk, mouth = seen(with_posts(desk=True)), seen(with_posts(desk=False))
        done = follow_by_posts(desk, mouth, None)
        self.assertIsNotNone(done)
        self.assertIsNotNone(done.matrix, done.why)
        tops = np.array([d.middle_mm for d in discs(desk.mesh, area_samples(desk.mesh, 12_000))])
        true = np.linalg.inv(AWAY)
        off = (done.matrix - true)[:3] @ np.c_[tops, np.ones(len(tops))].T
        self.assertLess(float(np.sqrt((off**2).sum(0).mean())), 0.02)
        self.assertLess(done.error_mm, 0.06)

    def test_two_bodies_that_have_none_in_common(self) -> None:
        self.assertIsNone(follow_by_posts(seen(both().lower.mesh), seen(with_posts(desk=False)), None))


class TargetsTest(unittest.TestCase):
    JAWS = {"u": "upper", "l": "lower"}
    LOOKS = {"u": "upper", "l": "lower", "m": "lower", "d": "lower", "b": "upper"}

    def found(self, piece: str, kinds: dict, **asked: str) -> tuple[str, str]:
        found = found_target(piece, self.JAWS, kinds, self.LOOKS, asked)
        return found.piece, found.why

    def test_by_itself(self) -> None:
        kinds = {"m": "bodies", "d": "desk", "b": "before"}
        self.assertEqual([self.found(p, kinds)[0] for p in ("m", "d", "b")], ["l", "m", "u"])
        self.assertEqual(self.found("d", {"d": "desk"})[0], "l")

    def test_as_asked_but_never_round_in_a_circle(self) -> None:
        kinds = {"m": "bodies", "d": "desk"}
        self.assertEqual(self.found("d", kinds, d="l")[0], "l")
        self.assertEqual(self.found("d", kinds, d="gone")[0], "")
        self.assertEqual(self.found("m", kinds, m="d"), ("", "it would lie on itself in the end"))
        self.assertEqual(self.found("d", kinds, d="d"), ("", "it would lie on itself in the end"))

    def test_of_a_jaw_that_is_not_there(self) -> None:
        found = found_target("x", {"u": "upper"}, {"x": "before"}, {"x": "lower"}, {})
        self.assertEqual((found.piece, found.why), ("", "there is no scan of the lower jaw"))


class ChainOnTheSheetTest(unittest.TestCase):
    """Both jaws, the mouth scan with scan bodies, the desk scan elsewhere."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.store = MemoryStore()
        scans = {
            "u.stl": both().upper.mesh, "l.stl": both().lower.mesh,
            "mouth.stl": with_posts(desk=False), "desk.stl": with_posts(desk=True),
        }  # fmt: skip
        entries = [
            PieceEntry(id=f"p{i}", file=name, sha256=cls.store.blobs.write(stl.write_binary(mesh)))
            for i, (name, mesh) in enumerate(scans.items(), 1)
        ]
        cls.document = CaseDocument(
            pieces=entries, settings={"intake": {"p3": {"kind": "bodies", "jaw": "lower"}, "p4": {"kind": "desk", "jaw": "lower"}}}
        )  # fmt: skip
        cls.graph = evaluate(cls.document, CASE, cls.store, until="level").graph

    def place(self, graph: CaseGraph, piece: str) -> np.ndarray:
        ref = graph.node("places").manifest.values["home_to_bite"]["by_piece"][piece]
        return np.array(ref["json"])

    def test_the_desk_scan_takes_the_place_of_the_mouth_scan(self) -> None:
        on = [self.graph.node("follow", p).manifest.values["on"]["json"] for p in ("p3", "p4")]
        self.assertEqual(on, ["p2", "p3"])
        ends = np.array([d.middle_mm for d in discs(with_posts(desk=True), area_samples(with_posts(desk=True), 12_000))])
        off = (self.place(self.graph, "p4") @ AWAY - np.eye(4))[:3] @ np.c_[ends, np.ones(3)].T
        self.assertLess(float(np.abs(off).max()), 0.12)
        readings = {r["name"]: r["value"] for r in self.graph.node("follow", "p4").manifest.readings}
        self.assertLess(readings["scan bodies held to about"], 60)
        # The cast is some 130 µm off its scan bodies: the two ways must differ by about that, and say so.
        self.assertGreater(readings["the two ways differ by"], 60)

    def test_a_link_that_changes_takes_what_hangs_on_it_along(self) -> None:
        changed = self.document.model_copy(update={"settings": self.document.settings | {"follow": {"p4": {"by": "surface"}}}})
        again = evaluate(changed, CASE, self.store, until="level")
        steps = {n.id for n in again.graph.nodes.values() if n.task and n.task.key in again.worked}
        self.assertIn("follow/p4", steps)
        self.assertNotIn("follow/p3", steps)
        self.assertFalse(np.allclose(self.place(again.graph, "p4"), self.place(self.graph, "p4"), atol=1e-3))

    def test_round_in_a_circle_is_refused_in_words(self) -> None:
        ring = {"follow": {"p3": {"on": "p4"}, "p4": {"on": "p3"}}}
        changed = self.document.model_copy(update={"settings": self.document.settings | ring})
        graph = evaluate(changed, CASE, self.store, until="level").graph
        for piece in ("p3", "p4"):
            self.assertIn("would lie on itself", graph.node("follow", piece).manifest.flags[0]["message"])


class SwabTest(unittest.TestCase):
    def test_the_last_stroke_counts_and_reaches_under(self) -> None:
        mesh = sheet(40, 40, lambda x, y: 0.05 * x**2)
        middle = tuple(mesh.vertices_mm.mean(0))
        has, has_not = swabbed(mesh, [Stroke(np.array([middle]), 3.0)])
        near = np.linalg.norm(mesh.vertices_mm - np.array(middle), axis=1) <= 3.0
        np.testing.assert_array_equal(has, near)
        self.assertFalse(has_not.any())
        has, has_not = swabbed(
            mesh, [Stroke(np.array([middle]), 3.0), Stroke(np.array([middle]), 1.0, adds=False)]
        )  # fmt: skip
        inner = np.linalg.norm(mesh.vertices_mm - np.array(middle), axis=1) <= 1.0
        np.testing.assert_array_equal(has_not, inner)
        np.testing.assert_array_equal(has, near & ~inner)


if __name__ == "__main__":
    unittest.main()
