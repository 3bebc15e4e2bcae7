"""Bite as a technician meets it: a bite that comes late, marks by mouse, contacts, the book, a rescan that keeps the bite."""

from __future__ import annotations

import re

from django.test import tag
from playwright.sync_api import expect

from tests.browser.bites import BiteCase
from tests.browser.harness import parse_mm


class BiteTest(BiteCase):
    def test_the_bite_of_somebody_else_is_refused_and_marks_ask_for_more(self) -> None:
        page = self.page
        self.apart()
        self.dropped("stranger")
        page.get_by_text("the bite scan was refused").wait_for(timeout=180_000)
        page.get_by_role("button", name="Marks").click()
        ask = page.get_by_test_id("marks-ask")
        ask.get_by_text("Still to mark: 3 on the upper, 3 on the lower.").wait_for()

    def click_on(self, left: float, down: float) -> None:
        box = self.page.get_by_test_id("stage").bounding_box()
        assert box
        x, y = box["x"] + left * box["width"], box["y"] + down * box["height"]
        self.page.mouse.move(x, y)
        self.page.mouse.click(x, y)

    def test_marks_are_set_moved_and_dropped_by_mouse(self) -> None:
        page = self.page
        self.dropped("upper", "lower", "left")
        page.wait_for_url(re.compile("/case/"))
        self.wait_state("Plate", "done")
        self.step("Bite").click()
        page.get_by_text("Only the left side was scanned closed").wait_for()
        page.get_by_role("button", name="Marks").click()
        ask = page.get_by_test_id("marks-ask")
        ask.get_by_text("Still to mark").wait_for()
        self.shown(3)
        # Until its search tree is there a surface is not hit: the click is tried again, as a person would.
        self.mark_left(ask)
        drop = page.get_by_role("button", name="Drop pair 1")
        for _ in range(150):
            self.click_on(0.74, 0.44)
            page.wait_for_timeout(700)
            if drop.count():
                break
        drop.wait_for()
        ask.get_by_text(re.compile("Still to mark: (2 on the upper, 3 on the lower|3 on the upper, 2 on the lower)")).wait_for()
        page.get_by_role("button", name="Move", exact=True).click()
        self.mark_left(ask)
        self.click_on(0.78, 0.56)
        ask.get_by_text("Still to mark").wait_for()
        page.get_by_role("button", name="Drop pair 1").click()
        ask.get_by_text("3 on the upper, 3 on the lower").wait_for()
        page.get_by_role("button", name="Done with marks").click()
        page.get_by_label("How the jaws stand").get_by_text("Bite, left").wait_for()

    def test_a_nudge_by_keys_is_exact_and_one_step_of_undo(self) -> None:
        page = self.page
        self.open_pair()
        self.step("Bite").click()
        page.keyboard.press("m")
        for _ in range(3):
            page.keyboard.press("ArrowLeft")
        page.keyboard.press("Shift+PageDown")
        page.get_by_text("Nudged by hand: 0.10 mm, 0.00°.").wait_for()
        page.get_by_role("button", name="More settings").click()
        self.assertEqual(page.get_by_label("Lower to the left", exact=True).input_value(), "-0.03")
        self.assertEqual(page.get_by_label("Lower up", exact=True).input_value(), "-0.1")
        page.keyboard.press("Control+z")
        page.get_by_text("Nudged by hand").wait_for(state="detached")
        # The sentence may be gone before what was undone is.
        expect(page.get_by_label("Lower to the left", exact=True)).not_to_have_value("-0.03")
        page.keyboard.press("Alt+ArrowUp")
        page.keyboard.press("Alt+Shift+PageDown")
        page.get_by_text("Nudged by hand: 0.00 mm, 1.00°.").wait_for()
        self.assertEqual(page.get_by_label("Lower tilted", exact=True).input_value(), "0.1")
        self.assertEqual(page.get_by_label("Lower turned", exact=True).input_value(), "-1")

    @tag("long")
    def test_a_nudge_makes_a_bite_where_there_is_none(self) -> None:
        page = self.page
        self.apart()
        self.step("Bite").click()
        page.get_by_text("so the bite is missing").wait_for()
        page.keyboard.press("m")
        page.keyboard.press("Shift+PageDown")
        page.get_by_text("no scan says that it bites so").wait_for(timeout=180_000)
        page.get_by_text("Nudged by hand: 0.10 mm, 0.00°.").wait_for()
        self.assertEqual(page.get_by_label("Relation from").input_value(), "auto")
        page.keyboard.press("Control+z")
        page.get_by_text("so the bite is missing").wait_for(timeout=180_000)

    def test_one_more_bite_is_set_looked_at_and_the_models_go_into_it(self) -> None:
        page = self.page
        number = self.open_pair()
        self.step("Bite").click()
        page.get_by_label("Card").get_by_role("button", name="Add a bite").click()
        bites = page.get_by_role("region", name="Bites")
        bites.get_by_role("button", name="Change: Bite 2").click()
        name = bites.get_by_label("Name", exact=True)
        name.fill("Protruded")
        name.press("Enter")
        forward = bites.get_by_label("Forward")
        forward.fill("4")
        forward.press("Enter")
        bites.get_by_text("4.00 mm forward").wait_for()
        bites.get_by_role("button", name="Look: Protruded").click()
        bites.get_by_role("button", name="Use: Protruded").click()
        page.get_by_text("The models are in “Protruded”, one of 2 bites.").wait_for()
        nodes = page.request.get(f"{self.app.address}/api/cases/{number}").json()["nodes"]
        bite = next(n for n in nodes if n["step"] == "bite")["good"]
        self.assertEqual([b["name"] for b in bite["bites"]], ["Habitual", "Protruded"])
        lower = next(n["piece"] for n in nodes if n["step"] == "base" and n["jaw"] == "lower")
        self.assertEqual(bite["home_to_bite"][lower], bite["bites"][1]["lower_to_upper"])
        page.keyboard.press("Control+z")
        page.get_by_text("The models are in “Habitual”, one of 2 bites.").wait_for()

    def test_level_by_three_marks_of_the_mouse(self) -> None:
        page = self.page
        self.open_pair()
        self.step("Level").click()
        page.keyboard.press("u")
        page.keyboard.press("u")  # the upper is hidden: the lower's edges can be seen
        page.keyboard.press("5")
        page.wait_for_timeout(600)
        page.keyboard.press("t")
        card = page.get_by_label("Card")
        # Front, left and right of the horseshoe, seen from above with the front at the bottom.
        for asked, left, down in (
            ("first between the incisal edges", 0.5, 0.74),
            ("patient's left", 0.66, 0.42),
            ("patient's right", 0.34, 0.42),
        ):
            self.press_until_gone(asked, left, down)
        card.get_by_text("Levelled by three marks set by hand.").wait_for()
        card.get_by_role("button", name="Take them back").click()
        card.get_by_text("tips and edges of the lower jaw").wait_for()

    def press_until_gone(self, words: str, left: float, down: float) -> None:
        """Presses around a place until the hint with these words has given way to the next."""
        for k in range(120):
            if not self.page.get_by_text(words).count():
                return
            self.click_on(left + 0.02 * ((k % 5) - 2), down - 0.02 * ((k // 5) % 5))
            self.page.wait_for_timeout(200)
        self.fail(f"still asked: {words}")

    def mark_left(self, ask) -> None:  # noqa: ANN001
        for _ in range(60):
            self.click_on(0.25, 0.52)
            self.page.wait_for_timeout(500)
            if "bite scan" in ask.inner_text():
                return
        self.fail(f"no mark was set: {ask.inner_text()}")

    def test_contacts_are_listed_and_the_book_opens(self) -> None:
        page = self.page
        self.open_pair()
        self.step("Bite").click()
        listed = page.get_by_role("list", name="Contacts").get_by_role("listitem")
        listed.first.wait_for()
        few = int(self.all_readings("Contacts"))
        page.get_by_label("Foil", exact=True).fill("200")
        page.get_by_label("Foil", exact=True).press("Enter")
        page.wait_for_timeout(300)
        self.wait_state("Bite", "done")
        self.assertGreaterEqual(int(self.all_readings("Contacts")), few)
        # Two jaws, and on each the marks of its contacts.
        page.wait_for_function("() => Number(document.querySelector('[data-testid=stage]')?.dataset.shown) >= 4")
        page.keyboard.press("b")
        page.get_by_role("button", name="Close the book").wait_for()
        page.get_by_role("list", name="Contacts").get_by_role("button", name="Show").first.click()
        page.get_by_test_id("stage").get_by_text(re.compile("µm (deep|off)")).wait_for()
        page.keyboard.press("b")
        page.get_by_role("button", name="Open like a book").wait_for()

    @tag("long")
    def test_a_scan_that_follows_is_led_and_swabbed(self) -> None:
        page = self.page
        self.apart()
        self.dropped("again")
        page.get_by_role("button", name="beside").click()
        follows = page.get_by_label("Scans that follow")
        follows.get_by_text(re.compile(r"^±\d+ µm on lower")).wait_for(timeout=180_000)
        self.wait_state("Plate", "done")
        follows.get_by_role("button", name="Show").click()
        follows.get_by_label("Lies on").select_option(label="Upper")
        follows.get_by_text("▲ not placed").wait_for(timeout=180_000)
        follows.get_by_label("Lies on").select_option(label="auto")
        follows.get_by_text(re.compile(r"^±\d+ µm on lower")).wait_for(timeout=180_000)
        for jaw in ("Upper", "Lower"):
            for _ in range(2):
                page.get_by_title(re.compile(f"^{jaw}: shown, ghosted or hidden")).click()
        page.keyboard.press("5")
        page.keyboard.press("w")
        page.get_by_text("Brush on a scan that follows").wait_for()
        page.wait_for_timeout(2500)
        under = page.get_by_test_id("under")
        places = [(x / 100, y / 100) for y in (45, 55, 65) for x in range(25, 75, 2)]
        at = None
        for place in places:
            self.hover_at(*place)
            if "here" in under.inner_text():
                at = place
                break
        self.assertIsNotNone(at)
        page.mouse.down()
        for k in range(1, 5):
            self.hover_at(at[0] + 0.006 * k, at[1] + 0.004 * k)
        page.mouse.up()
        follows.get_by_text("1 stroke by hand").wait_for(timeout=180_000)
        follows.get_by_text(re.compile("has changed")).wait_for(timeout=180_000)
        follows.get_by_role("button", name="Take them back").click()
        follows.get_by_text("0 strokes by hand").wait_for()

    def test_level_by_its_handle(self) -> None:
        page = self.page
        self.open_pair()
        self.step("Level").click()
        page.keyboard.press("x")
        grip = page.get_by_test_id("grip-tilt_deg")
        grip.get_by_text("Tilt: pull the back up or down").wait_for()
        page.keyboard.press("3")
        page.wait_for_timeout(2000)
        box = grip.bounding_box()
        assert box
        # The words hang under the ball they speak of.
        x, y = box["x"] + box["width"] / 2, box["y"] - 16
        page.mouse.move(x, y)
        page.mouse.down()
        for k in range(1, 7):
            page.mouse.move(x, y - 4 * k)
            page.wait_for_timeout(60)
        grip.get_by_text(re.compile(r"^Tilt: the back rises, \d+\.\d mm there, \+\d+\.\d°")).wait_for()
        page.mouse.up()
        page.get_by_text(re.compile(r"^by hand \d+\.\d°")).wait_for()
        self.assertGreater(parse_mm(self.reading("Turned by hand").replace("°", " mm")), 0.5)
        page.keyboard.press("PageUp")
        page.get_by_text("Turn: the front goes to the patient's left, +1.0°").wait_for()
        page.keyboard.press("Control+z")
