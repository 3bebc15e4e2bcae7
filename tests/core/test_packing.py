"""Packing by shape: gaps by exact distances of another library, boxes beside a library that packs boxes, locked ones stay."""

from __future__ import annotations

import unittest
from itertools import pairwise

import numpy as np
import rectpack
import shapely
from shapely import affinity

from bitecore.mesh import Mesh
from bitecore.ops.packing import CELL_MM, Foot, Spot, box_foot, foot_of, packed
from bitecore.parts.arranging import apart_mm, by_shape, in_row
from bitecore.parts.laying import Laid
from tests.shapes import box

GAP_MM = 3.0


def horseshoe(wide: float = 60.0, deep: float = 50.0, thick: float = 14.0) -> shapely.Polygon:
    """Like a jaw's model from above: an arch that is open behind."""
    outer = affinity.scale(shapely.Point(0, 0).buffer(1.0, 64), wide / 2, deep)
    inner = affinity.scale(shapely.Point(0, 0).buffer(1.0, 64), wide / 2 - thick, deep - thick)
    return (outer - inner) & shapely.box(-wide, -2 * deep, wide, 0)


def flat(shape: shapely.Polygon) -> Mesh:
    """A plate of this outline: its triangles, as a surface."""
    triangles = [t for t in shapely.delaunay_triangles(shape.segmentize(2.0)).geoms if shape.buffer(1e-6).contains(t)]
    points = np.array([np.c_[np.array(t.exterior.coords)[:3], np.zeros(3)] for t in triangles]).reshape(-1, 3)
    return Mesh.of(points, np.arange(len(points)).reshape(-1, 3))


def lies(shape: shapely.Polygon, matrix: np.ndarray) -> shapely.Polygon:
    a = matrix[:2, :2]
    return affinity.affine_transform(shape, [a[0, 0], a[0, 1], a[1, 0], a[1, 1], matrix[0, 3], matrix[1, 3]])


