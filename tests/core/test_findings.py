"""Findings of Intake, each on a scan with just that fault; what Trim makes of them, and how each is left as it came."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
import trimesh

from bitecore.mesh import Mesh
from bitecore.ops.crossing import crossing_faces
from bitecore.ops.flaws import spikes
from bitecore.progress import QUIET
from bitecore.runsheet import Inputs, StepResult, standard
from bitecore.runsheet.findings import findings
from tests.core.test_mesh import joined
from tests.core.test_steps import cleaned, reading
from tests.shapes import jaws, sheet, sphere


def codes(mesh: Mesh) -> set[str]:
    return {f.code for f in findings("p", mesh, "jaw", crossing_faces(mesh))}


class CrossingTest(unittest.TestCase):
    def test_closed_bodies_do_not_cross_themselves(self) -> None:
        self.assertFalse(crossing_faces(sphere(5, 20)).any())
        self.assertFalse(crossing_faces(sheet(30, 30, lambda x, y: np.sin(x))).any())

    def test_two_spheres_cross_on_a_circle_of_known_radius(self) -> None:
        """Spheres of radius r whose middles are d apart meet on a circle of radius sqrt(r² - d²/4)."""
        r, d = 5.0, 3.0
        a = sphere(r, 30)
        b = a.moved(np.array([[1, 0, 0, d], [0, 1, 0, 0.013], [0, 0, 1, 0.007], [0, 0, 0, 1]]))
        both = joined(a, b)
        middle = both.vertices_mm[both.faces[crossing_faces(both)]].mean(1)
        off = np.linalg.norm(middle[:, 1:], axis=1) - np.sqrt(r**2 - d**2 / 4)
        self.assertLess(np.abs(off).max(), 0.6)
        self.assertGreater(len(middle), 100)

    def test_a_general_library_finds_the_same_pairs_on_random_triangles(self) -> None:
        rng = np.random.default_rng(4)
        soup = Mesh.of(rng.uniform(0, 10, (180, 3)), np.arange(180).reshape(-1, 3))
        ours = crossing_faces(soup)
        theirs = np.zeros(60, bool)
        corner = soup.vertices_mm[soup.faces]
        for i in range(60):
            one = trimesh.Trimesh(corner[i], [[0, 1, 2]], process=False)
            for j in range(60):
                if i == j:
                    continue
                ends = corner[j]
                for a, b in ((0, 1), (1, 2), (2, 0)):
                    ray = ends[b] - ends[a]
                    hit, _, _ = one.ray.intersects_location([ends[a]], [ray], multiple_hits=True)
                    if len(hit) and np.linalg.norm(hit[0] - ends[a]) <= np.linalg.norm(ray):
                        theirs[[i, j]] = True
        np.testing.assert_array_equal(ours, theirs)
        for first in (1, 20, 45):
            asked = np.arange(60) >= first
            rest = crossing_faces(soup.of_faces(~asked))
            found = crossing_faces(soup, among=asked)
            # All that cross are found among those asked, or among the others alone.
            np.testing.assert_array_equal(found[asked], ours[asked])
            np.testing.assert_array_equal(found[~asked] | rest, ours[~asked])


class FindingsTest(unittest.TestCase):
    def test_a_fold_is_found(self) -> None:
        flat = sheet(60, 60, lambda x, y: 0.2 * np.sin(x) * np.cos(y), size=(40.0, 40.0))
        moved = flat.vertices_mm.copy()
        strip = (np.abs(moved[:, 0] - 2) < 1.5) & (np.abs(moved[:, 1]) < 3)
        moved[strip, 2] += 0.9 * np.sin((moved[strip, 0] - 0.5) * 2.1)
        moved[strip, 0] += 2.4 * np.sin((moved[strip, 0] - 0.5) * 1.05)
        folded = Mesh.of(moved, flat.faces)
        self.assertIn("folds", codes(folded))
        flag = next(f for f in findings("p", folded, "jaw", crossing_faces(folded)) if f.code == "folds")
        self.assertLess(np.linalg.norm(np.array(flag.place.point_mm)[:2] - [2, 0]), 4.5)  # type: ignore[union-attr]
        self.assertIn("Trim cuts that out", flag.message)

    def test_spikes_are_taken_off_unless_the_setting_leaves_them(self) -> None:
        scan = jaws(3)[1]
        self.assertLess(spikes(scan).sum(), 3)
        # Two points in the middle of the crowns are pulled out.
        high = np.argsort(scan.vertices_mm[:, 2])[-400::200]
        moved = scan.vertices_mm.copy()
        moved[high, 2] += 6.0
        spiky = Mesh.of(moved, scan.faces)
        self.assertTrue(spikes(spiky)[high].all())
        self.assertIn("spikes", codes(spiky))
        off, on = cleaned(spiky), cleaned(spiky, spikes=False)
        self.assertLess(off.values["mesh"].vertices_mm[:, 2].max(), on.values["mesh"].vertices_mm[:, 2].max() - 4)

    def test_shared_edges_and_uneven_density(self) -> None:
        flat = sheet(20, 20, lambda x, y: 0 * x)
        extra = Mesh.of(np.vstack([flat.vertices_mm, [[0, 0, 3.0]]]), np.vstack([flat.faces, [[*flat.faces[100][:2], 400]]]))
        flags = [f for f in findings("p", extra, "jaw", crossing_faces(extra)) if f.code == "crowded-edges"]
        self.assertTrue(flags and flags[0].message.startswith("1 edge that"))
        self.assertNotIn("uneven", codes(flat))
        fine = sheet(80, 80, lambda x, y: 0 * x, size=(20.0, 20.0))
        wide = sheet(16, 16, lambda x, y: 0 * x + 5.0, size=(80.0, 80.0))
        self.assertIn("uneven", codes(joined(fine, wide)))


class LeftTest(unittest.TestCase):
    """Every mend is undone by itself: by what its own flag offers."""

    def left(self, scan: Mesh, **values: Any) -> StepResult:
        asked = standard()["trim"].check({})
        inputs = {"mesh": scan, "about": {}, "crossing": None} | {
            k: getattr(asked, k) for k in ("folds", "spikes", "holes_mm", "loose_percent")
        }
        step = standard()["clean"]
        return step.apply(Inputs(inputs, "p", "lower"), step.check({"left": {"l1": values}}), QUIET)

    def test_a_hole_a_bit_and_a_spike_are_left_as_they_came(self) -> None:
        scan = jaws(3)[1]
        moved = scan.vertices_mm.copy()
        high = int(np.argsort(moved[:, 2])[-300])
        moved[high, 2] += 6.0
        spiky = joined(Mesh.of(moved, scan.faces), sphere(0.4, 8).with_vertices(sphere(0.4, 8).vertices_mm + [0, 0, 20.0]))
        before = cleaned(spiky)
        for code, what in (("hole-closed", "holes closed"), ("dropped-bit", "loose bits dropped"), ("spike", "spikes taken off")):
            flag = max((f for f in before.flags if f.code == code), key=lambda f: f.place.radius_mm)  # type: ignore[union-attr]
            assert flag.fix is not None
            self.assertEqual((flag.fix.step, flag.fix.at, flag.fix.label), ("clean", "left", "Leave it"))
            after = self.left(spiky, **flag.fix.values)
            self.assertEqual(reading(after, what), reading(before, what) - 1, code)
            self.assertNotIn(flag, after.flags)
            elsewhere = self.left(spiky, **{**flag.fix.values, "at": [0, 0, 400.0]})
            self.assertIn("left-lost", [f.code for f in elsewhere.flags])
            others = {f.code for f in before.flags} - {code}
            self.assertLessEqual(others - {"mended"}, {f.code for f in after.flags} | {"hole-closed"})
