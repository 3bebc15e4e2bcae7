"""Base by hand: a squared pair made flush and fitted between plates, its height pulled by keys, a notch; a drain left out."""

from __future__ import annotations

import re

from tests.browser.harness import BrowserCase, parse_mm


class BaseTest(BrowserCase):
    def test_a_pair_is_squared_fitted_between_plates_and_drained(self) -> None:
        page = self.page
        self.open_pair()
        self.wait_state("Base", "done")
        self.step("Base").click()
        self.shown(2)
        page.get_by_role("combobox", name="Shape", exact=True).select_option("squared")
        page.get_by_role("button", name="Make the backs flush").click()
        page.get_by_text("Closed, the pair stands on its back and on both sides").wait_for()
        self.set_number("Mounting gap", "30")
        past = page.get_by_text(re.compile(r"sticks out by [\d.]+ mm past each plate of a gap of 30.0 mm"))
        past.first.wait_for(timeout=180_000)
        page.get_by_test_id("plate-lower").filter(has_text="mm past the plate").wait_for()
        page.get_by_role("button", name=re.compile(r"^Gap [\d.]+ mm$")).or_(page.get_by_role("button", name="Fit the bases")).first.click()
        past.first.wait_for(state="detached", timeout=180_000)
        self.set_number("Mounting gap", "")
        page.get_by_role("combobox", name="Height by", exact=True).select_option("under")
        self.wait_state("Base", "done")
        self.height_by_keys()
        self.notch()
        self.drains()

    def height_by_keys(self) -> None:
        page = self.page
        page.keyboard.press("Shift+H")
        page.get_by_test_id("foot-mm").filter(has_text="2.00 mm under the lowest point").wait_for()
        page.keyboard.press("Shift+ArrowDown")
        page.keyboard.press("ArrowDown")
        page.get_by_test_id("foot-mm").filter(has_text="3.10 mm under the lowest point").wait_for()
        page.wait_for_function("() => document.querySelector('[aria-label=Readings]')?.innerText.includes('3.10 mm')", timeout=180_000)
        self.assertAlmostEqual(parse_mm(self.reading("Under the lowest point")), 3.1, places=2)
        page.keyboard.press("Shift+H")

    def notch(self) -> None:
        page = self.page
        self.set_number("Under the lowest point", "6")
        page.get_by_role("button", name="More settings").click()
        page.get_by_role("checkbox", name="Notch", exact=True).click()
        page.get_by_text("A notch 8 mm wide at the rim").first.wait_for(timeout=180_000)

    def drains(self) -> None:
        page = self.page
        self.step("Hollow").click()
        page.get_by_role("combobox", name="Inside", exact=True).select_option("open")
        listed = page.get_by_role("list", name="Drains")
        listed.get_by_text("Drain 3", exact=True).wait_for(timeout=180_000)
        listed.get_by_role("listitem").filter(has_text="Drain 2").get_by_role("button", name="Leave out").click()
        page.get_by_text("Open underneath, 2 drains").first.wait_for(timeout=180_000)
        listed.get_by_text("Drain 2, left out").wait_for()
        listed.get_by_role("button", name="Back again").click()
        page.get_by_text("Open underneath, 3 drains").first.wait_for(timeout=180_000)
        for number, left in ((2, "2 drains"), (3, "1 drain")):
            listed.get_by_role("listitem").filter(has_text=f"Drain {number}").get_by_role("button", name="Leave out").click()
            page.get_by_text(f"Open underneath, {left}").first.wait_for(timeout=180_000)
        page.get_by_label("Card").get_by_role("button", name="Add a drain").first.click()
        page.get_by_text("Open underneath, 2 drains").first.wait_for(timeout=180_000)
        page.get_by_role("button", name="Compare all styles").click()
        page.get_by_role("table", name="What it takes").get_by_text("closed").wait_for(timeout=180_000)
