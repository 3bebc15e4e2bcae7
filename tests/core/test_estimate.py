"""The estimate of a fit beside closed forms of adjustment computation and of variance components."""

from __future__ import annotations

import unittest
from unittest.mock import patch

import numpy as np

from bitecore.mesh import Mesh, vertex_normals
from bitecore.ops import estimate
from bitecore.ops.estimate import _Cells, _components
from bitecore.ops.settle import Link, Target, settle
from bitecore.ops.starts import samples_of
from demo.arch import ArchPlan
from demo.flaws import warped
from tests.shapes import sheet

EYE = {"on": np.eye(4), "m": np.eye(4)}


def groups_of(rng: np.random.Generator, groups: int, each: int, white_mm: float, slow_mm: float) -> _Cells:
    """Cells in groups so far apart that a slow error is one number a group: a balanced one-way layout."""
    of = np.repeat(np.arange(groups), each)
    k = len(of)
    own = rng.normal(0, np.sqrt(2) * slow_mm, groups)[of]  # the errors of two scans, along one normal
    return _Cells(
        j=np.ones((k, 1)), r=rng.normal(0, white_mm, k) + own, w=np.ones(k), white=np.full(k, white_mm**2),
        y=np.c_[of * 500.0, np.zeros((k, 2))], n=np.tile([0.0, 0.0, 1.0], (k, 1)), moving=np.zeros(k), on=np.ones(k),
    )  # fmt: skip


class ComponentsTest(unittest.TestCase):
    def test_beside_the_analysis_of_variance(self) -> None:
        """Balanced one-way layout: restricted maximum likelihood is the analysis of variance (Searle, Casella and
        McCulloch, Variance Components, 1992; from memory). Many groups, so that what is expected beforehand counts little."""
        for seed, slow in ((1, 0.008), (2, 0.016)):
            groups, each = 60, 4
            cells = groups_of(np.random.default_rng(seed), groups, each, 0.004, slow)
            times, warp2 = _components(cells, np.ones((groups * each, 1)))
            table = cells.r.reshape(groups, each)
            within = np.sum((table - table.mean(1, keepdims=True)) ** 2) / (groups * (each - 1))
            between = each * np.sum((table.mean(1) - table.mean()) ** 2) / (groups - 1)
            self.assertAlmostEqual(times * 0.004**2 / within, 1.0, delta=0.08)
            self.assertAlmostEqual(2 * warp2 / ((between - within) / each), 1.0, delta=0.15)

    def test_white_noise_alone_is_not_taken_for_a_slow_error(self) -> None:
        cells = groups_of(np.random.default_rng(3), 40, 4, 0.004, 0.0)
        _, warp2 = _components(cells, np.ones((160, 1)))
        self.assertLess(np.sqrt(warp2), 0.0025)

    def test_the_search_moves_whatever_the_units_of_the_start(self) -> None:
        """Noise of just the size at which the logarithm of the start is nought: a search that steps in shares of its start
        would stand still there."""
        white = 0.008 / np.sqrt(3)
        cells = groups_of(np.random.default_rng(4), 60, 4, white, 0.0)
        _, warp2 = _components(cells, np.ones((240, 1)))
        self.assertLess(np.sqrt(warp2), 0.5 * white)


