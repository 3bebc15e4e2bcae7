"""The seeds of ./bench fuzz and some thousand damaged copies of them: nothing hangs, nothing breaks, every refusal a sentence."""

from __future__ import annotations

import time
import unittest

import numpy as np

from tests.core.test_fuzz import damaged
from tests.fuzz.targets import TARGETS


class SeedsTest(unittest.TestCase):
    def test_every_target_on_its_seeds_and_on_damaged_copies(self) -> None:
        for name, (target, seeds, _) in TARGETS.items():
            rng = np.random.default_rng(len(name))
            for number, seed in enumerate(seeds()):
                with self.subTest(f"{name} {number}"):
                    target(seed)
                    for _ in range(12):
                        started = time.monotonic()
                        target(damaged(seed, rng))
                        self.assertLess(time.monotonic() - started, 10)

    def test_good_seeds_are_taken(self) -> None:
        for name, (target, seeds, _) in TARGETS.items():
            self.assertTrue(target(seeds()[0]), name)
