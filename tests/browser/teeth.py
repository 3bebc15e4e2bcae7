"""The lower from above, its teeth told: where they are pressed on, and what becomes of them."""

from __future__ import annotations

import re
from collections.abc import Callable

from tests.browser.harness import BrowserCase


class TeethCase(BrowserCase):
    def told(self, number: str) -> dict[int, dict]:
        """The lower's teeth by number, as the interface for programs gives them."""
        told = self.page.request.get(f"{self.app.address}/api/cases/{number}/teeth.json").json()
        return {t["fdi"]: t for jaw in told["jaws"] if jaw["jaw"] == "lower" for t in jaw["teeth"]}

    def lower_from_above(self) -> str:
        number = self.open_pair()
        page = self.page
        page.keyboard.press("Alt+4")
        page.get_by_test_id("tooth-36").wait_for(state="attached")
        page.keyboard.press("u")
        page.keyboard.press("u")
        page.keyboard.press("5")
        page.get_by_role("tab", name=re.compile("Lower")).click()
        page.wait_for_timeout(2500)
        return number

    def press_on(self, tooth: str, tool: str) -> None:
        """With the tool that numbers in the hand, press about the tooth's number until it is under the pointer."""
        page = self.page
        box = page.get_by_test_id(f"tooth-{tooth}").bounding_box()
        middle = page.get_by_test_id("tooth-41").bounding_box()
        assert box and middle
        # Towards the middle of the arch from its number; again while what is pressed on is still made ready.
        for _ in range(150):
            for share in (0.1, 0.15, 0.2, 0.25, 0.3, 0.35):
                x = box["x"] + box["width"] / 2 + share * (middle["x"] - box["x"])
                y = box["y"] + box["height"] / 2
                page.mouse.click(x, y)
                if page.get_by_text(re.compile(f"^{tooth} is")).is_visible():
                    self.at = (x, y)
                    return
            page.wait_for_timeout(500)
        raise AssertionError(f"{tooth} is not found by {tool}")

    def wait_margin(self, number: str, tooth: int, until: Callable[[list], bool]) -> list:
        """The tooth's margin once it is as asked; while the jaw is told anew the interface has none."""
        for _ in range(720):
            found = self.told(number).get(tooth)
            if found and until(found["margin_mm"]):
                return found["margin_mm"]
            self.page.wait_for_timeout(250)
        raise AssertionError(f"the margin of {tooth} does not come: {found and len(found['margin_mm'])} places")

    def wait_numbers(self, number: str, has: set[int], without: set[int]) -> dict[int, dict]:
        for _ in range(720):
            found = self.told(number)
            if has <= set(found) and not without & set(found):
                return found
            self.page.wait_for_timeout(250)
        raise AssertionError(f"{sorted(found)} are told")
