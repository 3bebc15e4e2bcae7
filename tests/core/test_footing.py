"""Walls, edges, shapes and heights of bases, against closed forms and against what is measured on the finished bodies."""

from __future__ import annotations

import unittest

import numpy as np
from django.test import tag
from numpy.typing import NDArray
from scipy.spatial import ConvexHull, cKDTree

from bitecore.engine.gives import unpack
from bitecore.engine.store import FolderStore
from bitecore.mesh import GROUP_CUT, GROUP_SCAN, Mesh, border_loops, check_solid, volume_ml
from bitecore.ops.assembly import assemble
from bitecore.ops.base import Based, base
from bitecore.ops.free_wall import free_wall
from bitecore.ops.land import flat, sides_deg, squared
from bitecore.ops.notch import DEEP_MM, HIGH_MM, WIDE_MM, notch
from bitecore.ops.rings import crossed, finer, holds, offset, signed_area
from bitecore.ops.shelf import blended
from bitecore.ops.terrace import carried_out, gentle
from bitecore.ops.upright import Plan
from bitecore.runsheet import CASE, evaluate
from demo.variants import closed_model
from tests.core.known import known_store
from tests.core.test_base import assert_printable
from tests.core.test_runsheet import case
from tests.shapes import arches, box, dome, jaws


def made_block(size: tuple[float, float, float]) -> Mesh:
    block = box(size)
    return Mesh.of(block.vertices_mm, block.faces, np.full(block.triangles, GROUP_CUT, np.uint8))


def circle(radius: float, count: int = 240) -> NDArray[np.float64]:
    t = np.arange(count) / count * 2 * np.pi
    return radius * np.c_[np.cos(t), np.sin(t)]


def fine(ring: NDArray[np.float64]) -> NDArray[np.float64]:
    """With a hundred places on every side."""
    share = np.linspace(0, 1, 100, endpoint=False)[None, :, None]
    return (ring[:, None] * (1 - share) + np.roll(ring, -1, axis=0)[:, None] * share).reshape(-1, 2)


class RingsTest(unittest.TestCase):
    def test_offsets_in_closed_form(self) -> None:
        square = np.array([[0.0, 0], [4, 0], [4, 3], [0, 3]])
        self.assertAlmostEqual(signed_area(offset(square, 0.5)), 5 * 4)
        self.assertAlmostEqual(signed_area(offset(square, -0.5)), 3 * 2)
        self.assertAlmostEqual(np.linalg.norm(offset(circle(8), 1.5), axis=1).mean(), 9.5, places=3)
        # Out of what a hole encloses is into the hole.
        self.assertAlmostEqual(np.linalg.norm(offset(circle(8)[::-1], 1.5), axis=1).mean(), 6.5, places=3)

    def test_crossings_and_insides(self) -> None:
        self.assertFalse(crossed([circle(8), circle(5)[::-1]]).any())
        self.assertTrue(crossed([circle(8), circle(5)[::-1] + [4, 0]]).any())
        self.assertTrue(crossed([offset(circle(3), -4.0)[[0, 80, 40, 160]]]).any())
        inside = holds([circle(8), circle(5)[::-1]], np.array([[6.5, 0.1], [0, 0], [9, 0]]))
        self.assertEqual(inside.tolist(), [True, False, False])

    def test_a_top_is_gentle_and_never_too_high(self) -> None:
        angle = np.arange(400) / 400 * 2 * np.pi
        ring = 40 * np.c_[np.cos(angle), np.sin(angle)]
        np.testing.assert_allclose(gentle([ring, 0.5 * ring], np.full(800, 3.0)), 3.0)
        rough = np.where(np.abs(angle - 3) < 0.2, 1.0, 4.0) + np.random.default_rng(0).uniform(0, 0.5, 400)
        even = gentle([ring], rough)
        self.assertLess((even - rough).max(), 1e-9)
        # Over 0.63 mm from corner to corner a step of 3 mm is spread over 8 mm and more.
        self.assertLess(np.abs(np.diff(even)).max(), 3.5 * 0.63 / 8 * 1.5)
        out = carried_out(1.2 * ring, ring, even)
        self.assertLess((out - even).max(), 0.2)

    def test_a_blend_is_even(self) -> None:
        """What is uneven along one ring is gone before it comes to the other (a harmonic decays within its own wave length)."""
        rng = np.random.default_rng(2)
        inner, outer = np.c_[circle(10), rng.normal(0, 0.3, 240)], np.c_[circle(13, 160), np.full(160, -1.0)]
        made = blended([outer, inner[::-1]])
        self.assertGreater(len(made.more), 300)
        far = np.linalg.norm(made.more[:, :2], axis=1)
        middle = made.more[np.abs(far - 12) < 0.25]
        straight = -(np.log(np.linalg.norm(middle[:, :2], axis=1) / 10) / np.log(1.3))  # the harmonic height between two circles
        self.assertLess(np.abs(middle[:, 2] - straight).max(), 0.12)


