"""The cavity: walls by another library's rays and distances, what stays inside by flood fill, closed forms on boxes."""

from __future__ import annotations

import unittest

import igl
import manifold3d
import numpy as np
import trimesh
from scipy import ndimage

from bitecore.engine.gives import unpack
from bitecore.mesh import Mesh, check_solid, face_components, volume_ml
from bitecore.ops.assembly import assemble
from bitecore.ops.cavity import Keep, cavity
from bitecore.ops.drains import Ask, drains
from bitecore.ops.nearby import nearby
from bitecore.ops.voxels import voxels
from bitecore.runsheet import CASE, evaluate
from tests.core.known import known_store
from tests.core.test_runsheet import case
from tests.shapes import box, sphere
from tests.shapes import light_jaws as jaws

FRONT = np.array([0.0, -1.0, 0.0])


def kept_back_ml(solid: Mesh, *, floor: float, plate: bool, cell: float = 0.4) -> float:
    """Of resin poured out: what cannot flow off from inside a body, by flood fill of another grid; plate: the body stands on one.

    Everything empty that is reached from outside without climbing (26 neighbours) flows off.
    """
    grid = voxels(solid, cell=cell, pad=4 * cell, phase=(0.3819, 0.2361, 0.0902))
    full = grid.inside.copy()
    if plate:
        full[:, :, : int(np.ceil((floor - grid.low[2]) / cell))] = True
    flows = np.zeros_like(full)
    for level in range(full.shape[2]):
        empty = ~full[:, :, level]
        label, _ = ndimage.label(empty)
        seeds = np.unique(np.r_[label[0], label[-1], label[:, 0], label[:, -1]])
        if level:
            seeds = np.union1d(seeds, np.unique(label[flows[:, :, level - 1]]))
        flows[:, :, level] = np.isin(label, seeds[seeds > 0])
    # From above downwards: what stands on resin that flows off follows it.
    return float((~full & ~flows).sum()) * cell**3 / 1000


class VoxelTest(unittest.TestCase):
    def test_volume_in_closed_form_and_beside_the_winding_number(self) -> None:
        grid = voxels(sphere(10, 48), cell=0.25, pad=1.0)
        self.assertAlmostEqual(grid.volume_ml / (4 / 3 * np.pi), 1, delta=0.01)
        body = box((7, 5, 3))
        grid = voxels(body, cell=0.5, pad=1.0)
        points = np.argwhere(np.ones_like(grid.inside)) * grid.cell + grid.low
        theirs = igl.fast_winding_number(body.vertices_mm, body.faces.astype(np.int64), points) > 0.5
        self.assertEqual(int((theirs != grid.inside.ravel()).sum()), 0)

    def test_overlapping_parts_are_one(self) -> None:
        a, b = box((10, 10, 10)), box((10, 10, 10))
        both = Mesh.of(
            np.vstack([a.vertices_mm, b.vertices_mm + [5, 0, 0]]), np.vstack([a.faces, b.faces + len(a.vertices_mm)])
        )  # fmt: skip
        self.assertAlmostEqual(voxels(both, cell=0.5, pad=1.0).volume_ml, 1.5, delta=0.12)


class NearbyTest(unittest.TestCase):
    def test_beside_a_distance_transform_of_another_library(self) -> None:
        random = np.random.default_rng(4)
        for shape, share in (((40, 31, 23), 0.002), ((17, 50, 9), 0.05), ((1, 6, 1), 0.3), ((8, 8, 8), 0.0)):
            marked = random.random(shape) < share
            theirs = ndimage.distance_transform_edt(~marked) if marked.any() else np.full(shape, np.inf)
            for within in (1, 4, 9):
                off, which = nearby(marked, within=within)
                near = theirs <= within
                np.testing.assert_allclose(off[near], theirs[near], atol=1e-5)
                self.assertTrue((off[~near] > within).all())
                place = np.stack(np.unravel_index(which[near], shape), 1)
                self.assertTrue(marked[tuple(place.T)].all())
                np.testing.assert_allclose(np.linalg.norm(place - np.argwhere(near), axis=1), theirs[near], atol=1e-5)


