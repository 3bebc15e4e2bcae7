"""Distances over known surfaces, and the edge line: on the surface, closed, so far from the teeth and off every one of them."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
from scipy.spatial import cKDTree

from bitecore.errors import StepFailed
from bitecore.mesh import Mesh, edge_table, face_components
from bitecore.ops.closest import ClosestPoints
from bitecore.ops.geodesic import distances
from bitecore.progress import QUIET
from bitecore.runsheet import Inputs, StepResult, standard
from tests.core.test_tooth_hand import clean, lower, told
from tests.shapes import sheet, sphere


def jittered(mesh: Mesh, mm: float) -> Mesh:
    moved = mesh.vertices_mm.copy()
    moved[:, :2] += np.random.default_rng(4).normal(0, mm, (len(moved), 2))
    return mesh.with_vertices(moved)


class GeodesicTest(unittest.TestCase):
    def test_from_a_point_of_a_plane(self) -> None:
        flat = jittered(sheet(81, 81, lambda x, y: 0 * x, (20.0, 20.0)), 0.05)
        away = np.linalg.norm(flat.vertices_mm, axis=1)
        found = distances(flat, np.where(away < 1.0, away, np.inf))
        self.assertLess((np.abs(found - away) / away)[away > 1].max(), 0.012)
        self.assertLess(np.abs(found - away).mean(), 0.02)

    def test_along_great_circles(self) -> None:
        """On a sphere of radius R the way from the pole is R times the angle."""
        ball = sphere(10.0, 120)
        true = 10 * np.arccos(np.clip(ball.vertices_mm[:, 2] / 10, -1, 1))
        found = distances(ball, np.where(true < 1.5, true, np.inf))
        self.assertLess(np.abs(found - true).max(), 0.005)

    def test_on_a_cylinder_as_if_it_were_rolled_out(self) -> None:
        flat = sheet(121, 121, lambda x, y: 0 * x, (20.0, 20.0))
        x, y = flat.vertices_mm[:, 0], flat.vertices_mm[:, 1]
        bent = flat.with_vertices(np.c_[8 * np.sin(x / 8), y, 8 * np.cos(x / 8)])
        true = np.hypot(x + 6, y + 6)
        self.assertLess(np.abs(distances(bent, np.where(true < 1, true, np.inf)) - true).max(), 0.005)

    def test_round_a_disc_and_no_farther_than_asked(self) -> None:
        flat = jittered(sheet(101, 101, lambda x, y: 0 * x, (24.0, 24.0)), 0.04)
        true = np.linalg.norm(flat.vertices_mm, axis=1) - 4.0
        first = np.where((true >= 0) & (true < 0.5), true, np.inf)
        first[true < 0] = 0
        found = distances(flat, first, reach_mm=6.0, round_mm=4.0)
        near = (true > 0.5) & (true < 5.9)
        self.assertLess(np.abs(found - true)[near].max(), 0.06)
        self.assertTrue(np.isinf(found[true > 6.1]).all())


class EdgeTest(unittest.TestCase):
    def edge(self, **settings: Any) -> StepResult:
        teeth = told().values
        stand = {"origin": [0, 0, 0], "up": lower().up().tolist(), "front": [0, -1, 0]}
        values = {"teeth": teeth["mesh"], "found": teeth["teeth"], "stand": stand, "ease_mm": 0.8}
        step = standard()["edge"]
        return step.apply(Inputs(values, "p", "lower"), step.check({"edge": "gum", **settings}), QUIET)

    def test_so_much_gum_is_kept_and_no_tooth_is_touched(self) -> None:
        jaw = lower()
        true_teeth = cKDTree(jaw.mesh.vertices_mm[np.unique(jaw.mesh.faces[jaw.tooth > 0])])
        for gum in (1.5, 4.5):
            result = self.edge(gum_mm=gum)
            mesh = result.values["mesh"]
            (line,) = (np.array(one) for one in result.values["line"])
            away = true_teeth.query(line)[0]
            self.assertGreater(away.min(), 0.25)
            self.assertAlmostEqual(float(np.median(away)), gum, delta=0.6)
            # A straight way is never longer than that over the surface.
            self.assertLess(away.max(), gum + 1.5)
            on = np.abs(ClosestPoints(clean()).signed(line, within_mm=1.0)[0])
            self.assertLess(np.nanmax(on), 0.01)
            self.assertEqual(face_components(mesh)[0], 1)
            self.assertLessEqual(edge_table(mesh).count.max(), 2)
            self.assertEqual(result.flags, ())
            # Every triangle of the teeth is there as it was.
            kept = set(mesh.source[mesh.groups == 0].tolist())
            own = np.flatnonzero(np.isin(clean().source, np.flatnonzero(jaw.tooth > 0)))
            share = np.mean([int(s) in kept for s in clean().source[own]])
            self.assertGreater(share, 0.995)

    def test_more_gum_holds_less(self) -> None:
        less, more = (self.edge(gum_mm=gum).values["mesh"] for gum in (1.5, 4.0))
        held = cKDTree(more.vertices_mm).query(less.vertices_mm)[0]
        self.assertLess(np.quantile(held, 0.99), 0.5)

    def test_without_teeth_it_says_so(self) -> None:
        step = standard()["edge"]
        values = {"teeth": clean(), "found": [], "stand": {"up": [0, 0, 1]}, "ease_mm": 0.8}
        with self.assertRaisesRegex(StepFailed, "No teeth are found"):
            step.apply(Inputs(values, "p", "lower"), step.check({"edge": "gum"}), QUIET)
        assert step.off is not None
        self.assertTrue(step.off(step.check({})))