class EdgesTest(unittest.TestCase):
    """A half ball on a round foot: what draft and edges change of its volume is known."""

    TALL = 4.0

    def made(self, **plan: object) -> Based:
        made = base(dome(10, 0, 90), up=[0, 0, 1], plan=Plan(thickness_mm=self.TALL, **plan))  # type: ignore[arg-type]
        assert_printable(self, made.body)
        self.assertEqual(made.without, ())
        return made

    def test_a_bevel(self) -> None:
        straight, made = self.made(), self.made(edge="bevelled", edge_mm=1.0)
        radius = float(np.linalg.norm(straight.outline[0], axis=1).mean())
        # Pappus: a triangle of half a square millimetre, its centroid a third of a millimetre from the wall.
        taken = 0.5 * 2 * np.pi * (radius - 1 / 3)
        self.assertAlmostEqual((volume_ml(straight.body) - volume_ml(made.body)) * 1000 / taken, 1, delta=0.01)
        self.assertEqual(made.edge_mm, 1.0)

    def test_a_round_edge(self) -> None:
        straight, made = self.made(), self.made(edge="rounded", edge_mm=1.5)
        radius = float(np.linalg.norm(straight.outline[0], axis=1).mean())
        # A square less a fan of five triangles with 18° each; its centroid 0.22 of its side from the wall (a quarter circle's corner).
        taken = 1.5**2 * (1 - 2.5 * np.sin(np.radians(18))) * 2 * np.pi * (radius - 0.223 * 1.5)
        self.assertAlmostEqual((volume_ml(straight.body) - volume_ml(made.body)) * 1000 / taken, 1, delta=0.02)

    def test_draft(self) -> None:
        straight, made = self.made(), self.made(draft_deg=5.0)
        top, out = float(np.linalg.norm(straight.outline[0], axis=1).mean()), float(np.linalg.norm(made.foot[0], axis=1).mean())
        far = np.linalg.norm(made.body.vertices_mm[:, :2], axis=1)
        high = float(np.median(made.body.vertices_mm[(np.abs(far - top) < 0.03) & (made.body.vertices_mm[:, 2] < 0), 2])) + self.TALL
        self.assertAlmostEqual((out - top) / high, np.tan(np.radians(5)), delta=0.004)
        frustum = np.pi * high / 3 * (top**2 + top * out + out**2) - np.pi * high * top**2
        self.assertAlmostEqual((volume_ml(made.body) - volume_ml(straight.body)) * 1000 / frustum, 1, delta=0.04)


