"""The base: closed, flat, true to the scan, and free of self-crossings by an independent measure."""

from __future__ import annotations

import unittest

import igl
import manifold3d
import numpy as np
import trimesh
from scipy.spatial import cKDTree

from bitecore.errors import StepFailed
from bitecore.mesh import GROUP_CUT, GROUP_SCAN, Mesh, border_loops, check_solid, face_normals, volume_ml
from bitecore.ops.base import Based, base
from bitecore.ops.border import border_points
from bitecore.ops.curtain import above_curtain, curtain_over
from bitecore.ops.holes import close_holes
from bitecore.ops.mend import mend
from bitecore.ops.upright import Plan
from bitecore.ops.walls import crossing_walls
from demo import rescans
from tests.shapes import dome, jaws, manifold, sheet, turn


def assert_printable(case: unittest.TestCase, body: Mesh) -> None:
    """Closed, one piece, outward, by three judges; and no part of it inside another by the winding number."""
    case.assertTrue(check_solid(body).ok, check_solid(body))
    theirs = trimesh.Trimesh(body.vertices_mm, body.faces, process=False)
    case.assertTrue(theirs.is_watertight and theirs.is_winding_consistent)
    case.assertAlmostEqual(theirs.volume / (volume_ml(body) * 1000), 1, places=9)
    case.assertGreater(theirs.volume, 0)
    solid = manifold(body)
    case.assertEqual(solid.status(), manifold3d.Error.NoError)
    case.assertAlmostEqual(solid.volume() / theirs.volume, 1, places=6)
    # 5 µm outside any face the generalised winding number (Jacobson 2013, libigl) is 0, and 5 µm inside it is 1;
    # where the surface crosses itself deeper than that it is -1 or 2.
    corner = body.vertices_mm[body.faces]
    normal = face_normals(body)
    good = np.linalg.norm(normal, axis=1) > 0.5
    pick = np.flatnonzero(good)
    pick = np.unique(np.r_[pick[:: max(len(pick) // 4000, 1)], np.flatnonzero(good & (body.groups == GROUP_CUT))])
    middle = corner[pick].mean(1)
    for side, inside in ((0.005, 0.0), (-0.005, 1.0)):
        w = igl.fast_winding_number(body.vertices_mm, body.faces.astype(np.int64), middle + side * normal[pick])
        wrong = np.abs(w - inside) > 0.5
        case.assertLess(wrong.mean(), 0.002, f"{wrong.sum()} of {len(pick)} probes")


class FoldedTest(unittest.TestCase):
    def test_a_border_that_lies_in_folds_is_freed(self) -> None:
        """Rescans whose triangles turn over at the border: no curtain alone frees their walls."""
        for jaw, up in ((jaws(3)[0], -1.0), (jaws(3)[1], 1.0)):
            mesh = mend(rescans.otherwise_meshed(mend(jaw).mesh, np.random.default_rng(2))).mesh
            made = base(mesh, up=[0, 0, up], plan=Plan(thickness_mm=2.0))
            self.assertLess(made.border_cut_mm, 10.0)
            # The rescan goes through itself in small folds that stay: here only the closing is judged.
            self.assertTrue(check_solid(made.body).ok)
            self.assertTrue(trimesh.Trimesh(made.body.vertices_mm, made.body.faces, process=False).is_watertight)


def around(made: Based, radius: float, tall: float, under: float = 0.0) -> float:
    """mm³ of what stands around a round border of this radius at the height `under`: the ring under the shelf, which falls
    evenly from the border to the wall (in closed form). The wall stands a quarter to two thirds of a millimetre away."""
    points = made.body.vertices_mm[np.unique(made.body.faces[made.body.groups == GROUP_CUT])]
    far, out = np.linalg.norm(points[:, :2], axis=1), float(np.linalg.norm(made.outline[0], axis=1).mean())
    edge = points[(np.abs(far - out) < 0.05) & (points[:, 2] > under - tall + 0.1)]
    drop = under - float(np.median(edge[:, 2]))
    assert radius + 0.25 < out < radius + 0.67, out
    outer, inner = np.pi * out**2, np.pi * radius**2
    fallen = np.pi * drop / (out - radius) * (2 / 3 * (out**3 - radius**3) - radius * (out**2 - radius**2))
    return (outer - inner) * tall - fallen


class DomeTest(unittest.TestCase):
    def test_volume_in_closed_form(self) -> None:
        # A half ball of radius 10 on a cylinder 3 mm high, and the wall around it.
        mesh = dome(10, 0, 90)
        made = base(mesh, up=[0, 0, 1], plan=Plan(thickness_mm=3.0))
        exact = 2 / 3 * np.pi * 1000 + np.pi * 100 * 3 + around(made, 10.0, 3.0)
        self.assertAlmostEqual(volume_ml(made.body) * 1000 / exact, 1, delta=1e-3)
        self.assertAlmostEqual(made.floor_mm, -3.0, places=9)
        assert_printable(self, made.body)

    def test_any_direction(self) -> None:
        m = turn(8)
        straight, turned = dome(10, 2, 40), dome(10, 2, 40).moved(m)
        a = base(straight, up=[0, 0, 1], plan=Plan(thickness_mm=2))
        b = base(turned, up=m[:3, 2], plan=Plan(thickness_mm=2))
        self.assertAlmostEqual(volume_ml(a.body), volume_ml(b.body), delta=3e-3)

    def test_undercut_border_keeps_what_hangs_over(self) -> None:
        # Two thirds of a ball: the border lies under the bulge, and the wall goes down inside of it.
        mesh = dome(10, -6, 80)
        made = base(mesh, up=[0, 0, 1], plan=Plan(thickness_mm=2.0))
        ring = np.sqrt(100 - 36)
        exact = 4 / 3 * np.pi * 1000 - np.pi * 4**2 * (30 - 4) / 3 + np.pi * ring**2 * 2
        exact += around(made, ring, 2.0, under=-6.0)
        self.assertAlmostEqual(volume_ml(made.body) * 1000 / exact, 1, delta=2e-3)
        assert_printable(self, made.body)

    def test_flat_bottom_and_its_height(self) -> None:
        made = base(dome(10, 0, 40), up=[0, 0, 1], plan=Plan(thickness_mm=2.5))
        bottom = made.body.vertices_mm[np.abs(made.body.vertices_mm[:, 2] - made.floor_mm) < 0.2]
        self.assertLess(np.ptp(bottom[:, 2]), 0.005)
        self.assertAlmostEqual(made.lowest_mm - made.floor_mm, 2.5, places=9)

    def test_closed_surface_is_refused_in_words(self) -> None:
        from tests.shapes import sphere

        with self.assertRaises(StepFailed) as caught:
            base(sphere(), up=[0, 0, 1], plan=Plan(thickness_mm=2))
        self.assertIn("closed already", caught.exception.message)


class CurtainTest(unittest.TestCase):
    def test_lies_on_or_above_its_points(self) -> None:
        rng = np.random.default_rng(4)
        t = np.linspace(0, 2 * np.pi, 2500)
        points = np.c_[20 * np.cos(t), 15 * np.sin(t), 3 * np.sin(5 * t) + rng.normal(0, 0.4, len(t))]
        for slope, rounding in ((10.0, 0.3), (2.0, 1.0)):
            curtain = curtain_over(points, slope=slope, round_mm=rounding)
            self.assertGreater((curtain.at(points) - points[:, 2]).min(), -0.01)

    def test_border_that_climbs_and_waves_over_itself(self) -> None:
        """A rippled steep flank whose border runs up it in place: walls straight from it would cross."""
        rng = np.random.default_rng(6)
        t, z = np.meshgrid(np.linspace(0, 2 * np.pi, 481)[:-1], np.arange(8, -9, -0.15), indexing="ij")
        r, around = 14 + 0.15 * (8 - z) + 0.15 * np.sin(4 * z), t + 0.02 * np.sin(2.5 * z)
        m, n = t.shape
        ring = np.stack([r * np.cos(around), r * np.sin(around), z], -1).reshape(-1, 3)
        i, j = np.meshgrid(np.arange(m), np.arange(n - 1), indexing="ij")
        a, b = i * n + j, (i + 1) % m * n + j
        faces = np.vstack([np.c_[a.ravel(), a.ravel() + 1, b.ravel()], np.c_[b.ravel(), a.ravel() + 1, b.ravel() + 1]])
        # Torn by a third of a millimetre, and eight millimetres higher on one side, climbing within one column.
        low = np.where(np.abs(t[:, 0] - np.pi) < 0.6, 2.0, -6.0) + rng.normal(0, 0.3, m)
        keep = ring[faces][:, :, 2].min(1) > np.tile(np.repeat(low, n - 1), 2)
        cap = [(len(ring), i * n, (i + 1) % m * n) for i in range(m)]
        mesh = Mesh.of(np.vstack([ring, [[0, 0, 8.5]]]), np.vstack([faces[keep], cap]))
        mesh = mend(mesh.of_faces(np.ones(mesh.triangles, bool))).mesh
        self.assertGreater(crossing_walls(mesh, border_loops(mesh)).sum(), 0)
        free, _ = above_curtain(mesh, slope=10.0, round_mm=0.3)
        self.assertEqual(crossing_walls(free, border_loops(free)).sum(), 0)
        assert_printable(self, base(mesh, up=[0, 0, 1], plan=Plan(thickness_mm=2)).body)

    def test_level_border_loses_nothing(self) -> None:
        mesh = sheet(60, 60, lambda x, y: 4 * np.exp(-(x * x + y * y) / 8), (20, 20))
        self.assertLess(np.ptp(border_points(mesh)[:, 2]), 0.01)
        made = base(mesh, up=[0, 0, 1], plan=Plan(thickness_mm=2))
        self.assertLess(made.border_cut_mm, 0.2)

    def test_walls_of_a_sawn_model_go_on_where_they_were(self) -> None:
        """20 × 20 mm: the foot is exactly that; not where an edge is asked for, nor where the border is not level."""
        level = sheet(60, 60, lambda x, y: 4 * np.exp(-(x * x + y * y) / 8), (20, 20))
        wavy = sheet(60, 60, lambda x, y: 4 + np.sin(x), (20, 20))
        edge = Plan(straight=True, edge="bevelled", edge_mm=0.5)
        for mesh, plan, flush in ((level, Plan(straight=True), True), (level, edge, False), (wavy, Plan(straight=True), False)):
            made = base(mesh, up=[0, 0, 1], plan=plan)
            assert_printable(self, made.body)
            self.assertTrue(made.clean_walls)
            wide = np.ptp(made.body.vertices_mm[:, :2], axis=0)
            self.assertEqual(bool((np.abs(wide - np.ptp(mesh.vertices_mm[:, :2], axis=0)) < 1e-9).all()), flush)

    def test_sides_of_no_length_that_a_saw_leaves_do_not_move_the_walls(self) -> None:
        level = sheet(60, 60, lambda x, y: 4 * np.exp(-(x * x + y * y) / 8), (20, 20))
        start, end = border_loops(level)[0][:2]
        at = np.flatnonzero((level.faces == start).any(1) & (level.faces == end).any(1))[0]
        face = np.roll(level.faces[at], -int(np.flatnonzero(level.faces[at] == start)[0]))
        points = np.vstack([level.vertices_mm, level.vertices_mm[start] * (1 - 1e-8) + level.vertices_mm[end] * 1e-8])
        new, (a, b, c) = len(points) - 1, face
        halves = [[a, new, c], [new, b, c]] if b == end else [[a, b, new], [new, b, c]]
        split = Mesh.of(points, np.vstack([np.delete(level.faces, at, 0), halves]))
        made = base(split, up=[0, 0, 1], plan=Plan(straight=True))
        assert_printable(self, made.body)
        self.assertLess(np.abs(np.ptp(made.body.vertices_mm[:, :2], axis=0) - 20).max(), 1e-6)


class JawTest(unittest.TestCase):
    def test_jaws_become_printable_and_keep_their_teeth(self) -> None:
        for seed in (3, 21):
            for jaw, scan in zip(("upper", "lower"), jaws(seed), strict=True):
                with self.subTest(jaw=jaw, seed=seed):
                    whole, _, _ = close_holes(mend(scan).mesh, up_to_mm=12)
                    body = base(whole, up=[0, 0, 1 if jaw == "lower" else -1], plan=Plan(thickness_mm=2)).body
                    assert_printable(self, body)
                    self.kept(body, scan)
                    self.even(body, up=1.0 if jaw == "lower" else -1.0)

    def even(self, body: Mesh, up: float) -> None:
        """The foot of the wall turns nowhere by more than its outline does where it is as round as a pencil (radius 1.5 mm)."""
        flat = Mesh.of(body.vertices_mm * [1, 1, up], body.faces if up > 0 else body.faces[:, ::-1], body.groups)
        low = flat.vertices_mm[:, 2].min()
        floor = flat.of_faces((flat.vertices_mm[flat.faces][:, :, 2] < low + 1e-6).all(1))
        for loop in border_loops(floor):
            ring = floor.vertices_mm[loop][:, :2]
            step = np.roll(ring, -1, axis=0) - ring
            angle = np.arctan2(step[:, 1], step[:, 0])
            turn = np.abs((np.diff(np.r_[angle, angle[:1]]) + np.pi) % (2 * np.pi) - np.pi)
            self.assertLess(turn.max(), 0.5 / 1.5)

    def kept(self, body: Mesh, scan: Mesh) -> None:
        """Everywhere more than 1 mm from a cut or a mend the vertices are the scan's own."""
        scan_part = np.unique(body.faces[body.groups == GROUP_SCAN])
        made = np.unique(body.faces[body.groups != GROUP_SCAN])
        away, _ = cKDTree(body.vertices_mm[made]).query(body.vertices_mm[scan_part])
        far = body.vertices_mm[scan_part[away > 1.0]]
        known = {v.tobytes() for v in scan.vertices_mm}
        self.assertGreater(len(far), 0.7 * len(scan_part))
        self.assertEqual(sum(v.tobytes() not in known for v in far), 0)