class WhiteNoiseTest(unittest.TestCase):
    def cap(self, seed: int, noise_mm: float, warp_mm: float = 0.0) -> tuple[Mesh, Mesh]:
        cap = sheet(90, 90, lambda x, y: np.sqrt(30.0**2 - x**2 - y**2), (36.0, 36.0))
        rng = np.random.default_rng(seed)
        off = rng.normal(0, noise_mm, len(cap.vertices_mm))
        slow = warped(cap.vertices_mm, ArchPlan(seed=seed, warp_mm=warp_mm), rng)
        return cap, Mesh.of(cap.vertices_mm + vertex_normals(cap) * off[:, None] + slow, cap.faces)

    def test_the_covariance_is_that_of_least_squares(self) -> None:
        """Points on a plane patch z = 0, one body: height and two tilts are held. For n points of noise s the height of the
        middle is known to s / √n, a tilt about x to s / √(Σ y²) (any textbook of adjustment computation)."""
        rng = np.random.default_rng(5)
        flat = sheet(80, 80, lambda x, y: 0 * x, (40.0, 40.0))
        noisy = Mesh.of(flat.vertices_mm + rng.normal(0, 0.02, flat.vertices_mm.shape) * [0, 0, 1], flat.faces)
        points = samples_of(noisy, 4000)
        done = settle([Link("m", "on", points, Target(flat))], EYE, fixed="on")
        used = points.points_mm[done.links[0].used]
        height = 0.02 / np.sqrt(len(used))
        tilt = 0.02 / np.sqrt(np.sum((used[:, 1] - used[:, 1].mean()) ** 2))
        said_height, said_tilt = np.sqrt(done.covariance[5, 5]), np.sqrt(done.covariance[0, 0])
        # A slow error is never ruled out altogether, so that more is said than white noise alone would give.
        self.assertTrue(0.7 * height < said_height < 8 * height, (height, said_height))
        self.assertTrue(0.7 * tilt < said_tilt < 8 * tilt, (tilt, said_tilt))

    def test_more_points_hold_better_and_more_noise_worse(self) -> None:
        said = {}
        for noise in (0.01, 0.04):
            for count in (1000, 4000):
                cap, noisy = self.cap(6, noise)
                done = settle([Link("m", "on", samples_of(noisy, count), Target(cap))], EYE, fixed="on")
                said[noise, count] = done.error_mm("m", np.array([[0.0, 0.0, 0.0]]))[0]
        self.assertLess(said[0.01, 4000], said[0.01, 1000])
        self.assertLess(said[0.01, 4000], said[0.04, 4000])

    def test_a_slow_error_is_told(self) -> None:
        """Four times the noise of the points' means in slow error: the estimate grows with it."""
        found = []
        for warp in (0.0, 0.03):
            cap, noisy = self.cap(7, 0.015, warp)
            done = settle([Link("m", "on", samples_of(noisy, 4000), Target(cap))], EYE, fixed="on")
            found.append((done.warp_mm, done.error_mm("m", np.zeros((1, 3)))[0]))
        self.assertLess(found[0][0], 0.01)
        self.assertGreater(found[1][0], 0.012)
        self.assertGreater(found[1][1], 2 * found[0][1])

    def test_a_scan_laid_on_itself(self) -> None:
        """No difference anywhere: an estimate near nothing, and no error of arithmetic on the way."""
        cap, _ = self.cap(8, 0.01)
        with np.errstate(all="raise", under="ignore"):
            done = settle([Link("m", "on", samples_of(cap, 3000), Target(cap))], EYE, fixed="on")
        self.assertLess(done.error_mm("m", np.zeros((1, 3)))[0], 0.002)
        self.assertTrue(np.isfinite(done.covariance).all())

    def test_nothing_that_meets_is_no_estimate(self) -> None:
        cap, _ = self.cap(9, 0.01)
        far = np.eye(4)
        far[2, 3] = 500.0
        done = settle([Link("m", "on", samples_of(cap, 500), Target(cap))], {"on": np.eye(4), "m": far}, fixed="on")
        self.assertEqual(done.links[0].met, 0.0)
        self.assertGreaterEqual(done.error_mm("m", np.array([[0.0, 0.0, 500.0]]))[0], 1.0)

    def test_finer_patches_change_little(self) -> None:
        """Patches are a means: with twice as many the estimate stays within a fifth."""
        cap, noisy = self.cap(10, 0.02)
        said = []
        for fine in (320, 640):
            with patch.object(estimate, "_FINE_CELLS", fine):
                done = settle([Link("m", "on", samples_of(noisy, 5000), Target(cap))], EYE, fixed="on")
            said.append(done.error_mm("m", np.zeros((1, 3)))[0])
        self.assertAlmostEqual(said[1] / said[0], 1.0, delta=0.2)


if __name__ == "__main__":
    unittest.main()