class LandTest(unittest.TestCase):
    ARCH = np.array([[25.0 * x, 40.0 * x * x] for x in np.linspace(-1, 1, 61)])
    SQUARE = np.array([[25.0 * np.cos(t), -40 * np.sin(t) + 40] for t in np.linspace(0, np.pi, 60)])

    def angles(self, ring: NDArray) -> NDArray:
        """Of every side to the back (degrees, 0 to 90)."""
        way = np.roll(ring, -1, axis=0) - ring
        way = way[np.linalg.norm(way, axis=1) > 4]
        return np.round(np.degrees(np.arctan2(np.abs(way[:, 1]), np.abs(way[:, 0]))), 2)

    def test_study_angles(self) -> None:
        """Back, heels, sides and front cuts of study models, from memory."""
        upper = squared(self.ARCH, self.ARCH, jaw="upper", angles="upper", around_mm=4, back_mm=48)
        self.assertEqual(sorted(self.angles(upper).tolist()), [0, 27.5, 27.5, 50, 50, 65, 65])
        tip = upper[upper[:, 1].argmin()]
        self.assertAlmostEqual(tip[0], 0, places=6)  # pointed on the midline
        lower = squared(self.ARCH, self.ARCH, jaw="lower", angles="lower", around_mm=4, back_mm=48)
        self.assertEqual(sorted(self.angles(lower).tolist()), [0, 60, 60, 60, 60])
        self.assertGreater((lower[:, 1] < lower[:, 1].min() + 3).sum(), 6)  # round

    def test_sides_go_along_a_squarer_arch(self) -> None:
        """An ellipse touches a side at deg: √((a sin)² + (b cos)²) from its middle, and its widest place lies a sin of that way."""
        a, b = 25.0, 40.0
        aside = {d: np.hypot(a * np.sin(np.radians(d)), b * np.cos(np.radians(d))) - a * np.sin(np.radians(d)) for d in range(65, 81)}
        told = sides_deg(self.SQUARE, "upper")
        self.assertEqual(told, next(d for d, mm in aside.items() if mm <= 4.5))
        self.assertEqual([sides_deg(self.ARCH, jaw) for jaw in ("upper", "lower")], [65, 60])
        ring = squared(self.SQUARE, self.SQUARE, jaw="upper", angles="upper", around_mm=4, back_mm=42)
        self.assertIn(told, self.angles(ring).tolist())
        self.assertEqual(sides_deg(np.array([[-25.0, 0], [25, 0], [25, 40], [-25, 40]]), "upper"), 80)

    def test_sides_on_one_line_do_not_cross(self) -> None:
        ring = finer(np.array([[0.0, 0], [9, 0], [9, 5], [0, 5]]), 1.0)
        self.assertFalse(crossed([ring]).any())
        folded = np.array([[0.0, 0], [4, 0], [2, 0], [6, 0], [6, 5], [0, 5]])
        self.assertTrue(crossed([folded]).any())

    def test_they_hold_the_arch_and_their_halves_are_alike(self) -> None:
        for ring in (
            squared(self.ARCH, self.ARCH, jaw="upper", angles="upper", around_mm=3, back_mm=42),
            squared(self.ARCH, self.ARCH, jaw="lower", angles="upper", around_mm=3, back_mm=42, corner_mm=1),
            flat(self.ARCH, around_mm=3, back_mm=42),
        ):
            self.assertTrue(holds([ring], self.ARCH).all())
            self.assertLess(cKDTree(fine(ring)).query(ring * [-1, 1])[0].max(), 0.02)
            self.assertGreater(signed_area(ring), 0)
            self.assertEqual(ring[:, 1].max(), 42)


