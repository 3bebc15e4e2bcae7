"""No doubt is waved through, no press is lost: doubts in a list where one stands, Enter for the tool in hand, pulls that change
nothing."""

from __future__ import annotations

import re
from typing import Any

from playwright.sync_api import expect

from tests.browser.harness import BrowserCase


class DoubtTest(BrowserCase):
    def case(self, number: str) -> dict[str, Any]:
        answer = self.page.request.get(f"{self.app.address}/api/cases/{number}?step=trim")
        out: dict[str, Any] = answer.json()
        return out

    def spot(self, x: float, y: float) -> tuple[float, float]:
        box = self.page.get_by_test_id("stage").bounding_box()
        assert box
        return box["x"] + box["width"] * x, box["y"] + box["height"] * y

    def test_a_doubt_stops_accept_all_and_is_answered_in_the_list(self) -> None:
        page = self.page
        self.open_pair(3)
        self.step("Base").click()
        card = page.get_by_label("Card")
        card.get_by_label("Height by").select_option("gap")
        self.set_number("Mounting gap", "15")
        card.get_by_text(re.compile("sticks out by")).wait_for()
        self.wait_state("Base", "needs a look")
        own = card.get_by_role("button", name=re.compile("needs? a yes"))
        expect(own).to_be_disabled()
        self.wait_state("Plate", "done")
        self.step("Hand-off").click()
        card.get_by_label("Doubts").wait_for()
        # One press goes up to the first doubt, and no farther.
        press = card.get_by_role("button", name=re.compile("Accept up to|has a doubt"))
        if press.is_enabled():
            press.click()
        expect(press).to_be_disabled()
        self.assertIn("Base", card.get_by_text("Not accepted yet").inner_text())
        self.answer_doubts(card)
        expect(card.get_by_role("button", name="Accept all, make the files")).to_be_enabled()
        card.get_by_role("button", name="Accept all, make the files").click()
        card.get_by_text(re.compile("files in bench coordinates")).wait_for()

    def test_enter_closes_the_fence_and_accepts_nothing(self) -> None:
        page = self.page
        number = self.open_pair(3)
        self.step("Trim").click()
        page.locator("[data-piece=p2] button[aria-pressed]").click()
        page.keyboard.press("5")
        page.keyboard.press("Shift+O")
        page.get_by_role("region", name="Fence").wait_for()
        page.wait_for_timeout(800)
        for corner in ((0.42, 0.2), (0.58, 0.2), (0.58, 0.3), (0.42, 0.3), (0.3, 0.3)):
            page.mouse.click(*self.spot(*corner))
            page.wait_for_timeout(60)
        # Delete takes the last corner back; a step away asks.
        page.keyboard.press("Delete")
        page.keyboard.press("Alt+5")
        page.get_by_text("The fence is not finished. Leave it?").wait_for()
        page.keyboard.press("Escape")
        page.wait_for_timeout(300)
        self.assertEqual(page.get_by_role("region", name="Fence").count(), 1)
        page.keyboard.press("Enter")
        page.get_by_role("list", name="Done by hand").wait_for()
        now = self.case(number)
        self.assertEqual(now["accepted"], {})
        marks = next(d for d in now["opened"] if d["step"] == "marked" and d["piece"] == "p2")["settings"]["marks"]
        self.assertEqual([mark["kind"] for mark in marks.values()], ["fence"])
        self.assertEqual(next(iter(marks.values()))["points_mm"]["count"], 4)
        # Nothing is begun: Enter says that the hand is not empty, and accepts nothing either.
        page.keyboard.press("Enter")
        page.wait_for_timeout(300)
        self.assertEqual(self.case(number)["accepted"], {})

    def test_a_press_on_a_saw_that_is_not_pulled_changes_nothing(self) -> None:
        page = self.page
        number = self.open_pair(3)
        self.step("Trim").click()
        page.keyboard.press("s")
        page.wait_for_timeout(1200)
        before = self.case(number)["revision"]
        for x, y in ((0.5, 0.62), (0.42, 0.55), (0.58, 0.7)):
            at = self.spot(x, y)
            page.mouse.move(*at)
            page.mouse.down()
            page.mouse.move(at[0] + 1, at[1] + 1)
            page.mouse.up()
            # And there and back again.
            page.mouse.down()
            page.mouse.move(at[0], at[1] + 40, steps=4)
            page.mouse.move(*at, steps=4)
            page.mouse.up()
        page.wait_for_timeout(800)
        self.assertEqual(self.case(number)["revision"], before)
