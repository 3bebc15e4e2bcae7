"""A bite that comes late, and a rescan that keeps the bite it takes over."""

from __future__ import annotations

import re

from demo import rescans
from tests.browser.bites import PLAN, BiteCase
from tests.browser.harness import parse_mm, scan


class LateTest(BiteCase):
    def test_a_bite_that_comes_late_costs_nothing(self) -> None:
        page = self.page
        self.apart()
        self.step("Trim").click()
        page.get_by_role("tab", name=re.compile("^Upper")).click()
        self.set_number("Bottom, from the occlusal plane", "14")
        self.wait_reading("Bottom saw", "14.00 mm")
        self.wait_state("Plate", "needs a look")  # the bite is open
        before = self.numbers(page)
        self.dropped("left", "right")
        self.step("Bite").click()
        page.get_by_text("Fitted by 2 bite scans (left and right)").wait_for(timeout=180_000)
        self.wait_state("Plate", "done")
        tiles = page.get_by_label("Pieces")
        tiles.get_by_text("Bite, left", exact=True).wait_for()
        tiles.get_by_text("Bite, right", exact=True).wait_for()
        self.assertLess(parse_mm(self.reading("Teeth held to about")), 60.0)
        self.assertLess(parse_mm(self.all_readings("Deepest overlap")), 0.15)
        after = self.numbers(page)
        # The plane is the lower's: its body is untouched. The upper is levelled with it now; its saw stands where it was set.
        for name in ("Lower Bottom saw below", "Lower Volume", "Lower Height", "Upper Bottom saw below"):
            self.assertEqual(after[name], before[name], name)
        self.assertAlmostEqual(after["Upper Volume"] / before["Upper Volume"], 1.0, delta=0.3)
        # Taken back, all is as before without working anything out again.
        page.keyboard.press("Control+z")
        tiles.get_by_text("Bite, left", exact=True).wait_for(state="detached")
        self.assertEqual(self.numbers(page), before)

    def test_a_rescan_elsewhere_keeps_the_bite_it_takes_over(self) -> None:
        page = self.page
        truth = rescans.true_pair(PLAN)
        self.drop(("u.stl", scan(truth.upper.mesh)), ("l.stl", scan(truth.lower.mesh)))
        page.wait_for_url(re.compile("/case/"))
        self.wait_state("Plate", "done")
        self.dropped("again")
        page.get_by_role("group", name=re.compile("again.stl is a further scan")).get_by_role("button", name="instead").click()
        page.get_by_title(re.compile("^again.stl: the tools")).get_by_text("Lower", exact=True).wait_for()
        self.step("Bite").click()
        page.get_by_text("The relation is that of an earlier pair of scans").wait_for(timeout=180_000)
        self.wait_state("Plate", "done")
        self.assertLess(parse_mm(self.reading("Teeth held to about")), 60.0)

    def test_what_a_late_bite_did_and_how_far_its_scans_lie_off(self) -> None:
        page = self.page
        self.apart()
        self.dropped("left", "right")
        page.get_by_text("Fitted by 2 bite scans (left and right)").wait_for(timeout=180_000)
        self.wait_state("Plate", "done")
        did = page.get_by_label("What the change did")
        did.get_by_text("Since: Added left.stl, right.stl").wait_for()
        did.get_by_text(re.compile("^Lower did not move; its body is the same")).wait_for()
        did.get_by_text(re.compile(r"^Upper moved \d+\.\d\d mm, \d+\.\d°; its body")).wait_for()
        # The move is played; then everything stands where it stood.
        page.keyboard.press("i")
        page.wait_for_timeout(2200)
        page.get_by_label("How the jaws stand").get_by_role("button", name="Show").first.click()
        page.get_by_label("Off the jaw").wait_for()
        for jaw in ("Upper", "Lower"):
            for _ in range(2):
                page.get_by_title(re.compile(f"^{jaw}: shown, ghosted or hidden")).click()
        page.keyboard.press("3")
        page.wait_for_timeout(1500)
        under = page.get_by_test_id("under")
        for x in range(20, 80, 3):
            self.hover_at(x / 100, 0.5)
            if "here" in under.inner_text():
                break
        value = re.match(r"here ([+−]?\d+)", under.inner_text())
        self.assertIsNotNone(value)
        # Noise of 10 µm on both surfaces: the patch lies on the jaw.
        self.assertLess(abs(int(value[1].replace("−", "-"))), 100)