class JawTest(unittest.TestCase):
    """A pair through Trim, based every way."""

    store: FolderStore

    @classmethod
    def setUpClass(cls) -> None:
        cls.store = known_store()
        cls.document = case(cls.store, *jaws(3, palate=False))

    def based(self, step: str = "base", **settings: object):  # noqa: ANN201
        document = self.document.model_copy(update={"settings": {"base": {"*": settings}}})
        graph = evaluate(document, CASE, self.store, until=step).graph
        bodies = {}
        for piece, jaw in graph.jaws.items():
            node = graph.node("base", piece)
            self.assertIsNotNone(node.good, node.manifest and node.manifest.flags)
            body = unpack(node.manifest.values["body"], self.store.blobs)
            bench = np.array(unpack(graph.node("level", "*").manifest.values["home_to_bench"], self.store.blobs)[piece])
            bodies[jaw] = body.with_vertices(body.vertices_mm @ bench[:3, :3].T + bench[:3, 3])
        return graph, bodies

    def flags(self, graph, code: str):  # noqa: ANN001, ANN201
        return [f for node in graph.nodes.values() if node.manifest for f in node.manifest.flags if f["code"] == code]

    @tag("long")
    def test_every_shape_is_printable_and_keeps_its_crowns(self) -> None:
        crowns: dict[str, set[bytes]] = {}
        for shape in ("horseshoe", "closed", "squared", "flat"):
            with self.subTest(shape=shape):
                graph, bodies = self.based(shape=shape, edge="bevelled", thickness_mm=3.0)
                self.assertEqual(self.flags(graph, "other-shape"), [])
                for jaw, body in bodies.items():
                    assert_printable(self, body)
                    high = body.vertices_mm[np.unique(body.faces[body.groups == GROUP_SCAN])]
                    high = high[np.abs(high[:, 2]) < 4]
                    kept = {v.tobytes() for v in high}
                    self.assertGreater(len(kept & crowns.setdefault(jaw, kept)), 0.98 * len(kept))

    def test_the_middle_is_closed(self) -> None:
        _, horseshoe = self.based(thickness_mm=3.0)
        _, closed = self.based(thickness_mm=3.0, shape="closed")
        for jaw, body in closed.items():
            sole, arch = self.sole(body), self.sole(horseshoe[jaw])
            hull = ConvexHull(np.vstack(arch)).volume
            self.assertLess(sum(signed_area(r) for r in arch), 0.75 * hull)
            self.assertGreater(sum(signed_area(r) for r in sole), 0.95 * hull)

    def sole(self, body: Mesh) -> list[NDArray]:
        """The rings of the flat underside in the plan, outer ones counter-clockwise."""
        up = 1.0 if abs(body.vertices_mm[:, 2].min()) > abs(body.vertices_mm[:, 2].max()) else -1.0
        low = (up * body.vertices_mm[:, 2]).min()
        flat_ = body.of_faces((up * body.vertices_mm[body.faces][:, :, 2] < low + 1e-3).all(1))
        rings = [flat_.vertices_mm[loop][:, :2] for loop in border_loops(flat_)]
        total = sum(signed_area(r) for r in rings)
        return rings if total > 0 else [r[::-1] for r in rings]

    def test_a_squared_pair_stands_closed_on_any_side(self) -> None:
        """Of both, what lies farthest out along the back, the heels and the sides lies in one plane."""
        graph, bodies = self.based(shape="squared", flush=True, thickness_mm=4.0)
        (said,) = [r["value"] for r in graph.node("foot", "*").manifest.readings if r["name"] == "sides to the back"]
        side = np.radians(said)
        a, b = np.sin(side), -np.cos(side)
        for x, y in ((0, 1), (0.766044, 0.642788), (-0.766044, 0.642788), (a, b), (-a, b)):
            reach = [float((body.vertices_mm[:, :2] @ [x, y]).max()) for body in bodies.values()]
            self.assertLess(np.ptp(reach), 0.005, (x, y))

    def test_the_top_of_a_study_base_follows_the_border(self) -> None:
        """Common practice, no source: the base of a study model goes up to where the gum ends, and its top is even."""
        _, bodies = self.based(shape="squared", thickness_mm=4.0)
        for jaw, body in bodies.items():
            up = 1.0 if jaw == "lower" else -1.0
            points = body.vertices_mm * [1, 1, up]
            walls = np.unique(body.faces[body.groups == GROUP_CUT])
            land = points[walls][ConvexHull(points[walls][:, :2]).vertices]
            outline = np.vstack([land, land[:1]])
            # The highest corner on each millimetre of the outline: the edge between walls and top.
            run = np.r_[0.0, np.cumsum(np.linalg.norm(np.diff(outline[:, :2], axis=0), axis=1))]
            at = np.arange(0, run[-1], 1.0)
            ring = np.c_[np.interp(at, run, outline[:, 0]), np.interp(at, run, outline[:, 1])]
            near = cKDTree(points[walls][:, :2]).query_ball_point(ring, 1.5)
            rim = np.array([points[walls][k][:, 2].max() for k in near])
            scan = points[np.unique(body.faces[body.groups == GROUP_SCAN])]
            border = np.array([scan[np.linalg.norm(scan[:, :2] - p, axis=1) < 16, 2].min(initial=np.inf) for p in ring])
            seen = np.isfinite(border)
            self.assertGreater(seen.sum(), 60, jaw)
            self.assertLess((rim - border)[seen].max(), 1.5, jaw)
            self.assertGreater(np.median((rim - border)[seen]), -3.0, jaw)
            self.assertLess(np.abs(np.diff(rim)).max(), 0.8, jaw)

    def test_horseshoes_are_flush_at_the_back(self) -> None:
        _, bodies = self.based(flush=True, thickness_mm=3.0, brace=True)
        backs = [body.vertices_mm[:, 1].max() for body in bodies.values()]
        self.assertLess(np.ptp(backs), 0.005)
        for body in bodies.values():
            assert_printable(self, body)
            on = body.vertices_mm[body.vertices_mm[:, 1] > backs[0] - 0.005]
            self.assertGreater(np.ptp(on[:, 0]), 30)  # both ends

    def test_a_brace_joins_the_ends(self) -> None:
        _, without = self.based(thickness_mm=3.0)
        _, braced = self.based(thickness_mm=3.0, brace=True)
        for jaw in ("upper", "lower"):
            self.assertEqual(len(self.sole(without[jaw])), 1)
            self.assertEqual(len(self.sole(braced[jaw])), 2)

    def test_a_gap_is_filled_and_what_sticks_out_is_said(self) -> None:
        graph, bodies = self.based(height="gap", gap_mm=50.0)
        self.assertAlmostEqual(bodies["upper"].vertices_mm[:, 2].max() - bodies["lower"].vertices_mm[:, 2].min(), 50, places=3)
        self.assertEqual(len(self.flags(graph, "gap")), 1)
        graph, bodies = self.based(height="under", thickness_mm=6.0, gap_mm=40.0)
        tall = bodies["upper"].vertices_mm[:, 2].max() - bodies["lower"].vertices_mm[:, 2].min()
        (flag,) = self.flags(graph, "gap-past")
        self.assertIn(f"{tall:.1f} mm high and sticks out by {(tall - 40) / 2:.1f} mm", flag["message"])
        fixed = {"height": "under", "thickness_mm": 6.0, "gap_mm": 40.0} | dict(flag["fix"]["values"])
        graph, _ = self.based(**fixed)
        self.assertEqual(self.flags(graph, "gap-past"), [])
        graph, _ = self.based(gap_mm=80.0)
        (short,) = self.flags(graph, "gap-short")
        self.assertEqual(short["fix"]["values"], {"height": "gap", "gap_mm": 80.0})

    def test_total_height(self) -> None:
        graph, bodies = self.based(height="total", total_mm=30.0)
        for body in bodies.values():
            self.assertAlmostEqual(np.ptp(body.vertices_mm[:, 2]), 30, places=3)
        graph, bodies = self.based(height="total", total_mm=8.0)
        low = self.flags(graph, "too-low")
        self.assertEqual(len(low), 2)
        for body in bodies.values():
            self.assertLess(min(abs(np.ptp(body.vertices_mm[:, 2]) - f["fix"]["values"]["total_mm"]) for f in low), 0.11)
        # How high the closed pair is counts what is made, not what was asked for.
        graph, bodies = self.based(height="total", total_mm=8.0, gap_mm=60.0)
        tall = bodies["upper"].vertices_mm[:, 2].max() - bodies["lower"].vertices_mm[:, 2].min()
        (short,) = self.flags(graph, "gap-short")
        self.assertIn(f"{tall:.1f} mm high", short["message"])

    def test_each_to_its_own_plane(self) -> None:
        graph, _ = self.based(parallel="own")
        feet = unpack(graph.node("foot", "*").manifest.values["foot"], self.store.blobs)
        for piece in graph.jaws:
            tips = np.array(
                [t for tooth in unpack(graph.node("teeth", piece).manifest.values["teeth"], self.store.blobs) for t in tooth["tips_mm"]]
            )
            plane = np.linalg.lstsq(np.c_[tips[:, :2], np.ones(len(tips))], tips[:, 2], rcond=None)[0]
            normal = np.array([-plane[0], -plane[1], 1]) / np.linalg.norm([plane[0], plane[1], 1])
            self.assertLess(np.degrees(np.arccos(min(abs(normal @ feet[piece]["up"]), 1.0))), 0.5)
            body = unpack(graph.node("base", piece).manifest.values["body"], self.store.blobs)
            height = body.vertices_mm @ np.array(feet[piece]["up"])
            self.assertGreater((height < height.min() + 0.005).sum(), 200)

    def test_a_gap_counts_along_the_occlusal_plane_alone(self) -> None:
        graph, _ = self.based(parallel="own", height="gap")
        flags = self.flags(graph, "own-height")
        self.assertEqual(len(flags), 2)
        self.assertEqual(flags[0]["fix"]["values"], {"parallel": "occlusal"})
        graph, _ = self.based(parallel="own", flush=True, shape="squared")
        self.assertEqual(self.flags(graph, "own-height"), [])
        self.assertEqual(self.flags(graph, "own-backs")[0]["fix"]["values"], {"parallel": "occlusal"})

    def test_drafted_backs_lean_and_upright_ones_say_nothing(self) -> None:
        for draft in (0.0, 3.0):
            graph, _ = self.based(flush=True, shape="squared", draft_deg=draft)
            self.assertEqual(len(self.flags(graph, "leaning-backs")), int(draft > 0))
            self.assertEqual(self.flags(graph, "own-backs"), [])

    def test_pins_ask_for_parallel_bases(self) -> None:
        settings = {"base": {"*": {"parallel": "own"}}, "articulate": {"*": {"style": "pins"}}}
        graph = evaluate(self.document.model_copy(update={"settings": settings}), CASE, self.store, until="articulate").graph
        (flag,) = [f for f in graph.node("articulate").manifest.flags if f["code"] == "no-pins"]
        self.assertEqual(flag["fix"]["values"], {"parallel": "occlusal"})

    def test_a_closed_model_stands_on_its_own_base_or_is_cut_lower(self) -> None:
        both = arches(3, palate=False)
        store = known_store()
        model = closed_model(both.lower, upper=False)
        document = case(store, model, trim={"*": {"bottom_saw": False, "back_saw": False}})
        for base_, tall in (({}, np.ptp(model.vertices_mm[:, 2])), ({"height": "total", "total_mm": 16.0}, 16.0)):
            settings = {**document.settings, "base": {"*": base_}}
            graph = evaluate(document.model_copy(update={"settings": settings}), CASE, store, until="base").graph
            (piece,) = graph.jaws
            node = graph.node("base", piece)
            self.assertIn("own-base", {f["code"] for f in node.manifest.flags}, node.manifest.flags)
            body = unpack(node.manifest.values["body"], store.blobs)
            self.assertTrue(check_solid(body).ok)
            foot = unpack(graph.node("foot", "*").manifest.values["foot"], store.blobs)[piece]
            self.assertAlmostEqual(np.ptp(body.vertices_mm @ np.array(foot["up"])), tall, delta=0.6 if not base_ else 0.005)

    def test_a_cut_that_goes_through_the_palate_is_said(self) -> None:
        model, store = closed_model(arches(3).upper, upper=True), known_store()
        document = case(store, model, trim={"*": {"bottom_saw": False, "back_saw": False}})
        said, tall = {}, float(np.ptp(model.vertices_mm[:, 2]))
        # At 17 and 19 mm the cut leaves bits that hang on nothing: they go, and what is left is one solid.
        for total_mm in (round(tall - 1.5, 1), 19.0, 17.0, 12.0):
            settings = {**document.settings, "base": {"*": {"height": "total", "total_mm": total_mm}}}
            graph = evaluate(document.model_copy(update={"settings": settings}), CASE, store, until="base").graph
            (node,) = (graph.node("base", piece) for piece in graph.jaws)
            said[total_mm] = {f["code"]: f.get("fix") for f in node.manifest.flags}
            self.assertTrue(check_solid(unpack(node.manifest.values["body"], store.blobs)).ok)
        self.assertEqual([("cut-through" in flags) for flags in said.values()], [False, True, True, True], (tall, said))
        self.assertEqual(said[12.0]["cut-through"]["values"], {"height": "under"})

    def test_a_closed_model_stays_closed_where_a_fold_is_cut_out_of_it(self) -> None:
        """What comes without a border has no rim: the largest hole is closed like the others."""
        model = closed_model(arches(3, palate=False).lower, upper=False)
        vertices = model.vertices_mm.copy()
        top = int((vertices[:, 2] + 0.1 * vertices[:, 0]).argmax())
        vertices[top] += [0.0, 1.6, -0.6]
        store = known_store()
        document = case(store, Mesh.of(vertices, model.faces), trim={"*": {"bottom_saw": False, "back_saw": False}})
        graph = evaluate(document, CASE, store, until="base").graph
        (piece,) = graph.jaws
        self.assertIn("fold", {f["code"] for f in graph.node("clean", piece).manifest.flags})
        self.assertEqual(border_loops(unpack(graph.node("clean", piece).manifest.values["mesh"], store.blobs)), [])
        self.assertIn("own-base", {f["code"] for f in graph.node("base", piece).manifest.flags})

    def test_walls_are_even(self) -> None:
        """More than 2 mm from corners sharper than a radius of 5 mm, 98 % of the foot lie to 0.05 mm on the circle through what is 2 mm
        around; and no corner is sharper than 2 mm."""
        graph, _ = self.based()
        for piece in graph.jaws:
            walls = unpack(graph.node("base", piece).manifest.values["walls"], self.store.blobs)
            for ring in walls["rings"]:
                off, radius = evenness(np.array(ring))
                straight = cKDTree(np.array(ring)[radius < 5]).query(np.array(ring))[0] > 2 if (radius < 5).any() else radius > 0
                self.assertLess(np.quantile(off[straight], 0.98), 0.05)
                self.assertGreater(radius.min(), 2.0)

    def test_a_notch_is_cut_where_it_is_asked_and_goes_with_label_and_cavity(self) -> None:
        graph, _ = self.based(step="assemble", notch=True, thickness_mm=4.0)
        for piece in graph.jaws:
            notched = unpack(graph.node("notch", piece).manifest.values["notch"], self.store.blobs)
            whole, cut = (unpack(graph.node(s, piece).manifest.values["body"], self.store.blobs) for s in ("base", "assemble"))
            self.assertTrue(check_solid(cut).ok)
            taken = (volume_ml(whole) - volume_ml(cut)) * 1000
            self.assertGreater(taken, 0.5 * WIDE_MM * DEEP_MM * HIGH_MM / 2)
            self.assertLess(taken, 1.5 * WIDE_MM * DEEP_MM * HIGH_MM)
            scan = whole.vertices_mm[np.unique(whole.faces[whole.groups == GROUP_SCAN])]
            self.assertGreater(cKDTree(scan).query(np.array(notched["line"]))[0].min(), 0.7)


