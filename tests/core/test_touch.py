"""Touch-up against closed forms: the profile and the volume of a dab, what smoothing leaves of a wave, what is held."""

from __future__ import annotations

import math
import unittest
from typing import Any

import numpy as np

from bitecore.mesh import Mesh
from bitecore.ops.touch import DAB_SHARE, Touch, touched_up
from bitecore.progress import QUIET
from bitecore.runsheet import Inputs, StepResult, standard
from tests.core.test_edge import jittered
from tests.core.test_tooth_hand import clean, told
from tests.shapes import sheet


def flat(height: Any = lambda x, y: 0 * x) -> Mesh:
    return jittered(sheet(101, 101, height, (20.0, 20.0)), 0.02)


def free(mesh: Mesh) -> np.ndarray:
    return np.zeros(len(mesh.vertices_mm), bool)


class DabTest(unittest.TestCase):
    def test_its_profile_and_its_volume(self) -> None:
        """(1 - (d / r)^2)^2 over a disc holds a third of the cylinder about it: pi r^2 h / 3."""
        mesh, r = flat(), 3.0
        for kind, sign in (("add", 1), ("carve", -1)):
            after = touched_up(mesh, [(Touch(kind, np.zeros((1, 3)), r, 1.0), free(mesh))])
            middle = mesh.vertices_mm[np.linalg.norm(mesh.vertices_mm, axis=1).argmin()]
            d = np.linalg.norm(mesh.vertices_mm - middle, axis=1)
            high = r * DAB_SHARE
            true = sign * high * np.where(d < r, (1 - (d / r) ** 2) ** 2, 0)
            # Ways along edges count only where they lead round something: on a flat sheet they change next to nothing.
            self.assertLess(np.abs(after[:, 2] - true).max(), 0.2 * high)
            self.assertAlmostEqual(np.abs(after[:, 2]).sum() * 0.04, math.pi * r * r * high / 3, delta=0.08 * math.pi * r * r * high / 3)
            np.testing.assert_allclose(after[:, :2], mesh.vertices_mm[:, :2], atol=1e-9)

    def test_smoothing_leaves_a_plane_and_takes_noise(self) -> None:
        mesh = flat()
        still = touched_up(mesh, [(Touch("smooth", np.zeros((1, 3)), 4.0, 1.0), free(mesh))])
        np.testing.assert_allclose(still[:, 2], 0, atol=1e-12)
        rough = mesh.with_vertices(
            mesh.vertices_mm + np.c_[np.zeros((len(mesh.vertices_mm), 2)), np.random.default_rng(1).normal(0, 0.05, len(mesh.vertices_mm))]
        )
        after = touched_up(rough, [(Touch("smooth", np.zeros((8, 3)), 4.0, 1.0), free(mesh))])
        near = np.linalg.norm(mesh.vertices_mm[:, :2], axis=1) < 1.5
        self.assertLess(after[near, 2].std(), 0.3 * rough.vertices_mm[near, 2].std())

    def test_it_does_not_go_through_the_air(self) -> None:
        """Two sheets half a millimetre apart: only the one that was brushed moves."""
        one = flat()
        n = len(one.vertices_mm)
        both = Mesh.of(np.vstack([one.vertices_mm, one.vertices_mm - [0, 0, 0.5]]), np.vstack([one.faces, one.faces[:, ::-1] + n]))
        after = touched_up(both, [(Touch("add", np.zeros((3, 3)), 3.0, 1.0), free(both))])
        self.assertGreater(after[:n, 2].max(), 0.2)
        np.testing.assert_array_equal(after[n:], both.vertices_mm[n:])

    def test_what_is_held_stays_to_the_last_bit(self) -> None:
        mesh = flat()
        held = mesh.vertices_mm[:, 0] > 0.5
        after = touched_up(mesh, [(Touch("add", np.zeros((4, 3)), 3.0, 1.0), held)])
        np.testing.assert_array_equal(after[held], mesh.vertices_mm[held])
        self.assertGreater(after[:, 2].max(), 0.2)


class TouchStepTest(unittest.TestCase):
    def touch(self, **strokes: Any) -> StepResult:
        step = standard()["touch"]
        values = {"mesh": clean(), "told": told().values["mesh"]}
        return step.apply(Inputs(values, "p", "lower"), step.check({"strokes": strokes}), QUIET)

    def test_teeth_stay_unless_it_is_said_and_then_it_is_told(self) -> None:
        at = next(t for t in told().values["teeth"] if t["fdi"] == 46)["tips_mm"][0]
        stroke = {"kind": "carve", "points_mm": [at], "radius_mm": 1.0, "strength": 1.0}
        kept = self.touch(s1=stroke)
        self.assertEqual((kept.values["touched"], kept.flags), ([], ()))
        np.testing.assert_array_equal(kept.values["mesh"].vertices_mm, clean().vertices_mm)
        asked = self.touch(s1={**stroke, "teeth": True})
        self.assertEqual(asked.values["touched"], [46])
        self.assertIn("46", asked.flags[0].message)

    def test_strokes_off_the_scan_are_named_and_the_others_count(self) -> None:
        low = clean().vertices_mm[clean().vertices_mm[:, 2].argmin()].tolist()
        stroke = {"kind": "add", "radius_mm": 2.0, "strength": 1.0}
        result = self.touch(s1={**stroke, "points_mm": [[0, 0, 99.0]]}, s2={**stroke, "points_mm": [low]})
        self.assertEqual([f.code for f in result.flags], ["touch-lost"])
        self.assertGreater({r.name: r.value for r in result.readings}["touched up, at most"], 0.02)
