"""What lies high above a border is set aside while its walls are freed: the same comes out as of the whole."""

from __future__ import annotations

import unittest

import numpy as np
from scipy.spatial import cKDTree

from bitecore.mesh import Mesh, border_loops
from bitecore.ops.aside import set_aside
from bitecore.ops.border import without_turned
from bitecore.ops.curtain import above_curtain, evened
from bitecore.ops.freed import _freed, freed
from bitecore.ops.holes import close_holes
from bitecore.ops.mend import mend
from bitecore.ops.weld import same_place
from bitecore.progress import QUIET
from demo import rescans
from tests.shapes import box, dome, jaws


def triangles_of(mesh: Mesh) -> set[bytes]:
    """Each by its corners to the bit, whichever comes first."""
    corners = mesh.vertices_mm[mesh.faces]
    first = np.lexsort(corners.transpose(2, 1, 0).reshape(3, -1)).argsort().reshape(3, -1).T.argmin(1)
    order = (first[:, None] + np.arange(3)) % 3
    return {c.tobytes() for c in np.take_along_axis(corners, order[:, :, None], axis=1)}


def stood(jaw: Mesh, up: float) -> Mesh:
    """Its teeth up, its holes closed."""
    return close_holes(mend(jaw).mesh, up_to_mm=12)[0].moved(np.diag([1.0, up, up, 1.0]))


class AsideTest(unittest.TestCase):
    def test_freed_it_is_the_same_to_the_bit(self) -> None:
        scans = [stood(jaw, up) for seed in (3, 21) for jaw, up in zip(jaws(seed), (-1.0, 1.0), strict=True)]
        # One whose border lies in folds, so that much of it goes.
        scans.append(mend(rescans.otherwise_meshed(scans[1], np.random.default_rng(2))).mesh)
        for k, scan in enumerate(scans):
            with self.subTest(scan=k):
                apart = set_aside(scan)
                assert apart is not None
                self.assertLess(apart.near.triangles, 0.6 * scan.triangles)
                quick, whole = freed(scan, QUIET), _freed(scan, QUIET)
                self.assertEqual(triangles_of(quick), triangles_of(whole))
                self.assertEqual(sorted(map(len, border_loops(quick))), sorted(map(len, border_loops(whole))))
                # Of each face it is known where it came from.
                self.assertTrue((np.bincount(quick.source + 1) == np.bincount(whole.source + 1)).all())

    def test_what_reaches_it_is_worked_on_whole(self) -> None:
        scan = stood(jaws(3)[1], 1.0)
        apart = set_aside(scan)
        assert apart is not None
        tents = apart.near.source >= len(apart.kept)
        self.assertIsNotNone(apart.back(apart.near))
        one_less = np.arange(apart.near.triangles) != np.flatnonzero(tents)[0]
        self.assertIsNone(apart.back(apart.near.of_faces(one_less)))
        lifted = apart.near.vertices_mm.copy()
        lifted[apart.near.faces[tents][0]] += [0, 0, 1e-9]
        self.assertIsNone(apart.back(apart.near.with_vertices(lifted)))
        # A border that has come up among what is set aside.
        rim = np.unique(np.concatenate(border_loops(apart.near)))
        lifted = apart.near.vertices_mm.copy()
        lifted[rim] += [0, 0, 12]
        self.assertIsNone(apart.back(apart.near.with_vertices(lifted)))

    def test_flat_or_closed_nothing_is(self) -> None:
        self.assertIsNone(set_aside(dome(3, 1, 30)))
        self.assertIsNone(set_aside(box()))


class EvenedTest(unittest.TestCase):
    def test_a_needle_elsewhere_does_not_keep_the_border_from_being_evened(self) -> None:
        """A face without area faces nowhere, and seemed to be turned over by whatever was moved."""
        jaw = stood(jaws(3)[1], 1.0)
        above, curtain = above_curtain(jaw, slope=10.0, round_mm=0.3)
        top = int(above.vertices_mm[:, 2].argmax())
        f = int(np.flatnonzero((above.faces == top).any(1))[0])
        corner = above.faces[f]
        # A corner on the middle of the opposite edge: the face has no area left, its neighbours close up.
        vertices = above.vertices_mm.copy()
        vertices[corner[0]] = (vertices[corner[1]] + vertices[corner[2]]) / 2
        needle = above.with_vertices(vertices)
        loop = border_loops(above)[0]
        moved = np.linalg.norm(evened(needle, curtain).vertices_mm[loop] - needle.vertices_mm[loop], axis=1)
        as_without = np.linalg.norm(evened(above, curtain).vertices_mm[loop] - above.vertices_mm[loop], axis=1)
        self.assertGreater(as_without.max(), 0.02)
        np.testing.assert_allclose(moved, as_without, atol=1e-12)

    def test_what_would_turn_over_stays(self) -> None:
        flat = Mesh.of([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [5, 5, 5]], [[0, 1, 2], [0, 2, 3]])
        over = flat.vertices_mm.copy()
        over[1] = [-1.0, 3.0, 0]
        over[4] += 1
        np.testing.assert_array_equal(without_turned(flat, over).vertices_mm[:4], flat.vertices_mm[:4])


class SamePlaceTest(unittest.TestCase):
    def test_as_a_tree_of_scipy_says(self) -> None:
        rng = np.random.default_rng(5)
        among = np.round(rng.normal(size=(20_000, 3)), 2)
        among[3] = among[9]
        asked = np.vstack([among[rng.permutation(20_000)[:5000]], rng.normal(size=(5000, 3)), [[0.0, -0.0, 0.0]]])
        found = same_place(asked, among)
        distance, _ = cKDTree(among).query(asked)
        np.testing.assert_array_equal(found >= 0, distance == 0)
        np.testing.assert_array_equal(among[found[found >= 0]], asked[found >= 0])
        self.assertEqual(same_place(among[9:10], among).tolist(), [int(np.flatnonzero((among == among[9]).all(1))[0])])
        self.assertEqual(same_place([[-0.0, 0, 0]], np.array([[1.0, 0, 0], [0, 0, 0]])).tolist(), [1])
