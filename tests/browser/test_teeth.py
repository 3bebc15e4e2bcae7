"""Teeth as a technician meets them: told by themselves, numbered, joined and brushed by hand, taken back."""

from __future__ import annotations

import re

from django.test import tag

from tests.browser.teeth import TeethCase


class TeethTest(TeethCase):
    @tag("long")
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
