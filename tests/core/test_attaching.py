"""House parts on a base: cubes on flat and round walls in closed form, and one on the base of a jaw."""

from __future__ import annotations

import unittest

import manifold3d
import numpy as np

from bitecore.errors import StepFailed
from bitecore.mesh import GROUP_CUT, GROUP_SCAN, Mesh, volume_ml
from bitecore.mesh.topology import check_solid
from bitecore.parts.attaching import SUNK_MM, Attached, attached, flat_faces
from bitecore.runsheet import CASE, MemoryStore, evaluate
from tests.core.test_runsheet import case
from tests.shapes import box, light_jaws, manifold, turn

UP, FRONT = np.array([0.0, 0.0, 1.0]), np.array([0.0, -1.0, 0.0])


def made(mesh: Mesh) -> Mesh:
    return Mesh.of(mesh.vertices_mm, mesh.faces, np.full(mesh.triangles, GROUP_CUT, np.uint8))


def column(radius_mm: float) -> Mesh:
    """A cylinder about z, 30 mm high, of 720 sides."""
    out = manifold3d.Manifold.cylinder(30.0, radius_mm, circular_segments=720).to_mesh64()
    return made(Mesh.of(np.asarray(out.vert_properties)[:, :3], np.asarray(out.tri_verts).astype(np.int64)))


def on(body: Mesh, at: tuple, part: Mesh, **more: float) -> Attached:
    face = flat_faces(part)[int(more.pop("face", 1)) - 1]
    return attached(body, part, face, np.array(at, float), turn_deg=more.get("turn_deg", 0.0), up=UP, front=FRONT, name="The part")


class ClosedFormTest(unittest.TestCase):
    def test_a_part_of_two_bodies_is_told_so(self) -> None:
        one = box((3.0, 3.0, 4.0))
        two = made(Mesh.of(np.vstack([one.vertices_mm, one.vertices_mm + [10, 0, 0]]), np.vstack([one.faces, one.faces + 8])))
        with self.assertRaisesRegex(StepFailed, "is 2 bodies"):
            on(made(box((40.0, 40.0, 30.0))), (20.0, 0.0, 15.0), two)

    def test_the_flat_faces_of_a_box_are_its_six_sides_the_largest_first(self) -> None:
        found = flat_faces(box((2.0, 4.0, 9.0)).moved(turn(3)))
        self.assertEqual([round(f.area_mm2, 6) for f in found], [36.0, 36.0, 18.0, 18.0, 8.0, 8.0])
        back = turn(3)[:3, :3].T
        self.assertLess(np.abs(np.abs(back @ found[0].out) - [1, 0, 0]).max(), 1e-9)
        self.assertLess(np.abs(np.abs(back @ found[0].along) - [0, 0, 1]).max(), 1e-9)

    def test_on_a_flat_wall_it_is_sunk_and_one_body_and_turned_as_asked(self) -> None:
        base = made(box((40.0, 30.0, 20.0)))
        for turned, size in ((0.0, (9.0, 4.0)), (90.0, (4.0, 9.0))):
            # Its largest face on the front wall: the longest way level, or upright.
            done = on(base, (20.0, 0.0, 10.0), box((2.0, 4.0, 9.0)).moved(turn(5)), turn_deg=turned)
            low, high = done.solid.vertices_mm.min(0), done.solid.vertices_mm.max(0)
            self.assertLess(np.abs((high - low) - [size[0], 2.0, size[1]]).max(), 1e-6)
            self.assertLess(np.abs([low[1] + 2.0 - SUNK_MM, (low + high)[0] / 2 - 20, (low + high)[2] / 2 - 10]).max(), 1e-6)
            self.assertEqual((done.round_mm, done.covers_mm2, done.past_mm), (0.0, 0.0, 0.0))
            both = manifold(base) + manifold(done.solid)
            self.assertAlmostEqual(both.volume(), 40 * 30 * 20 + 36 * (2.0 - SUNK_MM), places=5)

    def test_to_a_round_wall_its_face_is_carried_by_as_much_as_it_falls_away(self) -> None:
        base = column(20.0)
        done = on(base, (0.0, -20.0, 15.0), box((10.0, 10.0, 10.0)))
        # The sagitta of a chord of 10 mm, less what it is sunk.
        self.assertAlmostEqual(done.round_mm, 20 - np.sqrt(20**2 - 5**2) - SUNK_MM, delta=0.03)
        both = manifold(base) + manifold(done.solid)
        self.assertEqual(len(both.decompose()), 1)
        # The cube, and between it and the wall the segment under the chord: no crack is left.
        half = np.arcsin(5 / 20)
        segment = 20**2 * (half - np.sin(half) * np.cos(half))
        between = 10 * (10 * (20 - 20 * np.cos(half)) - segment)
        self.assertAlmostEqual(both.volume(), manifold(base).volume() + 1000 - 10 * 10 * SUNK_MM + between, delta=4.0)

    def test_where_it_cannot_stand_is_said(self) -> None:
        with self.assertRaisesRegex(StepFailed, "the base falls away by more than 4 mm"):
            on(column(3.0), (0.0, -3.0, 15.0), box((12.0, 12.0, 12.0)))
        with self.assertRaisesRegex(StepFailed, "nothing of the base is any more"):
            on(made(box()), (9.0, 9.0, 9.0), box((4.0, 4.0, 4.0)))
        scanned = box((40.0, 30.0, 20.0))
        scanned = Mesh.of(scanned.vertices_mm, scanned.faces, np.full(12, GROUP_SCAN, np.uint8))
        with self.assertRaisesRegex(StepFailed, "on the scan"):
            on(scanned, (20.0, 0.0, 10.0), box((4.0, 4.0, 4.0)))
        under = on(made(box((40.0, 30.0, 20.0))), (20.0, 15.0, 0.0), box((5.0, 5.0, 5.0)))
        self.assertAlmostEqual(under.past_mm, 5.0 - SUNK_MM, delta=1e-4)


