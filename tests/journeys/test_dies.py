"""Dies as a technician makes them: of the chart's teeth, a contact in the way, a neighbour out too, lifted, and handed out."""

from __future__ import annotations

import io
import re

import numpy as np
import trimesh
from playwright.sync_api import expect

from bitecore.mesh import Mesh
from tests.browser.harness import BrowserCase
from tests.shapes import manifold


class DiesTest(BrowserCase):
    def test_dies_of_the_chart_with_a_blocked_one_solved_come_out_as_files_that_fit(self) -> None:
        page = self.page
        number = self.open_pair()
        page.keyboard.press("d")
        for fdi in (14, 16):
            page.get_by_role("button", name=f"Tooth {fdi}", exact=True).click()
        page.keyboard.press("Alt+8")
        card = page.get_by_label("Card")
        card.get_by_label("Dies", exact=True).first.select_option(label="Of the chart’s teeth")
        card.get_by_label("16: what becomes of it").wait_for(timeout=180_000)
        self.shown(4)
        # Any contact that is opened is asked for now.
        card.get_by_role("button", name="More settings").click()
        self.set_number("Contacts, opened by", "0")
        found = page.get_by_label("What was found")
        found.get_by_text("is in the way of 16").first.wait_for(timeout=180_000)
        found.get_by_role("button", name="Take 15 out too").first.click()
        card.get_by_label("15: what becomes of it").wait_for(timeout=180_000)
        expect(card.get_by_label("15: what becomes of it")).to_have_value("loose")
        self.shown(5)
        found.get_by_role("button", name=re.compile(r"^Open it by")).first.click()
        self.wait_state("Articulate", "done", seconds=240)
        # A wall moved by its number, and let go again.
        wall = card.get_by_label("Wall towards 13")
        alone = wall.get_attribute("placeholder")
        wall.fill("-0.3")
        wall.press("Enter")
        expect(wall).to_have_attribute("placeholder", re.compile(r"-0\.[23]\d"), timeout=150_000)
        wall.fill("")
        wall.press("Enter")
        expect(wall).to_have_attribute("placeholder", alone or "", timeout=150_000)
        # Lifted they are elsewhere, and a number of the list takes one back into the model.
        before = page.get_by_test_id("stage").screenshot()
        page.keyboard.press("Shift+V")
        page.get_by_role("region", name="Lift").get_by_role("slider").fill("12")
        page.wait_for_timeout(500)
        self.assertNotEqual(page.get_by_test_id("stage").screenshot(), before)
        page.keyboard.press("Escape")
        card.get_by_label("15: what becomes of it").select_option(label="Stays")
        self.shown(4)
        page.keyboard.press("Control+z")
        self.shown(5)
        page.keyboard.press("Alt+9")
        page.get_by_role("combobox", name="Printer", exact=True).select_option("heron")
        self.wait_state("Plate", "done", seconds=240)
        self.fit(self.handed_out(), self.ways(number))

    def ways(self, number: str) -> dict[str, np.ndarray]:
        """On the bench, by the name of the body."""
        nodes = self.page.request.get(f"{self.app.address}/api/cases/{number}").json()["nodes"]
        dies = next(n for n in nodes if n["step"] == "dies" and n["jaw"] == "upper")
        level = next(n for n in nodes if n["step"] == "level")["good"]["home_to_bench"][dies["piece"]]
        return {f"upper {d['part']}": np.array(level)[:3, :3] @ d["way"] for d in dies["good"]["dies"]}

    def fit(self, files: dict[str, bytes], ways: dict[str, np.ndarray]) -> None:
        self.assertEqual(set(files), {"upper", "lower", "upper die-14", "upper die-16", "upper loose-15"})
        read = {name: trimesh.load(io.BytesIO(data), file_type="stl") for name, data in files.items()}
        solid = {name: manifold(Mesh.of(mesh.vertices, mesh.faces)) for name, mesh in read.items()}
        for name in ("upper die-14", "upper die-16", "upper loose-15"):
            self.assertTrue(read[name].is_watertight, name)
            for lift in (0.0, 1.0, 5.0, 14.0):
                touched = (solid[name].translate(list(lift * ways[name])) ^ solid["upper"]).volume()
                # Single precision moves corners by less than a thousandth of a millimetre.
                self.assertLess(touched, 0.05, (name, lift))
