"""Eight small cases of the trial: what ./bench trial does on a hundred."""

from __future__ import annotations

import unittest

from tests.trial.__main__ import page
from tests.trial.intake import judged


class IntakeTrialTest(unittest.TestCase):
    def test_eight_cases(self) -> None:
        found = [outcome for number in range(8) for outcome in judged(number, 0.9)]
        self.assertEqual(len(found), 24)
        self.assertEqual([o for o in found if o.wrong_and_sure], [])
        # One miss that was not sure would be within what is reached on a hundred.
        self.assertLessEqual(len([o for o in found if not o.right]), 1)
        self.assertIn("| unit, all scans |", page(found, 8))