class JawTest(unittest.TestCase):
    def test_a_part_brought_in_as_a_file_is_one_body_with_the_base_and_the_scan_stays(self) -> None:
        store = MemoryStore()
        part = manifold3d.Manifold.cube([3.0, 2.0, 2.5]).refine(3).to_mesh64()
        cube = Mesh.of(np.asarray(part.vert_properties)[:, :3], np.asarray(part.tri_verts).astype(np.int64)).moved(turn(7))
        plain = case(store, light_jaws(21)[1], cube, intake={"p2": {"kind": "part"}})
        graph = evaluate(plain, CASE, store, until="assemble").graph
        base = Mesh.from_bytes(store.blobs.read(graph.node("base", "p1").mesh("body")))
        self.assertEqual(graph.kinds, {"p2": "part"})
        foot = graph.node("foot").json("foot", "p1")
        up, front = np.array(foot["up"]), np.array(foot["front"])
        # In the middle of the back or front wall, by a look at the base itself.
        corner = base.vertices_mm[base.faces]
        wall, normal = corner.mean(1), np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
        upright = (np.abs(normal @ up) < 1e-6) & (base.groups != GROUP_SCAN)
        at = wall[upright][int((wall[upright] @ front).argmax())]
        entry = {"scan": "p2", "at": at.tolist()}
        done = evaluate(plain.model_copy(update={"settings": plain.settings | {"attach": {"p1": {"parts": {"p1": entry}}}}}), CASE, store)
        node = done.graph.node("attach", "p1")
        self.assertEqual([f["code"] for f in node.manifest.flags if f["severity"] != "look"], ["attached"], node.manifest.flags)
        body = Mesh.from_bytes(store.blobs.read(done.graph.node("assemble", "p1").mesh("body")))
        check = check_solid(body)
        self.assertEqual((check.ok, check.components), (True, 1))
        self.assertGreater(volume_ml(body), volume_ml(base) + 0.01)
        self.assertEqual(int((body.groups == GROUP_SCAN).sum()), int((base.groups == GROUP_SCAN).sum()))
        off = plain.settings | {"attach": {"p1": {"parts": {"p1": entry | {"scan": "p9"}}}}}
        gone = evaluate(plain.model_copy(update={"settings": off}), CASE, store, until="attach").graph
        self.assertEqual([f["code"] for f in gone.node("attach", "p1").manifest.flags], ["part-gone"])
