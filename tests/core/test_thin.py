"""Walls too thin for a printer, on shapes whose thickness is known; what else a printer's record says of a plate."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
from manifold3d import CrossSection, Manifold

from bitecore.ops.layers import Layers
from bitecore.ops.thin import thin_walls
from bitecore.parts.job_name import job_stem
from bitecore.parts.print_check import checked
from bitecore.parts.printing import build_plate, no_such_layer, tank_words, tower
from bitecore.parts.shelf import BUILT_IN, Printer
from bitecore.progress import QUIET
from tests.core.test_check import block, cut

Solid = Manifold


class ThinWallTest(unittest.TestCase):
    BASE = block((30, 30, 2))

    def wall(self, thick: float, turn: float = 0.0, long: float = 10.0, tall: float = 6.0) -> Layers:
        upright = Solid.cube([long, thick, tall], True).rotate([0, 0, turn]).translate([15, 15, 1.5 + tall / 2])
        return cut(self.BASE + upright)

    def test_a_wall_is_as_thick_as_it_is_whichever_way_it_runs(self) -> None:
        for turn in (0.0, 17.0, 22.5, 45.0, 71.0, 90.0, 135.0):
            for thick in (0.1, 0.2, 0.3):
                (found,) = thin_walls(self.wall(thick, turn), 0.5)
                # A pixel of 0.05 mm either way, slanting 0.07, and 8 % too much between two of the four ways looked.
                self.assertLess(abs(found.wide_mm / (thick * 1.04) - 1), 0.071 / thick + 0.04, (turn, thick, found))
                self.assertAlmostEqual(found.long_mm, 10.0, delta=0.7)
                self.assertLess(abs(found.layers[0] * 0.05 - 2.0), 1.1)
                self.assertLess(abs(found.layers[1] * 0.05 - 7.5), 1.1)
                at = np.array([found.x, found.y]) * 0.05
                self.assertLess(np.hypot(*(at - 15)), 2.5)
            self.assertEqual(thin_walls(self.wall(0.5, turn), 0.4), [], turn)

    def test_tips_in_a_row_as_between_letters_are_no_wall(self) -> None:
        combed = block((10, 3, 6), (5, 8, 1.5))
        for k in range(18):
            combed = combed - Solid.cylinder(7, 0.33, 0.33, 24).translate([5.4 + 0.52 * k, 8, 1.4])
        self.assertEqual(thin_walls(cut(self.BASE + combed), 0.2), [])

    def test_what_is_short_or_low_or_ends_in_a_corner_is_none(self) -> None:
        self.assertEqual(thin_walls(self.wall(0.2, long=1.0), 0.4), [])
        self.assertEqual(thin_walls(self.wall(0.2, tall=1.0), 0.4), [])
        for solid in (block((8, 8, 10)), Solid.cube([8, 8, 10]).rotate([0, 0, 30]), Solid.cylinder(10, 8, 0.0, 64), Solid.sphere(8, 64)):
            self.assertEqual(thin_walls(cut(self.BASE + solid.translate([10, 10, 1])), 0.4), [])
        # A ridge of 60° is thin at its edge alone.
        ridge = CrossSection([[[0, 0], [8, 0], [4, 6.93]]]).extrude(10).rotate([90, 0, 0]).translate([10, 20, 1.5])
        self.assertEqual(thin_walls(cut(self.BASE + ridge), 0.4), [])

    def test_two_walls_are_two_and_the_print_check_says_where(self) -> None:
        two = cut(self.BASE + block((10, 0.2, 5), (5, 8, 1.5)) + block((0.15, 6, 5), (25, 20, 1.5)))
        found = thin_walls(two, 0.4)
        self.assertEqual([round(t.long_mm) for t in found], [10, 6])
        said = [f for f in checked(two, 2.0, QUIET, plate={"printer": "Wren", "least_mm": 0.4}).found if f.code == "too-thin"]
        self.assertEqual(len(said), 2)
        self.assertRegex(
            said[0].message, r"A wall 0\.2\d mm thick, from 2\.\d to [56]\.\d mm .* thinner than the Wren prints \(0\.40 mm\)\."
        )
        assert said[0].at_mm
        self.assertLess(np.hypot(said[0].at_mm[0] - 10, said[0].at_mm[1] - 8.1), 2.0)
        self.assertEqual(
            [f for f in checked(two, 2.0, QUIET, plate={"printer": "Wren", "least_mm": 0.1}).found if f.code == "too-thin"], []
        )


class RecordTest(unittest.TestCase):
    PRINTING: dict[str, Any] = {"layer_mm": 0.05, "layer_s": 7.5, "first_layer_s": 30.0, "first_layers": 5}

    def test_one_body_alone_that_makes_it_long(self) -> None:
        # 60 mm beside 20 mm: 800 layers of 7.5 s are 100 minutes.
        self.assertEqual(tower({"a": 20.0, "b": 60.0, "c": 18.0}, self.PRINTING), ("b", 800, 100.0))
        for quiet in ({"a": 60.0}, {"a": 60.0, "b": 58.0}, {"a": 20.0, "b": 23.0}, {}):
            self.assertIsNone(tower(quiet, self.PRINTING), quiet)

    def test_layers_that_it_does_not_print(self) -> None:
        wren = Printer.model_validate(BUILT_IN["printer"]["wren"].data)
        self.assertIsNone(no_such_layer("Wren", wren, 0.1))
        self.assertEqual(no_such_layer("Wren", wren, 0.15), ("The Wren prints layers from 0.025 to 0.1 mm, not of 0.15 mm.", 0.1))
        self.assertEqual((no_such_layer("Wren", wren, 0.01) or ("", 0))[1], 0.025)

    def test_a_tank_that_holds_less_than_the_plate_takes(self) -> None:
        wren = Printer.model_validate({**BUILT_IN["printer"]["wren"].data, "tank_ml": 80})
        plate = build_plate("Wren", wren)
        self.assertEqual(tank_words(plate, {"ml": 79.9}), "")
        self.assertIn("takes 109 ml, the tank of the Wren holds 80 ml", tank_words(plate, {"ml": 109.4}))
        self.assertEqual(tank_words({**plate, "tank_ml": None}, {"ml": 1e6}), "")

    def test_a_print_is_called_so_that_every_printer_takes_it(self) -> None:
        words = {"number": "2612-03", "date": "2026-12-01", "printer": "Wren", "resin": "Gips Weiß / neu"}
        for pattern, name in (
            ("{number}", "2612-03"), ("{date}_{printer}_{number}", "2026-12-01_Wren_2612-03"), ("{resin}", "Gips-Weiss-neu"),
            ("../{number}", "2612-03"), ("---", "2612-03"), ("x" * 100, "x" * 60), ("Größe {number}", "Grosse-2612-03"),
        ):  # fmt: skip
            self.assertEqual(job_stem(pattern, words), name)
