"""Scans of a part of an arch: what they are, where they belong, which teeth they show."""

from __future__ import annotations

import unittest

import numpy as np
from django.test import tag

from bitecore.anatomy.part_arch import seated
from bitecore.anatomy.whatis import recognise
from bitecore.files import stl
from bitecore.mesh import Mesh, face_components
from bitecore.progress import QUIET
from bitecore.runsheet import Inputs, standard
from demo.rescans import bite_scan
from tests.shapes import arches, turn
from tests.trial.intake import plan
from tests.trial.parts import judged_parts
from tests.trial.second import cheek_strip, mouth, second_plan


def half(jaw: Mesh, *, left: bool, past_mm: float = 4.0) -> Mesh:
    middle = jaw.vertices_mm[jaw.faces].mean(1)
    cut = jaw.of_faces(middle[:, 0] * (1 if left else -1) > -past_mm)
    label = face_components(cut)[1]
    return cut.of_faces(label == np.bincount(label).argmax())


def degrees(a, b) -> float:  # noqa: ANN001
    return float(np.degrees(np.arccos(np.clip(np.dot(a, b), -1, 1))))


class PartsTest(unittest.TestCase):
    def test_a_form_of_known_place_is_seated_there(self) -> None:
        """The form itself (y = 32 (x / 25)^2.8), turned by a known angle: front, midline and ends come back."""
        x = np.repeat(np.linspace(-2.0, 24.0, 300), 9)
        wide = np.tile(np.linspace(-2.5, 2.5, 9), 300)
        points = np.c_[x, 32.0 * np.abs(x / 25.0) ** 2.8 + wide]
        angle = np.radians(70.0)
        turned = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
        seat = seated(points @ turned.T + [30.0, -12.0])[0]
        self.assertLess(degrees(seat.front, turned @ [0.0, -1.0]), 6.0)
        self.assertLess(np.linalg.norm(seat.middle - (turned @ [0, 0] + [30, -12])), 4.0)

    def test_halves_face_as_they_stand_wherever_they_lie(self) -> None:
        for number, left in ((3, True), (8, False)):
            for name, jaw in (("upper", arches(number).upper), ("lower", arches(number).lower)):
                place = turn(number)
                shape = recognise(half(jaw.mesh, left=left).moved(place))
                self.assertEqual(shape.kind, "jaw", (number, name))
                assert shape.part
                self.assertLess(degrees(shape.up, place[:3, :3] @ jaw.up()), 18.0, (number, name))
                self.assertLess(degrees(shape.front, place[:3, :3] @ [0, -1, 0]), 18.0, (number, name))
                self.assertTrue(shape.part.is_of("left" if left else "right", name), (number, name))

    def test_the_strip_of_a_bite_is_no_part_of_an_arch(self) -> None:
        for number in (1, 2, 5):
            strip = bite_scan(arches(number), plan(number), left=bool(number % 2), rng=np.random.default_rng(number))
            self.assertEqual(recognise(strip).kind, "bite", number)

    def test_nor_is_one_that_looks_into_the_chewing_surfaces(self) -> None:
        """Of the second generator, a piece of each jaw, and either way out."""
        both = mouth(second_plan(3, step_mm=0.5))
        for sees, high in ((-0.5, 11.0), (-0.2, 7.0), (0.3, 9.0)):
            strip = cheek_strip(both, left=True, sees=sees, high_mm=high)
            for seen in (strip, strip.turned_inside_out()):
                self.assertEqual(recognise(seen).kind, "bite", (sees, high))

    @tag("long")
    def test_whole_arches_are_no_parts(self) -> None:
        for gaps in ((), (36, 37), (14, 15, 16, 17)):
            for jaw in (arches(5, gaps=gaps).upper, arches(5, gaps=gaps).lower):
                self.assertIsNone(recognise(jaw.mesh).part, gaps)

    def test_what_a_person_says_of_the_place_stands(self) -> None:
        jaw = arches(8).lower
        middle = jaw.mesh.vertices_mm[jaw.mesh.faces].mean(1)
        back = half(jaw.mesh.of_faces(middle[:, 1] > middle[:, 1].min() + 18.0), left=True, past_mm=-8.0)
        step = standard()["intake"]
        fronts = {}
        for side in ("left", "right"):
            settings = step.check({"side": side, "jaw": "lower"})
            result = step.apply(Inputs({"file": stl.write_binary(back)}, "p", None, {}), settings, QUIET)
            about = result.values["about"]
            right, left = about["part"]
            self.assertGreater(left if side == "left" else right, right if side == "left" else left)
            self.assertEqual(about["part_sure"], 1.0)
            fronts[side] = np.array(about["front"])
            text = next(f.message for f in result.flags if f.code == "part-of-arch")
            self.assertIn(side, text)
        self.assertGreater(degrees(fronts["left"], fronts["right"]), 60.0)

    @tag("long")
    def test_the_teeth_of_a_side_have_their_numbers(self) -> None:
        """Of mouths on which nothing was fitted, of both generators."""
        teeth = []
        for number, second in ((61, False), (62, True)):
            for seen, told in judged_parts(number, second=second, whats=("one side",)):
                self.assertTrue(seen.kind, seen.name)
                teeth += told.teeth if told else ()
        self.assertGreaterEqual(np.mean([t.found for t in teeth]), 0.9)
        self.assertGreaterEqual(np.mean([t.told == t.fdi for t in teeth]), 0.9)
