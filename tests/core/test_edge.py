"""Distances over known surfaces, and the edge line: on the surface, closed, so far from the teeth and off every one of them."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
from scipy.spatial import cKDTree

from bitecore.mesh import Mesh, edge_table, face_components
from bitecore.ops.closest import ClosestPoints
from bitecore.ops.geodesic import distances
from bitecore.parts.shelf import BRINGS, BUILT_IN
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
        values = {
            "mesh": clean(),
            "touched": None,
            "margins": teeth["margins"],
            "told": teeth["mesh"],
            "found": teeth["teeth"],
            "stand": stand,
            "ease_mm": 0.8,
        }
        step = standard()["edge"]
        return step.apply(Inputs(values, "p", "lower"), step.check({"edge": "gum", **settings}), QUIET)

    def near(self, mesh: Mesh, where: np.ndarray) -> np.ndarray:
        """How far vertices of the scan, named by a mask, are from what is kept of it."""
        return cKDTree(mesh.vertices_mm).query(clean().vertices_mm[where])[0]

    def test_so_much_gum_is_kept_and_no_tooth_is_touched(self) -> None:
        jaw = lower()
        true_teeth = cKDTree(jaw.mesh.vertices_mm[np.unique(jaw.mesh.faces[jaw.tooth > 0])])
        for gum in (1.5, 3.5):
            result = self.edge(gum_mm=gum)
            mesh = result.values["mesh"]
            (line,) = (np.array(one) for one in result.values["line"])
            away = true_teeth.query(line)[0]
            self.assertGreater(away.min(), 0.25)
            self.assertAlmostEqual(float(np.median(away)), gum, delta=0.6)
            # A straight way is never longer than that over the surface.
            # In doubt whether a margin runs farther out, up to so much more is kept.
            self.assertLess(away.max(), gum + 2.0)
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

    def test_to_the_vestibule_with_a_band_on_the_inner_side(self) -> None:
        """On the cheek side all stays, on the tongue side as much as the band says."""
        mesh = self.edge(edge="vestibule", inner="band", band_mm=4.0).values["mesh"]
        whole = self.edge(edge="all").values["mesh"]
        scan = clean().vertices_mm
        # Outside and inside of a parabola through the arch, well off its ends and its crest.
        x, y, z = scan.T
        found = told().values["teeth"]
        middle = np.array([t["centre_mm"] for t in found])
        curve = np.polyval(np.polyfit(middle[:, 0], middle[:, 1], 4), x)
        low = (z < -9) & (y < 25) & (np.abs(x) < 24) & (self.near(whole, np.ones(len(scan), bool)) < 0.01)
        outer, inner = low & (y < curve - 3), low & (y > curve + 3)
        self.assertGreater(min(outer.sum(), inner.sum()), 200)
        self.assertGreater((self.near(mesh, outer) < 0.5).mean(), 0.97)
        self.assertLess((self.near(mesh, inner) < 0.5).mean(), 0.6)
        all_ = self.edge(edge="vestibule", inner="all").values["mesh"]
        self.assertGreater((self.near(all_, inner) < 0.5).mean(), 0.97)

    def test_so_far_behind_the_last_teeth(self) -> None:
        ends = [t["centre_mm"] for t in told().values["teeth"]]
        last = max(p[1] for p in ends)
        back = {mm: self.edge(behind_mm=mm).values["mesh"].vertices_mm[:, 1].max() - last for mm in (1.0, 5.0)}
        self.assertGreater(back[5.0], back[1.0] + 1.5)

    def test_pulled_it_runs_through_the_place_and_stays_elsewhere(self) -> None:
        before = self.edge(gum_mm=3.0)
        (line,) = (np.array(one) for one in before.values["line"])
        tree = cKDTree(clean().vertices_mm)
        front = line[line[:, 1].argmin()]
        for down in (1.5, 4.0):
            at = clean().vertices_mm[tree.query(front - [0, 0, down])[1]]
            after = self.edge(gum_mm=3.0, pulls={"p1": {"at": at.tolist()}})
            (pulled,) = (np.array(one) for one in after.values["line"])
            self.assertLess(cKDTree(pulled).query(at)[0], 0.35)
            far = np.linalg.norm(pulled - at, axis=1) > 2.2 * max(3.0, 1.4 * (down + 0.5))
            self.assertLess(cKDTree(line).query(pulled[far])[0].max(), 0.5)
            self.assertEqual(after.flags, ())

    def test_drawn_freehand_it_follows_the_stretch(self) -> None:
        (line,) = (np.array(one) for one in self.edge(gum_mm=2.0).values["line"])
        start = line[:, 1].argmin()
        stretch = np.roll(line, 20 - start, axis=0)[:40] - [0, 0, 1.2]
        snapped = clean().vertices_mm[cKDTree(clean().vertices_mm).query(stretch)[1]]
        (drawn,) = (np.array(one) for one in self.edge(gum_mm=2.0, pulls={"p1": {"points_mm": snapped.tolist()}}).values["line"])
        self.assertLess(cKDTree(drawn).query(snapped)[0].max(), 0.5)

    def test_pulled_onto_a_tooth_it_is_held_off_and_says_so(self) -> None:
        tooth = next(t for t in told().values["teeth"] if t["fdi"] == 41)
        result = self.edge(gum_mm=3.0, off_mm=0.5, pulls={"p1": {"at": tooth["tips_mm"][0]}, "p2": {"at": [200.0, 0, 0]}})
        self.assertEqual({f.code for f in result.flags}, {"edge-held", "pull-lost"})
        (line,) = (np.array(one) for one in result.values["line"])
        on = np.nan_to_num(told().values["mesh"].channel.values) > 0
        self.assertGreater(cKDTree(clean().vertices_mm[on]).query(line)[0].min(), 0.35)

    def test_without_teeth_it_says_so(self) -> None:
        step = standard()["edge"]
        values = {
            "mesh": clean(),
            "touched": None,
            "margins": None,
            "told": None,
            "found": None,
            "stand": {"up": [0, 0, 1]},
            "ease_mm": 0.8,
        }
        result = step.apply(Inputs(values, "p", "lower"), step.check({"edge": "gum"}), QUIET)
        self.assertEqual(([f.code for f in result.flags], result.values["line"]), (["edge-no-teeth"], []))
        self.assertEqual(step.apply(Inputs(values, "p", "lower"), step.check({}), QUIET).flags, ())

    def test_every_purpose_that_ships_brings_settings_there_are(self) -> None:
        for purpose, steps in BRINGS["purpose"].items():
            self.assertIn(purpose, BUILT_IN["purpose"])
            for name, values in steps.items():
                standard()[name].check(values)
