"""Intake and keeping as a technician meets them: a messy ZIP, a late rescan, the chart, the veil, a carried case."""

from __future__ import annotations

import io
import re

import numpy as np
from django.test import tag
from PIL import Image

from bitecore.files import obj_write
from bitecore.mesh import Mesh
from tests.browser.harness import BrowserCase, scan
from tests.core.test_files import zipped
from tests.shapes import light_jaws as jaws
from tests.shapes import turn


class IntakeTest(BrowserCase):
    def test_what_came_stands_in_the_middle_and_its_places_are_walked_through(self) -> None:
        page = self.page
        upper, lower = jaws(3)
        m = turn(5)
        self.drop(("a.stl", scan(upper.moved(m))), ("b.stl", scan(lower.moved(m))))
        page.wait_for_url(re.compile("/case/"))
        self.wait_state("Plate", "done")
        box = page.get_by_test_id("stage").bounding_box()
        assert box
        # The canvas is read where the models are: the middle of what is drawn is near the middle of the stage.
        x, y = middle_drawn(page.screenshot(clip=box))
        self.assertLess(abs(x - box["width"] / 2), 0.1 * box["width"])
        self.assertLess(abs(y - box["height"] / 2), 0.14 * box["height"])
        page.keyboard.press("e")
        page.get_by_test_id("walk").get_by_text("Place 1 of").wait_for()
        page.keyboard.press("e")
        page.get_by_test_id("walk").get_by_text("Place 2 of").wait_for()
        page.keyboard.press("Shift+E")
        page.get_by_test_id("walk").get_by_text("Place 1 of").wait_for()

    def test_a_messy_zip_and_a_corrected_jaw(self) -> None:
        page = self.page
        upper, lower = jaws(3)
        m = turn(5)
        inside_out = lower.moved(m).turned_inside_out()
        metres = Mesh.of(upper.moved(m).vertices_mm / 1000, upper.faces)
        data = zipped(
            ("export/1/surface.stl", scan(inside_out)), ("export/2/surface.obj", obj_write.write(metres)),
            ("export/letter.txt", b"Two sets please."), ("__MACOSX/._x", b"\0"),
        )  # fmt: skip
        self.drop(("everything.zip", data))
        page.wait_for_url(re.compile("/case/"))
        page.get_by_text("everything.zip” also holds export/letter.txt").wait_for()
        self.wait_state("Intake", "done")
        tiles = page.get_by_label("Pieces")
        tiles.get_by_text("Upper", exact=True).wait_for()
        tiles.get_by_text("Lower", exact=True).click()
        page.get_by_text("The surface was inside-out and has been turned.").wait_for()
        tiles.get_by_text("Upper", exact=True).click()
        page.get_by_text("The file is in m: taken times 1000 to be millimetres.").wait_for()
        self.wait_state("Plate", "done")
        # Corrected with one choice: it is kept as something else, and the other jaw goes on alone.
        page.get_by_label("What export/2/surface.obj is").select_option("before")
        tiles.get_by_text("Before", exact=True).wait_for()
        self.step("Bite").click()
        page.get_by_text("Only the lower jaw is here").wait_for()
        page.keyboard.press("Control+z")
        tiles.get_by_text("Upper", exact=True).wait_for()

    @tag("long")
    def test_a_rescan_takes_the_place_with_all_settings(self) -> None:
        page = self.page
        self.open_pair()
        self.step("Trim").click()
        page.get_by_role("tab", name=re.compile("^Lower")).click()
        self.set_number("Bottom, from the occlusal plane", "15")
        self.wait_reading("Bottom saw", "15.00 mm")
        self.drop(("rescan.stl", scan(jaws(21)[1])))
        ask = page.get_by_role("group", name=re.compile("rescan.stl is a further scan"))
        ask.wait_for()
        ask.get_by_role("button", name="instead").click()
        page.get_by_title(re.compile("^rescan.stl: the tools")).get_by_text("Lower", exact=True).wait_for()
        self.wait_state("Plate", "done")
        page.get_by_title(re.compile("^rescan.stl: the tools")).click()
        self.wait_reading("Bottom saw", "15.00 mm")

    def test_teeth_by_a_pull_and_by_keys(self) -> None:
        page = self.page
        self.open_pair()
        page.keyboard.press("d")
        start, end = (page.get_by_role("button", name=f"Tooth {n}", exact=True).bounding_box() for n in (14, 21))
        assert start and end
        page.mouse.move(start["x"] + 5, start["y"] + 8)
        page.mouse.down()
        page.mouse.move(end["x"] + 5, end["y"] + 8, steps=8)
        page.mouse.up()
        for number in (14, 13, 12, 11, 21):
            page.locator(f"button[aria-label='Tooth {number}'][aria-pressed=true]").wait_for()
        self.assertEqual(page.locator("button[aria-label^='Tooth '][aria-pressed=true]").count(), 5)
        page.get_by_label("Notation").select_option("universal")
        page.locator("button[aria-label='Tooth 5'][aria-pressed=true]").wait_for()  # 14 in the Universal system
        first = page.get_by_role("button", name="Tooth 1", exact=True)
        first.focus()
        first.press("Shift+ArrowRight")
        page.locator("button[aria-label='Tooth 2'][aria-pressed=true]").wait_for()
        page.get_by_label("Notation").select_option("fdi")

    def test_the_veil_and_a_case_carried_away_and_back(self) -> None:
        page = self.page
        number = self.open_pair()
        page.keyboard.press("d")
        page.get_by_label("Patient").fill("Corwin Pellathorn")
        page.get_by_label("Patient").press("Enter")
        page.get_by_role("button", name=re.compile(f"{number}.*Corwin")).wait_for()
        page.get_by_role("heading", name="Details").click()
        page.keyboard.press("v")
        page.get_by_role("button", name="▒ Veiled").wait_for()
        page.get_by_text("veiled; V lifts the veil").first.wait_for()
        self.assertNotIn("Pellathorn", page.content())
        page.keyboard.press("Alt+r")
        page.get_by_role("heading", name="Rack", exact=True).wait_for()
        page.get_by_role("link", name=re.compile(f"^Case {number}")).wait_for()
        self.assertNotIn("Pellathorn", page.content())
        page.keyboard.press("v")
        page.get_by_text("Corwin Pellathorn").wait_for()
        page.get_by_role("link", name=re.compile(f"^Case {number}")).click()
        page.get_by_label("Run sheet").wait_for()
        page.keyboard.press("d")
        with page.expect_download() as got:
            page.get_by_role("link", name="Whole case as ZIP").click()
        packed = got.value.path().read_bytes()
        # Closed, it leaves the rack and is found under Closed; a technician cannot delete it before its time.
        page.get_by_role("button", name="Close the case").click()
        page.get_by_text("This case is closed and kept until").wait_for()
        self.assertTrue(page.get_by_role("button", name="Delete …").is_disabled())
        tove = self.signed_in("tove")
        tove.get_by_role("button", name="Closed").click()
        tove.get_by_placeholder("Find a case (F)").fill("pellathorn")
        tove.get_by_role("link", name=re.compile(f"^Case {number}")).click()
        tove.get_by_label("Run sheet").wait_for()
        tove.keyboard.press("d")
        tove.get_by_role("button", name="Delete …").click()
        tove.get_by_role("button", name="Delete for good").click()
        tove.get_by_role("heading", name="Rack", exact=True).wait_for()
        tove.get_by_test_id("scans").set_input_files([{"name": "back.zip", "mimeType": "application/zip", "buffer": packed}])
        # The number of a deleted case is not given again, not even to itself: the old one stands in the notes.
        tove.wait_for_url(re.compile("/case/"))
        self.wait_state("Plate", "done", page=tove)
        tove.get_by_role("button", name=re.compile("Corwin Pellathorn")).click()
        self.assertIn(f"Came as case {number}.", tove.get_by_label("Notes").input_value())


def middle_drawn(png: bytes) -> tuple[float, float]:
    """Middle (px) of what is much darker or warmer than the ground of the stage at its upper corners."""
    image = np.asarray(Image.open(io.BytesIO(png)).convert("RGB"), float)
    ground = image[70:90, 20:60].reshape(-1, 3).mean(0)
    rows, columns = np.nonzero(np.abs(image - ground).max(2) > 40)
    return float(np.median(columns)), float(np.median(rows))