class PackingTest(unittest.TestCase):
    def arranged(self, shapes: dict[str, shapely.Polygon], room: tuple[float, float], row: list[str] | None = None, **asked) -> dict:  # noqa: ANN003
        """What lies where, gaps and edges looked at."""
        bodies = {name: flat(shape) for name, shape in shapes.items()}
        laid: dict[str, Laid] = {}
        for name, shape in shapes.items():
            low = np.array(shape.bounds[:2])
            laid[name] = (np.array([[1, 0, 0, -low[0]], [0, 1, 0, -low[1]], [0, 0, 1, 0], [0, 0, 0, 1.0]]), np.array([0, 0, 1.0]))
            laid[name][1][:2] = np.array(shape.bounds[2:]) - low
        kit = in_row({name: laid[name] for name in row or ()}, 0, GAP_MM)[0] if row else {}
        places, self.left = by_shape(laid, bodies, room, gap_mm=GAP_MM, kits=[kit], **asked)
        there = {name: lies(shapes[name], matrix) for name, matrix in places.items()}
        for name, shape in there.items():
            self.assertTrue(shapely.box(-1e-6, -1e-6, room[0] + 1e-6, room[1] + 1e-6).contains(shape), name)
            for other, theirs in there.items():
                if other != name:
                    self.assertGreaterEqual(shape.distance(theirs), GAP_MM - 1e-6, (name, other))
        return there

    def test_dies_lie_within_arches_where_boxes_would_not_fit(self) -> None:
        sizes = [(60, 50)] * 6 + [(18, 18)] * 6
        shapes = {f"m{k}": horseshoe() for k in range(6)} | {f"d{k}": shapely.box(0, 0, 18, 18) for k in range(6)}
        self.arranged(shapes, (194.0, 120.0))
        self.assertEqual(self.left, [])
        # The same as boxes, by a library that packs boxes (turned too).
        boxes = rectpack.newPacker(rotation=True)
        for size in sizes:
            boxes.add_rect(*(int(10 * (s + GAP_MM)) for s in size))
        boxes.add_bin(*(int(10 * (s + GAP_MM)) for s in (194, 120)))
        boxes.pack()
        self.assertLess(len(boxes.rect_list()), len(sizes))

    def test_of_any_shapes_none_lies_too_near(self) -> None:
        rng = np.random.default_rng(3)
        for _ in range(2):
            shapes = {
                f"m{k}": affinity.rotate(horseshoe(*rng.uniform([40, 35, 9], [70, 55, 16])), float(rng.uniform(0, 360)), origin=(0, 0))
                for k in range(6)
            }
            there = self.arranged(shapes, (194.0, 120.0))
            self.assertEqual(set(there) | set(self.left), set(shapes))

    def test_boxes_are_packed_as_well_as_by_a_library_of_boxes(self) -> None:
        rng = np.random.default_rng(5)
        ours = theirs = 0
        for _ in range(3):
            sizes = np.round(rng.uniform(15, 60, (14, 2)))
            made = packed({f"b{k}": box_foot(s) for k, s in enumerate(sizes)}, np.array([140.0, 110.0]), gap_mm=GAP_MM)
            # As sure as with outlines of any shape: gaps are a cell's diagonal wider on both sides than they have to be here.
            other = rectpack.newPacker(rotation=True)
            for w, d in sizes:
                other.add_rect(int(w + GAP_MM + 2), int(d + GAP_MM + 2))
            other.add_bin(int(140 + GAP_MM + 2), int(110 + GAP_MM + 2))
            other.pack()
            ours += sum(int(np.prod(sizes[int(name[1:])])) for name in made.spots)
            theirs += sum((r[3] - GAP_MM - 2) * (r[4] - GAP_MM - 2) for r in other.rect_list())
        self.assertGreater(ours, 0.97 * theirs)

    def test_dies_stay_together_in_a_row(self) -> None:
        shapes = {f"m{k}": horseshoe() for k in range(4)} | {f"d{k}": shapely.box(0, 0, 9 + k, 12) for k in range(5)}
        there = self.arranged(shapes, (194.0, 120.0), row=[f"d{k}" for k in range(5)])
        self.assertEqual(self.left, [])
        for one, two in pairwise(f"d{k}" for k in range(5)):
            self.assertAlmostEqual(there[one].distance(there[two]), GAP_MM, places=2)

    def test_dies_that_have_no_room_in_a_row_lie_where_there_is_some_with_room_for_their_rafts(self) -> None:
        shapes = {f"m{k}": horseshoe() for k in range(2)} | {f"d{k}": shapely.box(0, 0, 10, 10) for k in range(3)}
        row = [f"d{k}" for k in range(3)]
        there = self.arranged(shapes, (126.0, 56.0), row=row, rafts_mm=dict.fromkeys(row, 3.0))
        self.assertEqual(self.left, [])
        for name in row:
            around = there[name].buffer(3.0)
            self.assertTrue(shapely.box(0, 0, 126, 56).buffer(1e-6).contains(there[name].buffer(3.0, join_style="mitre")), name)
            for other in set(there) - {name}:
                theirs = there[other].buffer(3.0) if other in row else there[other]
                self.assertGreaterEqual(around.distance(theirs), GAP_MM - 0.01, (name, other))

    def test_what_is_locked_stays_and_nothing_lies_too_near_to_it(self) -> None:
        shapes = {f"m{k}": horseshoe() for k in range(4)} | {"d": affinity.rotate(shapely.box(0, 0, 30, 12), 31, origin=(0, 0))}
        low = np.array(shapes["d"].bounds[:2])
        stays = np.array([[1, 0, 0, 83.13 - low[0]], [0, 1, 0, 41.77 - low[1]], [0, 0, 1, 0], [0, 0, 0, 1.0]])
        there = self.arranged(shapes, (194.0, 120.0), locked={"d": stays})
        self.assertEqual(self.left, [])
        self.assertTrue(there["d"].equals_exact(lies(shapes["d"], stays), 1e-9))

    def test_how_near_two_lie_is_told_as_another_library_tells_it(self) -> None:
        rng = np.random.default_rng(8)
        for k in range(12):
            one, two = horseshoe(), affinity.rotate(shapely.box(0, 0, 20, 9), float(rng.uniform(0, 180)), origin=(0, 0))
            two = affinity.translate(two, *rng.uniform([-30, -25], [75, 60]))
            told = apart_mm({"a": flat(one), "b": flat(two)}, {"a": np.eye(4), "b": np.eye(4)}, ["b"])
            far = one.distance(two)
            if far == 0:
                self.assertEqual([mm for _, _, mm in told], [0.0], k)
            elif far < 29:
                self.assertLess(abs(told[0][2] - far), 0.3, k)

    def test_fronts_look_to_the_middle_where_it_costs_little(self) -> None:
        bodies = {f"m{k}": flat(horseshoe()) for k in range(4)}
        feet = {name: foot_of(b.vertices_mm, b.faces, front=(0.0, -1.0)) for name, b in bodies.items()}
        room = np.array([194.0, 120.0])

        def inwards(weight: float) -> float:
            made, out = packed(feet, room, gap_mm=GAP_MM, inwards_mm=weight, tries=0), 0.0
            for name, spot in made.spots.items():
                turn = np.radians(90 * spot.turn - 90)
                cells = np.array(np.rot90(feet[name].cells, spot.turn).shape)
                out += float(np.array([np.cos(turn), np.sin(turn)]) @ (room / 2 - spot.at - CELL_MM * cells / 2))
            return out

        self.assertGreater(inwards(15.0), inwards(0.0))

    def test_none_looks_away_that_could_be_turned_about_where_it_lies(self) -> None:
        for count, room in ((2, (194.0, 120.0)), (4, (194.0, 120.0)), (5, (150.0, 190.0)), (6, (194.0, 170.0))):
            shapes = {f"m{k}": horseshoe(58.0 + k, 47.0 + k) for k in range(count)}
            there = self.arranged(shapes, room)
            middle = np.array(shapely.unary_union(list(there.values())).envelope.centroid.coords[0])
            for name, shape in there.items():
                # The closed side of an arch is where its surface's centroid lies, seen from the middle of its box.
                own = np.array(shape.envelope.centroid.coords[0])
                looks = np.array(shape.centroid.coords[0]) - own
                about = affinity.rotate(shape, 180, origin=shape.envelope.centroid)
                free = all(about.distance(other) > GAP_MM + 1.5 for n, other in there.items() if n != name)
                self.assertTrue(looks @ (middle - own) > -1.0 or not free, (count, name))

    def test_what_is_locked_stays_and_the_rest_goes_to_more_plates(self) -> None:
        feet = {f"b{k}": box_foot(np.array([60.0, 40.0])) for k in range(5)}
        stays = Spot(0, 1, np.array([40.0, 20.0]))
        made = packed(feet, np.array([120.0, 90.0]), gap_mm=GAP_MM, plates=3, locked={"b3": stays})
        self.assertIs(made.spots["b3"], stays)
        self.assertEqual((made.left, len(made.spots)), ([], 5))
        self.assertGreater(made.plates, 1)
        taken = np.zeros((3, 300, 300), int)
        for name, spot in made.spots.items():
            cells = np.rot90(feet[name].cells, spot.turn)
            x, y = np.round(spot.at / CELL_MM).astype(int)
            taken[spot.plate, x : x + cells.shape[0], y : y + cells.shape[1]] += 1
        self.assertEqual(taken.max(), 1)
        self.assertEqual(packed({"wide": box_foot(np.array([150.0, 95.0]))}, np.array([120.0, 90.0]), gap_mm=GAP_MM).left, ["wide"])

    def test_a_foot_is_what_a_body_covers(self) -> None:
        body = box((10.0, 6.0, 4.0))
        foot = foot_of(body.vertices_mm, body.faces)
        self.assertEqual(foot.cells.shape, (21, 13))
        self.assertTrue(foot.cells.all())
        np.testing.assert_allclose(foot.low, [0, 0])
        wide = foot_of(body.vertices_mm, body.faces, room_mm=3.0)
        # Round corners: the area of a box with a rim, in closed form, plus half a cell all round.
        area = (10 * 6 + 2 * 3 * 16 + np.pi * 9) + 0.5 * CELL_MM * (2 * 16 + 2 * np.pi * 3)
        self.assertAlmostEqual(wide.cells.sum() * CELL_MM**2 / area, 1.0, delta=0.03)
        self.assertEqual(type(foot), Foot)
