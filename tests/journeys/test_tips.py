"""Supports by hand on the stage: tips added, pulled, taken away and off a tooth; and hinged backs printed by themselves."""

from __future__ import annotations

import re
import time
from collections.abc import Callable

import numpy as np

from tests.browser.printing import PrinterCase


class TipsTest(PrinterCase):
    def test_tips_are_added_moved_taken_away_and_off_a_tooth(self) -> None:
        page = self.page
        number = self.open_pair()
        self.choose("Plate", "Supports", "all")
        self.until(lambda: len(self.tips(number)) > 20)
        self.wait_state("Plate", "done")
        before = len(self.tips(number))
        page.keyboard.press("Alt+k")
        panel = page.get_by_role("region", name="Tips")
        page.get_by_label("Stands").get_by_role("combobox", name="Lower stands").select_option("none")
        self.until(lambda: len(self.tips(number)) < before)
        page.keyboard.press("Control+z")
        self.until(lambda: len(self.tips(number)) == before)
        # From below: one more where one presses.
        page.keyboard.press("6")
        page.wait_for_timeout(1500)
        stage = page.get_by_test_id("stage").bounding_box()
        assert stage
        for share in (0.5, 0.45, 0.4, 0.35, 0.55, 0.6, 0.65):
            page.mouse.click(stage["x"] + 0.33 * stage["width"], stage["y"] + share * stage["height"])
            page.wait_for_timeout(1000)
            if page.get_by_test_id("tip-by-hand").count():
                break
        page.get_by_test_id("tip-by-hand").filter(has_text="by hand").wait_for(timeout=180_000)
        hand = [tip for tip in self.tips(number) if tip["by"]]
        self.assertEqual(len(hand), 1)
        words = page.get_by_test_id("tip-by-hand").locator("xpath=..").bounding_box()
        assert words
        x, y = words["x"] + words["width"] / 2, words["y"] - 14
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + 8, y + 3, steps=5)
        page.mouse.up()
        self.until(lambda: [tip for tip in self.tips(number) if tip["by"]] not in (hand, []))
        panel.get_by_role("button", name="Drop what was set by hand (1)").click()
        self.until(lambda: len(self.tips(number)) == before)
        self.off_a_tooth(number)

    def test_an_island_is_found_and_mended(self) -> None:
        """The lowest tips of a tilted jaw are taken away: what they held begins in mid-air, and is held again by presses."""
        page = self.page
        number = self.open_pair()
        self.step("Plate").click()
        self.send(number, "plate", "*", {"supports": "all", "tilt_deg": 60.0, "printer": "heron"})
        self.until(lambda: len(self.tips(number)) > 20)
        self.wait_state("Plate", "done")
        nodes = {n["id"]: n for n in page.request.get(f"{self.app.address}/api/cases/{number}").json()["nodes"]}
        piece = next(n["piece"] for n in nodes.values() if n["step"] == "supports" and n["jaw"] == "upper")
        place = np.array(nodes["plate/*"]["good"]["home_to_plate"][piece])
        at = [tip["at_mm"] for tip in nodes[f"supports/{piece}"]["good"]["tips"]]
        high = np.array(at) @ place[2, :3]
        gone = {f"t{k}": {"instead": tip} for k, tip in enumerate(np.array(at)[high < high.min() + 1.5].tolist(), 1)}
        self.send(number, "supports", piece, {"tips": gone})
        found = page.get_by_label("Card").locator("li").filter(has_text=re.compile("An island begins|hangs"))
        found.first.wait_for(timeout=180_000)
        for _ in range(12):
            self.wait_state("Plate", "done")
            if found.count() == 0:
                break
            before = len(self.tips(number))
            found.first.get_by_role("button", name="Add a tip").click()
            self.until(lambda before=before: len(self.tips(number)) > before or found.count() == 0)
        self.assertEqual(found.count(), 0)

    def off_a_tooth(self, number: str) -> None:
        """What a person insisted on is said, and one press takes it away."""
        page = self.page
        jaw = next(j for j in page.request.get(f"{self.app.address}/api/cases/{number}/teeth.json").json()["jaws"] if j["jaw"] == "upper")
        tooth = next(t for t in jaw["teeth"] if t["fdi"] in (11, 21))
        # Where its margin comes nearest to the middle of the mouth: with the front lifted that faces the plate.
        inner = np.mean([t["centre_mm"] for t in jaw["teeth"]], axis=0)
        margin = np.array(tooth["margin_mm"])
        at = margin[np.linalg.norm(margin - inner, axis=1).argmin()].tolist()
        self.send(number, "plate", "*", {"tilt_deg": 75.0})
        self.send(number, "supports", jaw["piece"], {"tips": {"t1": {"at": at}}})
        flag = page.get_by_text(re.compile(f"A tip set by hand stands on tooth {tooth['fdi']}"))
        flag.wait_for(timeout=180_000)
        page.get_by_label("Card").locator("li", has=flag).get_by_role("button", name="Fix").click()
        flag.wait_for(state="detached", timeout=180_000)
        self.until(lambda: not [tip for tip in self.tips(number) if tip["by"]])
        # A bottle that holds less than the plate takes.
        self.send(number, "plate", "*", {"printer": "heron"})
        self.printer.ask("/bottle", ml=3.0)
        short = re.compile(r"takes \d+ ml, 3 ml are in the bottle")
        page.get_by_test_id("lasts").filter(has_text=short).wait_for(timeout=120_000)
        self.printer.ask("/bottle", ml=1000.0)
        page.get_by_test_id("lasts").wait_for(state="detached", timeout=60_000)

    def send(self, number: str, step: str, piece: str, values: dict) -> None:
        """As the page does."""
        status = self.page.evaluate(
            """async ([number, step, piece, values]) => {
                const token = document.cookie.match(/csrftoken=([^;]+)/)[1];
                const base = (await (await fetch(`/api/cases/${number}`)).json()).revision;
                const body = JSON.stringify({ base, step, piece, values, entries: [], sure: false });
                const headers = { "Content-Type": "application/json", "X-CSRFToken": token };
                return (await fetch(`/api/cases/${number}/settings`, { method: "POST", headers, body })).status;
            }""",
            [number, step, piece, values],
        )
        self.assertEqual(status, 200)

    def tips(self, number: str) -> list[dict]:
        case = self.page.request.get(f"{self.app.address}/api/cases/{number}").json()
        return [tip for node in case["nodes"] if node["step"] == "supports" and node["good"] for tip in node["good"].get("tips") or []]

    def until(self, holds: Callable[[], bool], seconds: float = 180) -> None:
        end = time.monotonic() + seconds
        while not holds():
            self.assertLess(time.monotonic(), end)
            self.page.wait_for_timeout(250)

    def test_hinged_backs_open_as_far_as_they_say_and_are_printed_by_themselves(self) -> None:
        page = self.page
        self.open_pair()
        page.keyboard.press("Alt+8")
        card = page.get_by_label("Card")
        card.get_by_label("Held by", exact=True).select_option(label="Hinged backs")
        self.wait_reading("Opens to", "100.00°")
        page.keyboard.press("Shift+X")
        panel = page.get_by_role("region", name="Swing")
        panel.get_by_role("button", name="Find the first contacts").click()
        panel.get_by_role("listitem").first.wait_for(timeout=180_000)
        self.assertEqual(panel.get_by_role("slider", name="Open").get_attribute("max"), "100")
        page.keyboard.press("Escape")
        card.get_by_role("button", name="More settings").click()
        card.get_by_label("Halves", exact=True).select_option(label="By themselves")
        self.shown(6)