def evenness(ring: NDArray[np.float64], *, reach_mm: float = 2.0) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Of every place of a ring, how far (mm) what is around it lies off the circle that fits that best (Kåsa 1976), and its radius."""
    step = np.linalg.norm(np.roll(ring, -1, axis=0) - ring, axis=1)
    run = np.r_[0.0, np.cumsum(step)]
    total, run = run[-1], run[:-1]
    out, radii = np.zeros(len(ring)), np.zeros(len(ring))
    for k in range(len(ring)):
        off = np.abs(run - run[k])
        near = ring[np.minimum(off, total - off) < reach_mm] - ring[k]
        a, b, c = np.linalg.lstsq(np.c_[near, np.ones(len(near))], (near**2).sum(1), rcond=None)[0]
        radii[k] = np.sqrt(c + (a * a + b * b) / 4)
        out[k] = np.abs(np.linalg.norm(near - [a / 2, b / 2], axis=1) - radii[k]).max()
    return out, radii


class NotchTest(unittest.TestCase):
    def test_in_a_block_its_volume_is_known(self) -> None:
        block = made_block((60.0, 30.0, 12.0))
        wall = free_wall(block)
        assert wall
        made = notch(wall, bottom=0.0, asked=np.array([30.0, 0.0, 1.0]))
        assert made
        self.assertLess(np.linalg.norm(made.at_mm[:2] - [30, 0]), 0.5)
        done = assemble(block, cut=[("the notch", made.mesh)]).body
        self.assertTrue(check_solid(done).ok)
        exact = WIDE_MM * DEEP_MM * (HIGH_MM + 0.6) / 2
        self.assertAlmostEqual((volume_ml(block) - volume_ml(done)) * 1000 / exact, 1, places=6)
