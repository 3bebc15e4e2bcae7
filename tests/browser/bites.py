"""Scans of one mouth, each in coordinates of its own, and short ways to a bite of them."""

from __future__ import annotations

import re
from dataclasses import replace
from functools import cache

import numpy as np
from playwright.sync_api import Page

from bitecore.mesh import Mesh
from demo import rescans
from demo.arch import ArchPlan
from demo.variants import turned
from tests.browser.harness import BrowserCase, parse_mm, scan

PLAN = ArchPlan(seed=3, grid_mm=0.7, noise_mm=0.01)


@cache
def set_of_scans() -> dict[str, Mesh]:
    """Jaws and bite scans of one mouth, each in coordinates of its own."""
    truth = rescans.true_pair(PLAN)
    rng = np.random.default_rng(1)
    return {
        "upper": rescans.as_scanned(truth.upper.mesh, PLAN, rng).moved(turned(81)),
        "lower": rescans.as_scanned(truth.lower.mesh, PLAN, rng).moved(turned(82)),
        "left": rescans.bite_scan(truth, PLAN, left=True, rng=rng).moved(turned(83)),
        "right": rescans.bite_scan(truth, PLAN, left=False, rng=rng).moved(turned(84)),
        "again": rescans.as_scanned(rescans.otherwise_meshed(truth.lower.mesh, rng), PLAN, rng).moved(turned(85)),
        "stranger": rescans.bite_scan(rescans.true_pair(replace(PLAN, seed=9)), PLAN, left=True, rng=rng).moved(turned(86)),
    }


class BiteCase(BrowserCase):
    def dropped(self, *names: str) -> None:
        self.drop(*((f"{name}.stl", scan(set_of_scans()[name])) for name in names))

    def apart(self) -> None:
        self.dropped("upper", "lower")
        self.page.wait_for_url(re.compile("/case/"))
        self.wait_state("Plate", "needs a look")  # the bite is open
        self.step("Bite").click()
        self.page.get_by_text("so the bite is missing").wait_for()

    def numbers(self, page: Page) -> dict[str, float]:
        """What stands on the cards of both jaws."""
        out = {}
        for step, name in (("Trim", "Bottom saw below"), ("Base", "Volume"), ("Base", "Height")):
            for jaw in ("Upper", "Lower"):
                self.step(step).click()
                page.get_by_role("tab", name=re.compile(f"^{jaw}")).click()
                out[f"{jaw} {name}"] = parse_mm(self.all_readings(name))
        return out

    def all_readings(self, name: str) -> str:
        more = self.page.get_by_role("button", name=re.compile("more readings"))
        if more.count():
            more.click()
        return self.reading(name)

    def hover_at(self, left: float, down: float) -> None:
        box = self.page.get_by_test_id("stage").bounding_box()
        assert box
        self.page.mouse.move(box["x"] + left * box["width"], box["y"] + down * box["height"])
        self.page.wait_for_timeout(90)
