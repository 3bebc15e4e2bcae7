"""From raw scans to a finished print on a stand-in printer, with two faults on the way."""

from __future__ import annotations

import hashlib
import re

from playwright.sync_api import expect

from bitecore.files import stl
from tests.browser.harness import parse_mm
from tests.browser.printing import PrinterCase
from tests.shapes import light_jaws as jaws


class PrintTest(PrinterCase):
    speed = 400.0

    def test_from_raw_scans_to_a_finished_print(self) -> None:
        page = self.page
        upper, lower = jaws(5)
        self.drop(("a.stl", stl.write_binary(upper)), ("b.stl", stl.write_binary(lower)))
        page.wait_for_url(re.compile("/case/"))
        number = page.url.rsplit("/", 1)[1]
        self.choose("Hollow", "Inside", "open")
        self.choose("Label", "Label", "engraved")
        self.choose("Articulate", "Held by", "pins")
        self.choose("Plate", "Printer", "heron")
        self.wait_state("Articulate", "done", seconds=240)
        self.wait_state("Plate", "done", seconds=240)
        print_card = page.get_by_label("Print", exact=True)
        self.answer_doubts(print_card)
        expect(print_card.get_by_role("button", name="Accept all, print on Heron")).to_be_enabled(timeout=180_000)
        # The first fault: the connection breaks in the middle of the file.
        self.printer.ask("/fault", kind="connection", after_bytes=40_000)
        print_card.get_by_role("button", name="Accept all, print on Heron").click()
        row = page.get_by_test_id("print")
        expect(row).to_contain_text(re.compile(r"printing, layer \d+ of \d+"), timeout=180_000)
        # The second: somebody opens the door.
        self.printer.ask("/fault", kind="door")
        expect(row).to_contain_text("The door is open.", timeout=180_000)
        stopped = self.printer.ask("/")["job"]["layer"]
        page.reload()
        self.step("Plate").click()
        expect(page.get_by_test_id("print")).to_contain_text("stopped, layer", timeout=180_000)
        self.assertEqual(self.printer.ask("/")["job"]["layer"], stopped)
        expect(page.get_by_test_id("print")).not_to_contain_text("has changed since")
        self.printer.ask("/fault", kind="none")
        self.see_it_done(number)

    def see_it_done(self, number: str) -> None:
        page = self.page
        expect(page.get_by_test_id("print")).to_contain_text("printed", timeout=180_000)
        job = self.printer.ask(f"/jobs/{number}_1")
        self.assertEqual((job["state"], job["layer"]), ("done", job["layers"]))
        arrived = (self.printer.folder / f"{number}_1.zip").read_bytes()
        self.assertEqual(hashlib.sha256(arrived).hexdigest(), job["sha256"])
        same = page.context.request.get(f"{self.app.address}/api/cases/{number}/layers.zip").body()
        self.assertEqual(arrived, same)
        self.assertEqual(len(list(self.printer.folder.glob("*.zip"))), 1, "it was sent twice and is there once")
        page.goto(self.app.address)
        tray = page.get_by_role("link", name=re.compile(f"^Case {number}"))
        expect(tray).to_contain_text("Heron: printed")
        expect(page.get_by_label("Printers")).to_contain_text("idle")
        page.goto(f"{self.app.address}/plates")
        expect(page.get_by_test_id("day-heron").locator("title").filter(has_text=f"{number}_1: printed")).to_have_count(1)

    def test_a_pin_is_pulled_left_out_and_put_back(self) -> None:
        page = self.page
        self.open_pair()
        self.choose("Articulate", "Held by", "pins")
        page.get_by_role("list", name="Pins").wait_for(timeout=180_000)
        self.assertEqual(self.reading("Pins"), "4")
        page.get_by_role("button", name="Leave out: back left").click()
        self.wait_reading("Pins", "3")
        page.get_by_role("button", name="Put back: back left").click()
        self.wait_reading("Pins", "4")
        self.assertLess(parse_mm(self.reading("Play at the incisors")), 0.3)
        self.shown(2)
        x, y = self.ball("side right")
        page.mouse.move(x, y)
        page.mouse.down()
        # Over the models it is told at once that none can stand there, and why.
        page.mouse.move(x + 60, y, steps=6)
        self.assertRegex(page.get_by_test_id("pin-told").inner_text(), "^Not here: ")
        page.mouse.move(x + 6, y + 12, steps=6)
        page.get_by_test_id("pin-told").wait_for()
        page.mouse.up()
        page.get_by_text("put by hand").wait_for()
        self.wait_state("Articulate", "done")
        self.assertNotEqual(self.ball("side right"), (x, y))
        page.keyboard.press("Control+z")
        page.get_by_text("put by hand").wait_for(state="detached")

    def test_the_jaws_are_swung_and_their_contacts_told_in_order(self) -> None:
        page = self.page
        self.open_pair()
        page.keyboard.press("Alt+8")
        page.keyboard.press("Shift+X")
        panel = page.get_by_role("region", name="Swing")
        panel.get_by_role("button", name="Find the first contacts").click()
        rows = panel.get_by_role("list", name="What meets, in its order").get_by_role("listitem")
        rows.first.wait_for(timeout=180_000)
        said = [re.search(r"(-?\d+\.\d+)°\s*(-?\d+) µm", row) for row in rows.all_inner_texts()]
        opened = [float(m[1]) for m in said if m]
        self.assertGreater(len(opened), 3)
        self.assertEqual(opened, sorted(opened, reverse=True))
        panel.get_by_role("slider", name="Open").fill("20")
        page.wait_for_timeout(500)
        wide = page.get_by_test_id("stage").screenshot()
        rows.first.get_by_role("button").click()
        page.wait_for_timeout(500)
        self.assertNotEqual(page.get_by_test_id("stage").screenshot(), wide)
        panel.get_by_role("button", name="Forward").click()
        panel.get_by_role("button", name="Find what touches on average paths").click()
        there = panel.get_by_role("list", name="What touches").get_by_role("listitem")
        there.first.wait_for(timeout=180_000)
        self.assertRegex(there.first.inner_text(), r"\d\d on \d\d\s+0 µm")
        near = page.get_by_test_id("stage").screenshot()
        panel.get_by_role("slider", name="Condyles").fill("4")
        page.wait_for_timeout(500)
        self.assertNotEqual(page.get_by_test_id("stage").screenshot(), near)

    def ball(self, zone: str) -> tuple[float, float]:
        """Where a pin's ball is on the page: its name hangs under it."""
        words = self.page.get_by_test_id(f"pin-{zone}").locator("xpath=..").bounding_box()
        assert words
        return words["x"] + words["width"] / 2, words["y"] - 14