class BoxTest(unittest.TestCase):
    def test_closed_box_has_its_wall_and_floor(self) -> None:
        """40 × 30 × 20 with 2 mm walls and a floor of 3 mm leaves 36 × 26 × 15, edges rounded by a ball of 1 mm."""
        made = cavity(box((40, 30, 20)), wall_mm=2.0, floor_mm=3.0)
        assert made.mesh is not None
        self.assertTrue(check_solid(made.mesh).ok)
        size = np.ptp(made.mesh.vertices_mm, axis=0)
        np.testing.assert_allclose(size, [36, 26, 15], atol=0.2)
        rounded = (36 * 26 * 15 - (1 - np.pi / 4) * 4 * (36 + 26 + 15)) / 1000
        self.assertAlmostEqual(volume_ml(made.mesh) / rounded, 1, delta=0.02)
        self.assertGreater(made.thinnest_mm, 1.95)

    def test_open_box_comes_out_at_the_floor(self) -> None:
        body = box((40, 30, 20))
        made = cavity(body, wall_mm=2.0, floor_mm=None)
        assert made.mesh is not None
        done = assemble(body, cut=[("the cavity", made.mesh)]).body
        self.assertTrue(check_solid(done).ok)
        low = done.vertices_mm[:, 2].min()
        self.assertAlmostEqual(low, body.vertices_mm[:, 2].min(), places=9)
        # 36 × 26 × 18 is taken out, the ceiling's edges and the upright ones rounded.
        rounded = (36 * 26 * 18 - (1 - np.pi / 4) * (2 * (36 + 26) + 4 * 18)) / 1000
        self.assertAlmostEqual((volume_ml(body) - volume_ml(done)) / rounded, 1, delta=0.02)

    def hill(self, thick: float) -> Mesh:
        """20 × 20 × 14 on a plate of 60 × 60."""
        cube = manifold3d.Manifold.cube
        out = (cube([60, 60, thick]) + cube([20, 20, 14]).translate([20, 20, 0])).to_mesh64()
        return Mesh.of(np.asarray(out.vert_properties)[:, :3], np.asarray(out.tri_verts))

    def test_a_drain_through_a_thin_land_stays_under_its_top(self) -> None:
        """Resting on a floor of 2 mm, one 3 mm wide would come within 0.1 mm of the top of a land of 5 mm: it sinks into the floor."""
        for thick, low, high in ((5.0, 1.2, 4.2), (9.0, 1.9, 4.9)):
            body = self.hill(thick)
            room = cavity(body, wall_mm=2.0, floor_mm=2.0).mesh
            assert room
            made = drains(body, room, Ask(wall_mm=2.0, wide_mm=3.0, front=FRONT, floor_mm=2.0))
            self.assertEqual(len(made), 3)
            for each in made:
                self.assertAlmostEqual(float(each.mesh.vertices_mm[:, 2].min()), low, delta=0.05, msg=f"land of {thick} mm")
                self.assertAlmostEqual(float(each.mesh.vertices_mm[:, 2].max()), high, delta=0.05)

    def test_under_a_thin_land_there_is_no_film(self) -> None:
        """Of a thin land the room is the hill's alone, of a thick one the land's too."""
        for thick, least, most in ((2.3, 15.0, 17.0), (3.4, 15.0, 19.0), (5.0, 55.0, 57.0)):
            made = cavity(self.hill(thick), wall_mm=2.0, floor_mm=None).mesh
            assert made
            self.assertTrue(check_solid(made).ok)
            wide = float(np.ptp(made.vertices_mm[made.vertices_mm[:, 2] < 0.2, 0]))
            self.assertTrue(least < wide < most, f"plate of {thick} mm: {wide:.1f} mm")

    def test_too_thick_a_wall_leaves_no_room(self) -> None:
        self.assertIsNone(cavity(box((9, 9, 9)), wall_mm=4.0, floor_mm=2.0).mesh)

    def test_a_small_room_beside_a_large_one_is_worth_no_drains(self) -> None:
        """Two boxes on one thin plate: of the smaller 5 × 8 × 5 mm would be room, 0.2 ml at most."""
        cube = manifold3d.Manifold.cube
        both = cube([40, 30, 20]) + cube([13, 12, 2]).translate([39.9, 0, 0]) + cube([9, 12, 9]).translate([44, 0, 0])
        out = both.to_mesh64()
        body = Mesh.of(np.asarray(out.vert_properties)[:, :3], np.asarray(out.tri_verts).astype(np.int64))
        made = cavity(body, wall_mm=2.0, floor_mm=2.0)
        assert made.mesh is not None
        self.assertEqual(face_components(made.mesh)[0], 1)
        self.assertLess(made.mesh.vertices_mm[:, 0].max(), 39)
        alone = cavity(box((9, 12, 9)), wall_mm=2.0, floor_mm=2.0)
        assert alone.mesh is not None
        self.assertGreater(volume_ml(alone.mesh), 0.1)

    def test_keeps_off_what_is_reserved(self) -> None:
        keep = Keep(np.array([20.0, 15, -1]), np.array([20.0, 15, 21]), 2.0)
        made = cavity(box((40, 30, 20)), wall_mm=2.0, floor_mm=None, keep=[keep])
        assert made.mesh is not None
        inside = made.mesh.vertices_mm[made.mesh.vertices_mm[:, 2] > 0.1]
        self.assertAlmostEqual(np.linalg.norm(inside[:, :2] - [20, 15], axis=1).min(), 4.0, delta=0.15)

    def test_drains_let_everything_out_and_without_them_it_stays(self) -> None:
        """A solid with a known pocket: the flood fill has to find it first."""
        body = box((40, 30, 20))
        floor = float(body.vertices_mm[:, 2].min())
        for floor_mm, inside in ((None, 36 * 26 * 18 / 1000), (2.0, 36 * 26 * 16 / 1000)):
            made = cavity(body, wall_mm=2.0, floor_mm=floor_mm)
            assert made.mesh is not None
            shut = assemble(body, cut=[("the cavity", made.mesh)]).body
            self.assertAlmostEqual(kept_back_ml(shut, floor=floor, plate=True) / inside, 1, delta=0.03)
            out = drains(body, made.mesh, Ask(wall_mm=2.0, wide_mm=3.0, floor_mm=floor_mm, front=FRONT))
            self.assertEqual(len(out), 3)
            done = assemble(body, cut=[("the cavity", made.mesh), *((f"drain {n}", d.mesh) for n, d in enumerate(out))]).body
            self.assertTrue(check_solid(done).ok)
            self.assertLess(kept_back_ml(done, floor=floor, plate=True), 0.05)


class JawTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.store = known_store()
        cls.document = case(cls.store, *jaws(21))

    def worked(self, **hollow: object):  # noqa: ANN201
        document = self.document.model_copy(update={"settings": {"hollow": {"*": hollow}}})
        return evaluate(document, CASE, self.store).graph

    def body(self, graph, step: str, piece: str) -> Mesh:  # noqa: ANN001
        return unpack(graph.node(step, piece).manifest.values["body"], self.store.blobs)

    def test_walls_drains_and_the_scan_on_both_jaws(self) -> None:
        for hollow in ({"style": "open"}, {"style": "closed", "wall_mm": 1.6}):
            graph = self.worked(**hollow)
            for piece in graph.jaws:
                with self.subTest(**hollow, jaw=graph.jaws[piece]):
                    self.hold(graph, piece, float(hollow.get("wall_mm", 2.0)), open_below=hollow["style"] == "open")

    def hold(self, graph, piece: str, wall: float, *, open_below: bool) -> None:  # noqa: ANN001
        solid, made = self.body(graph, "base", piece), self.body(graph, "assemble", piece)
        self.assertTrue(check_solid(made).ok)
        self.assertEqual(face_components(made)[0], 1, "nothing is enclosed, nothing lies loose")
        up = np.array(graph.node("level").json("stand", piece)["up"])
        floor = float((solid.vertices_mm @ up).min())
        # The cavity's own surface: what neither the body had nor a drain cut.
        cut = next(s for s in unpack(graph.node("hollow", piece).manifest.values["solids"], self.store.blobs) if s.name == "the cavity")
        points = cut.mesh.vertices_mm[cut.mesh.vertices_mm @ up > floor + 0.05]
        off = (solid.vertices_mm[solid.faces] @ up < floor + 1e-6).all(1) if open_below else np.zeros(solid.triangles, bool)
        faces = solid.faces[~off].astype(np.int64)
        # Distances by libigl (Jacobson and others), another tree than ours.
        distance = np.sqrt(igl.point_mesh_squared_distance(points, solid.vertices_mm, faces)[0])
        self.assertGreater(distance.min(), wall - 0.05)
        # Rays straight out of the cavity by trimesh: the wall in their way is never thinner either, and mostly as asked.
        normals = trimesh.Trimesh(cut.mesh.vertices_mm, cut.mesh.faces, process=False).vertex_normals
        outward = normals[cut.mesh.vertices_mm @ up > floor + 0.05]
        pick = slice(None, None, max(len(points) // 400, 1))
        theirs = trimesh.Trimesh(solid.vertices_mm, faces, process=False)
        hit, ray, _ = theirs.ray.intersects_location(points[pick], outward[pick], multiple_hits=False)
        through = np.linalg.norm(hit - points[pick][ray], axis=1)
        self.assertGreater(through.min(), wall - 0.05)
        self.assertLess(np.median(through), wall + 0.6)
        # It lies on the plate as it will be printed.
        local = made.with_vertices(made.vertices_mm @ _frame(up).T)
        self.assertLess(kept_back_ml(local, floor=floor, plate=True), 0.1)
        amounts = graph.node("amounts", piece).json("amounts")
        self.assertAlmostEqual(amounts["made"]["ml"], trimesh.Trimesh(made.vertices_mm, made.faces, process=False).volume / 1000, places=5)
        self.assertAlmostEqual(amounts["solid"]["ml"], volume_ml(solid), places=5)
        self.assertLess(amounts["made"]["ml"], 0.75 * amounts["solid"]["ml"])

    def test_a_changed_wall_works_out_nothing_before_it(self) -> None:
        self.worked(style="open")
        document = self.document.model_copy(update={"settings": {"hollow": {"*": {"style": "open", "wall_mm": 2.4}}}})
        again = evaluate(document, CASE, self.store)
        steps = {n.step.name for n in again.graph.nodes.values() if n.task and n.task.key in again.worked}
        after = {"assemble", "amounts", "plate", "layers", "supports", "check", "takes", "ways"}
        self.assertLessEqual(steps, {"hollow", "drains", "styles", "wall-map", *after})

    def test_solid_is_off_and_costs_nothing(self) -> None:
        graph = self.worked()
        self.assertEqual({n.state for n in graph.of_step("hollow")}, {"off"})
        for piece in graph.jaws:
            self.assertEqual(graph.node("assemble", piece).manifest.values["body"], graph.node("base", piece).manifest.values["body"])

    def test_what_it_takes_is_told_where_the_plate_is_too_small(self) -> None:
        settings = {"hollow": {"*": {"style": "open"}}, "plate": {"*": {"printer": "wren", "gap_mm": 30.0}}}
        graph = evaluate(self.document.model_copy(update={"settings": settings}), CASE, self.store).graph
        self.assertEqual(graph.node("plate").state, "failed")
        for piece in graph.jaws:
            self.assertGreater(graph.node("amounts", piece).json("amounts")["solid"]["minutes"], 20)


def _frame(up: np.ndarray) -> np.ndarray:
    x = np.cross(np.eye(3)[int(np.abs(up).argmin())], up)
    x /= np.linalg.norm(x)
    return np.stack([x, np.cross(up, x), up])
