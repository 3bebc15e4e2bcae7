"""Hollow and the section, through the real interface."""

from __future__ import annotations

import io
import json
import re
import zipfile

import numpy as np
from PIL import Image

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
        page.get_by_text(re.compile("Open underneath, 3 drains")).first.wait_for(timeout=180_000)
        self.assertGreater(parse_mm(self.reading("Thinnest wall")), 1.95)
        for _ in range(600):
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

    def test_a_label_is_put_on_and_the_layers_are_leafed_through(self) -> None:
        page = self.page
        number = self.open_pair()
        self.wait_state("Plate", "done")
        self.step("Label").click()
        page.get_by_role("combobox", name="Label").select_option("engraved")
        page.get_by_text(f"“{number} upper”").first.wait_for()
        self.assertGreater(parse_mm(self.reading("Capitals, tall")), 1.9)
        self.wait_state("Plate", "done")
        self.pull_label()
        self.wait_state("Plate", "done")
        self.step("Plate").click()
        page.keyboard.press("z")
        page.get_by_test_id("layer").filter(has_text=re.compile(r"Layer 1 of \d+, 0.00 to 0.05 mm")).wait_for(timeout=180_000)
        page.keyboard.press("Shift+ArrowUp")
        page.keyboard.press("ArrowUp")
        page.get_by_test_id("layer").filter(has_text="Layer 12 of").wait_for()
        page.wait_for_function("() => document.querySelector('section[aria-label=Layers] img')?.naturalWidth === 1440")
        with page.expect_download() as got:
            page.get_by_role("link", name="layers.zip").click()
        with zipfile.ZipFile(got.value.path()) as archive:
            says = json.loads(archive.read("layers.json"))
            self.assertEqual(len(archive.namelist()), len(says["layers"]) + 1)
            picture = np.asarray(Image.open(io.BytesIO(archive.read(says["layers"][11]["file"]))))
        self.assertAlmostEqual(picture.sum() * 0.05**2, says["layers"][11]["area_mm2"], places=3)
        gone = page.request.get(f"{self.app.address}/api/cases/{number}/layers/99999.png")
        self.assertEqual((gone.status, gone.json()["code"]), (404, "no-layer"))

    def pull_label(self) -> None:
        """The lower's label along its wall by its ball, over which its words hang."""
        page = self.page
        page.keyboard.press("3")
        self.shown(4)  # both bodies, and the letters of each
        page.wait_for_timeout(1500)
        words = page.get_by_test_id("label-lower").locator("xpath=..")
        before = words.bounding_box()
        assert before
        x, y = before["x"] + before["width"] / 2, before["y"] - 14
        page.mouse.move(x, y)
        page.mouse.down()
        for k in range(1, 9):
            page.mouse.move(x - 8 * k if x > 540 else x + 8 * k, y)
            page.wait_for_timeout(50)
        page.mouse.up()
        for _ in range(600):
            now = words.bounding_box()
            if now and abs(now["x"] - before["x"]) > 15:
                return
            page.wait_for_timeout(250)
        self.fail("the label stayed where it was")
