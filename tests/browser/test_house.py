"""The house page as a lead uses it."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.browser.harness import BrowserCase


class RecordTest(BrowserCase):
    def test_every_printer_and_resin_that_ships_is_kept_with_one_value_changed(self) -> None:
        page = self.signed_in("tove")
        page.goto(f"{self.app.address}/house")
        for shelf, label, value in (("Printers", "Lift and rest a layer", "6"), ("Resins", "First layers", "7")):
            entries = page.get_by_label(shelf, exact=True).locator("li form")
            entries.first.wait_for()
            for k in range(entries.count()):
                entry = entries.nth(k)
                field = entry.get_by_label(re.compile(f"^{label}"))
                self.assertNotEqual(field.get_attribute("placeholder"), "", "what counts where nothing is typed is seen")
                field.fill(value)
                name = entry.locator("input").first.input_value()
                entry.get_by_role("button", name="Keep").click()
                expect(page.get_by_text(f"{name} is kept.").first).to_be_visible()
        shelves = page.request.get(f"{self.app.address}/api/house/shelves").json()
        self.assertEqual({r["data"]["lift_s"] for r in shelves["printer"]}, {6.0})
        self.assertEqual({r["data"]["pixel_mm"] for r in shelves["printer"]}, {0.05}, "what was left empty is as it ships")
        self.assertEqual({r["data"]["base_layers"] for r in shelves["resin"]}, {7.0})
