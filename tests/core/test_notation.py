"""Tooth numbers against ISO 3950 and the published Universal and Palmer charts."""

from __future__ import annotations

import unittest

from bitecore.anatomy.notation import DECIDUOUS, PERMANENT, along_arch, parsed, tooth
from bitecore.errors import BadSetting


class NotationTest(unittest.TestCase):
    def test_iso_3950_numbers(self) -> None:
        self.assertEqual(set(PERMANENT), {q * 10 + n for q in (1, 2, 3, 4) for n in range(1, 9)})
        self.assertEqual(set(DECIDUOUS), {q * 10 + n for q in (5, 6, 7, 8) for n in range(1, 6)})
        for wrong in (0, 10, 19, 49, 56, 86, 90, 111):
            with self.assertRaises(BadSetting):
                tooth(wrong)

    def test_universal_chart(self) -> None:
        """American Dental Association, Universal/National System: the corners of its chart."""
        chart = {18: "1", 11: "8", 21: "9", 28: "16", 38: "17", 31: "24", 41: "25", 48: "32", 36: "19", 46: "30", 14: "5"}
        chart |= {55: "A", 51: "E", 61: "F", 65: "J", 75: "K", 71: "O", 81: "P", 85: "T"}
        for fdi, universal in chart.items():
            self.assertEqual(tooth(fdi).universal, universal)
        self.assertEqual(sorted(int(tooth(n).universal) for n in PERMANENT), list(range(1, 33)))

    def test_palmer_corners(self) -> None:
        """The vertical stroke stands at the patient's midline, the horizontal one between the jaws."""
        self.assertEqual([tooth(n).palmer for n in (11, 21, 31, 41, 48, 55)], ["1┘", "└1", "┌1", "1┐", "8┐", "E┘"])

    def test_ranges_run_along_the_arch(self) -> None:
        self.assertEqual(along_arch(13, 23), [13, 12, 11, 21, 22, 23])
        self.assertEqual(along_arch(33, 43), [33, 32, 31, 41, 42, 43])
        self.assertEqual(parsed("26, 14-16 11"), "16 15 14 11 26")
        self.assertEqual(parsed(""), "")
        for wrong in ("14-34", "1a", "14-", "14-15-16", "99"):
            with self.assertRaises(BadSetting):
                parsed(wrong)
