"""Label through the real interface: words, fonts, more labels, turned ones, a mark of the house, and the veil over it."""

from __future__ import annotations

import re

from django.test import tag

from tests.browser.harness import BrowserCase, parse_mm


class LabelTest(BrowserCase):
    def labels(self) -> list[str]:
        return self.page.get_by_role("region", name="Labels").get_by_role("listitem").all_inner_texts()

    def text(self, name: str, words: str) -> None:
        field = self.page.get_by_label(name, exact=True)
        field.fill(words)
        field.press("Enter")

    def test_written_added_turned_and_hidden(self) -> None:
        page = self.page
        number = self.open_pair()
        self.wait_state("Plate", "done")
        self.step("Label").click()
        page.get_by_role("combobox", name="Label").select_option("engraved")
        page.get_by_text(f"“{number} upper”, on the wall.").wait_for(timeout=180_000)
        self.text("Text", "{nobody}")
        page.get_by_text(re.compile("words in braces are")).first.wait_for()
        self.text("Text", "{number}")
        page.get_by_role("combobox", name="Letters").select_option("line")
        page.get_by_text(f"“{number}”, on the wall.").wait_for(timeout=180_000)
        page.get_by_label("Pen", exact=True).fill("0.2")
        page.get_by_label("Pen", exact=True).press("Enter")
        page.get_by_text(re.compile(r"are 0.20 mm wide, 4 pixels of the printer")).first.wait_for(timeout=180_000)
        page.get_by_role("button", name="Fix", exact=True).first.click()
        page.get_by_text(re.compile("pixels of the printer")).first.wait_for(state="detached", timeout=180_000)
        self.assertGreaterEqual(parse_mm(self.reading("Thinnest stroke")), 0.25)
        page.get_by_role("button", name="Add text").click()
        page.get_by_label("Text of this label").fill("lot 7")
        page.get_by_label("Text of this label").press("Enter")
        page.get_by_text(re.compile("“lot 7”")).first.wait_for(timeout=180_000)
        self.assertEqual(len(self.labels()), 2)
        turned = page.get_by_role("region", name="Labels").get_by_label("Turned").last
        turned.fill("180")
        turned.press("Enter")
        page.wait_for_function("() => [...document.querySelectorAll('[aria-label=Labels] input')].some((i) => i.value === '180')")
        page.get_by_text(re.compile("“lot 7”")).first.wait_for(timeout=180_000)
        page.get_by_role("button", name="Remove").click()
        page.get_by_text(re.compile("“lot 7”")).first.wait_for(state="detached", timeout=180_000)

    @tag("long")
    def test_a_name_is_dots_under_the_veil(self) -> None:
        page = self.page
        number = self.open_pair()
        self.wait_state("Plate", "done")
        page.keyboard.press("d")
        page.get_by_label("Patient").fill("Ida Quell")
        page.get_by_label("Patient").press("Enter")
        page.get_by_role("button", name=re.compile(f"{number}.*Ida")).wait_for()
        page.keyboard.press("Escape")
        self.step("Label").click()
        page.get_by_role("combobox", name="Label").select_option("engraved")
        self.text("Text", "{patient}")
        page.get_by_text(re.compile("“Ida Quell”")).first.wait_for(timeout=180_000)
        words = page.get_by_test_id("label-upper")
        self.assertEqual(words.text_content(), "Ida Quell")
        self.wait_state("Plate", "done")
        page.keyboard.press("v")
        page.wait_for_function("() => document.querySelector('[data-testid=label-upper]')?.textContent === '•••••'")
        self.assertNotIn("Ida", page.content())
