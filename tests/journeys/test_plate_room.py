"""The plate room: bodies of three cases on one plate, moved, looked through layer by layer, taken off and back again."""

from __future__ import annotations

import io
import re

import numpy as np
from PIL import Image

from tests.browser.harness import BrowserCase


class PlateRoomTest(BrowserCase):
    def test_a_plate_from_three_cases(self) -> None:
        page = self.page
        numbers = []
        for _ in range(3):
            page.goto(self.app.address)
            page.get_by_role("heading", name="Rack", exact=True).wait_for()
            numbers.append(self.open_pair())
        page.goto(f"{self.app.address}/plates")
        page.get_by_role("button", name="Begin a plate").click()
        card = page.get_by_label("Card")
        card.get_by_role("combobox", name="Printer").select_option("heron")
        self.put(numbers)
        ruler = page.get_by_label("Layer ruler")
        ruler.get_by_text(re.compile(r"Layer 1 of \d+")).wait_for(timeout=180_000)
        self.assertEqual(card.get_by_role("listitem").filter(has_text="lower").count(), 3)
        page.wait_for_function("() => document.querySelector('[data-testid=plate-stage]').dataset.drawn === '3'", timeout=180_000)
        self.moved(numbers[0])
        self.looked_through()
        self.in_two_heights()
        self.taken_off_and_back(numbers[1])
        self.begun_and_deleted()

    def put(self, numbers: list[str]) -> None:
        """The first by a press, the second by Enter, the third dragged onto the plate."""
        page = self.page
        for number, how in zip(numbers, ("press", "key", "drag"), strict=True):
            lower = page.get_by_test_id(f"shelf-{number}").get_by_role("button", name="Lower")
            if how == "press":
                lower.click()
            elif how == "key":
                lower.press("Enter")
            else:
                lower.drag_to(page.get_by_test_id("plate-stage"))
            page.get_by_label("Bodies").get_by_role("button", name=f"{number} lower", exact=True).wait_for()

    def moved(self, number: str) -> None:
        page = self.page
        page.get_by_label("Bodies").get_by_role("button", name=f"{number} lower", exact=True).click()
        page.get_by_test_id("chosen").filter(has_text=number).wait_for()
        before = self.api_plate()["bodies"][0]["box_mm"][0]
        for _ in range(3):
            page.keyboard.press("Shift+ArrowRight")
        page.get_by_label("Bodies").get_by_text("by hand").wait_for(timeout=180_000)
        page.wait_for_function("() => !document.querySelector('[data-testid=layer]').innerText.includes('worked')", timeout=180_000)
        after = self.api_plate()["bodies"][0]["box_mm"][0]
        self.assertAlmostEqual(after[0] - before[0], 3.0, delta=0.06)

    def api_plate(self) -> dict:
        number = self.page.url.rsplit("/", 1)[1]
        found: dict = self.page.request.get(f"{self.app.address}/api/plates/{number}").json()
        return found

    def looked_through(self) -> None:
        page = self.page
        page.get_by_role("slider", name="Layer").focus()
        for _ in range(3):
            page.keyboard.press("Shift+ArrowRight")
        page.get_by_test_id("layer").filter(has_text=re.compile(r"Layer 31 of \d+, 1.50 to 1.55 mm")).wait_for(timeout=180_000)
        page.get_by_label("Picture", exact=True).check()
        source = page.get_by_test_id("layer-picture").get_attribute("src")
        assert source
        whole = source.partition("&wide")[0]
        said = page.get_by_test_id("layer").inner_text()
        area = float(re.search(r"([\d.]+) mm²", said)[1])  # type: ignore[index]
        # As the printer gets it, and as it is seen: each pixel as bright as much of it is cured.
        exact, seen = (np.array(Image.open(io.BytesIO(page.request.get(self.app.address + url).body())), float) for url in (whole, source))
        self.assertAlmostEqual((exact > 0).sum() * 0.05**2 / area, 1, delta=0.01)
        self.assertAlmostEqual(seen.sum() / 255 * (198 / seen.shape[1]) ** 2 / area, 1, delta=0.01)
        page.get_by_label("Picture", exact=True).uncheck()

    def in_two_heights(self) -> None:
        """Thick under the lowest margin; the boundary pulled on the ruler, and moved by a key."""
        page = self.page
        card = page.get_by_label("Card")
        card.get_by_role("combobox", name="Lower layers").select_option("0.1")
        boundary = page.get_by_role("slider", name="Thick layers up to")
        boundary.wait_for(timeout=180_000)
        told = page.get_by_test_id("boundary")
        told.filter(has_text=re.compile(r"0\.10 mm up to \d+\.\d0 mm, saves \d+ min")).wait_for(timeout=180_000)
        first = float(boundary.get_attribute("aria-valuenow") or 0)
        self.assertGreater(first, 1.0)
        box = boundary.bounding_box()
        assert box
        x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x - 30, y, steps=5)
        page.mouse.up()
        # While it is worked out there is no ruler.
        low = r"0\.10 mm up to (\d+\.\d0) mm, saves"
        for _ in range(600):
            said = re.search(low, told.inner_text()) if told.count() else None
            if said and float(said[1]) < first - 1e-6:
                break
            page.wait_for_timeout(100)
        told.filter(has_text="saves").wait_for(timeout=180_000)
        pulled = float(boundary.get_attribute("aria-valuenow") or 0)
        boundary.focus()
        page.keyboard.press("ArrowRight")
        told.filter(has_text=f"up to {pulled + 0.1:.2f} mm, saves").wait_for(timeout=180_000)
        table = page.request.get(f"{self.app.address}/api/plates/{page.url.rsplit('/', 1)[1]}/layers.json").json()
        high = np.diff([0.0, *table["ends_mm"]])
        self.assertEqual((high > 0.09).sum(), round((pulled + 0.1) / 0.1))
        self.pulled_on_the_stage(pulled + 0.1)
        card.get_by_role("combobox", name="Lower layers").select_option("none")
        boundary.wait_for(state="detached", timeout=180_000)

    def pulled_on_the_stage(self, before: float) -> None:
        """Its ball hangs over its label; what is seen in hand is what is set."""
        page = self.page
        label = page.get_by_test_id("boundary-on-stage")
        box = label.bounding_box()
        assert box
        x, y = box["x"] + box["width"] / 2, box["y"] - 15
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x, y - 20, steps=5)
        label.filter(has_not_text=f"up to {before:.2f} mm").wait_for()
        page.mouse.move(x, y - 24, steps=2)
        page.wait_for_timeout(300)
        in_hand = label.inner_text()
        page.mouse.up()
        page.get_by_test_id("boundary").filter(has_text=f"{in_hand}, saves").wait_for(timeout=180_000)
        self.assertGreater(float(in_hand.removeprefix("0.10 mm up to ").removesuffix(" mm")), before)

    def taken_off_and_back(self, number: str) -> None:
        page = self.page
        page.get_by_role("button", name=f"Take {number} lower off").click()
        page.get_by_test_id(f"shelf-{number}").get_by_role("button", name="Lower").wait_for()
        page.get_by_role("button", name="Undo").click()
        page.get_by_label("Bodies").get_by_role("button", name=f"{number} lower", exact=True).wait_for()
        page.get_by_test_id(f"shelf-{number}").get_by_role("button", name="Lower").wait_for(state="detached")

    def begun_and_deleted(self) -> None:
        page = self.page
        kept = page.url
        page.get_by_role("button", name="Empty plate").click()
        page.wait_for_url(lambda url: url != kept)
        page.get_by_role("button", name="Delete …").click()
        page.get_by_role("button", name="Keep it").click()
        page.get_by_role("button", name="Delete …").click()
        page.get_by_role("button", name="Delete for good").click()
        page.get_by_text("is deleted").wait_for()
        self.assertEqual(page.get_by_role("navigation", name="Plates").get_by_role("button").count(), 1)
        page.get_by_label("Bodies").get_by_role("listitem").nth(2).wait_for()
