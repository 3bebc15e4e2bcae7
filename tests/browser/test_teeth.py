"""Teeth as a technician meets them: told by themselves, numbered, joined and brushed by hand, taken back."""

from __future__ import annotations

import re
from collections.abc import Callable

from tests.browser.harness import BrowserCase


class TeethTest(BrowserCase):
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

    def wait_margin(self, number: str, tooth: int, until: Callable[[float], bool]) -> float:
        """The tooth's margin once it is as asked; while the jaw is told anew the interface has none."""
        for _ in range(720):
            found = self.told(number).get(tooth)
            if found and until(found["margin_mm"]):
                return found["margin_mm"]
            self.page.wait_for_timeout(250)
        raise AssertionError(f"the margin of {tooth} does not come: {found}")

    def wait_numbers(self, number: str, has: set[int], without: set[int]) -> dict[int, dict]:
        for _ in range(720):
            found = self.told(number)
            if has <= set(found) and not without & set(found):
                return found
            self.page.wait_for_timeout(250)
        raise AssertionError(f"{sorted(found)} are told")

    def test_a_number_by_hand_and_what_is_no_tooth(self) -> None:
        page = self.page
        number = self.lower_from_above()
        before = self.told(number)
        page.keyboard.press("Shift+N")
        self.press_on("36", "Number")
        page.get_by_label("Which tooth it is").select_option("none")
        self.wait_numbers(number, set(before) - {36}, {36})
        by_hand = page.get_by_role("list", name="Teeth by hand")
        by_hand.get_by_text("By hand: no tooth").wait_for()
        page.reload()
        page.get_by_role("tab", name=re.compile("Lower")).wait_for()
        page.keyboard.press("Alt+4")
        page.get_by_role("tab", name=re.compile("Lower")).click()
        by_hand.get_by_role("button", name=re.compile("Drop no tooth")).click()
        self.wait_numbers(number, set(before), set())
        page.keyboard.press("Control+z")
        self.wait_numbers(number, set(before) - {36}, {36})
        page.keyboard.press("Control+z")
        self.wait_numbers(number, set(before), set())

    def test_a_stroke_of_the_swab_and_the_gum_tinted(self) -> None:
        page = self.page
        number = self.lower_from_above()
        self.shown(2)
        page.keyboard.press("Shift+G")
        self.shown(1)
        page.keyboard.press("Shift+G")
        self.shown(2)
        page.keyboard.press("Shift+N")
        self.press_on("46", "Number")
        was = self.wait_margin(number, 46, bool)
        page.keyboard.press("Shift+W")
        page.get_by_text("Brush from a tooth").wait_for()
        page.wait_for_timeout(300)
        x, y = self.at
        page.mouse.move(x, y)
        page.mouse.down()
        # Over the whole tooth and onto the gum towards the cheek, wherever in the tooth it began.
        for k in range(1, 20):
            page.mouse.move(x - 6 * k, y)
        page.mouse.up()
        page.get_by_role("list", name="Teeth by hand").get_by_text("By hand: stroke, tooth").wait_for()
        self.wait_margin(number, 46, lambda mm: mm != was)
        page.keyboard.press("Control+z")
        self.wait_margin(number, 46, lambda mm: mm == was)

    def test_contacts_by_tooth_and_the_labelled_surface(self) -> None:
        page = self.page
        number = self.open_pair()
        page.keyboard.press("Alt+2")
        row = page.get_by_role("list", name="Contacts").get_by_text(re.compile(r"^[34]\d on [12]\d")).first
        row.wait_for()
        told = page.request.get(f"{self.app.address}/api/cases/{number}/teeth.json").json()
        for jaw in told["jaws"]:
            got = page.request.get(f"{self.app.address}/api/cases/{number}/teeth_{jaw['piece']}.ply")
            self.assertIn(b"property short fdi", got.body()[:400])
        none = page.request.get(f"{self.app.address}/api/cases/{number}/teeth_p99.ply")
        self.assertEqual((none.status, none.json()["code"]), (409, "no-teeth"))
