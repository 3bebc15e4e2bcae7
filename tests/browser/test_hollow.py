"""Hollow and the section, through the real interface."""

from __future__ import annotations

import re

from tests.browser.harness import BrowserCase, parse_mm


class HollowTest(BrowserCase):
    def row(self, name: str) -> list[float]:
        """What a row of the table says, as it is and solid."""
        cells = self.page.get_by_role("table", name="What it takes").get_by_role("row", name=name).get_by_role("cell").all_inner_texts()
        return [float(re.sub(r"[^\d.]", "", cell)) for cell in cells]

    def test_hollowed_cut_through_and_taken_back(self) -> None:
        page = self.page
        self.open_pair()
        self.wait_state("Plate", "done")
        self.step("Hollow").click()
        page.get_by_role("table", name="What it takes").wait_for()
        solid, whole = self.row("Resin")
        self.assertEqual(solid, whole, "nothing is taken out yet")
        page.get_by_role("combobox", name="Inside").select_option("open")
        page.get_by_text(re.compile("Open underneath, 3 drains")).first.wait_for()
        self.assertGreater(parse_mm(self.reading("Thinnest wall")), 1.95)
        for _ in range(120):
            made, whole = self.row("Resin")
            if made < whole:
                break
            page.wait_for_timeout(250)
        self.assertEqual(whole, solid)
        self.assertLess(made, 0.75 * whole)
        self.shown(2)
        page.keyboard.press("y")
        page.get_by_test_id("section").filter(has_text="across").wait_for()
        page.get_by_role("button", name="Turn it").click()
        page.get_by_test_id("section").filter(has_text="from the front").wait_for()
        page.get_by_role("button", name="Turn it").click()
        page.keyboard.press("ArrowUp")
        page.get_by_test_id("section").filter(has_text="level, 0.5 mm").wait_for()
        page.keyboard.press("y")
        page.keyboard.press("Control+z")
        page.get_by_text(re.compile("Open underneath, 3 drains")).first.wait_for(state="detached")
