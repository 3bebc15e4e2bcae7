"""A denture and its jaw as one body: chosen on the card, handed out beside the jaw alone, and measured in the files."""

from __future__ import annotations

import io
import re
import zipfile

import trimesh
from playwright.sync_api import Locator, expect

from bitecore.files import stl
from bitecore.mesh import Mesh
from tests.browser.harness import BrowserCase
from tests.core.test_joining import without_teeth
from tests.shapes import box, light_jaws, manifold


class JoinedTest(BrowserCase):
    def test_a_denture_is_printed_with_its_jaw_and_the_jaw_alone_too(self) -> None:
        page = self.page
        jaw, worn = without_teeth()
        self.drop(("jaw.stl", stl.write_binary(jaw)), ("worn.stl", stl.write_binary(worn)))
        page.wait_for_url(re.compile("/case/"))
        self.wait_state("Plate", "done", seconds=240)
        page.get_by_label("What jaw.stl is").select_option("upper")
        page.get_by_label("What worn.stl is").select_option("denture")
        page.keyboard.press("Alt+8")
        page.get_by_role("region", name="As one body").get_by_role("checkbox").click()
        page.get_by_text("The denture is one body with the model").wait_for()
        files = self.handed_out()
        self.assertEqual(set(files), {"upper", "upper joined"})
        solid = {}
        for name, data in files.items():
            read = trimesh.load(io.BytesIO(data), file_type="stl")
            self.assertTrue(read.is_watertight, name)
            solid[name] = manifold(Mesh.of(read.vertices, read.faces))
            self.assertEqual(len(solid[name].decompose()), 1, name)
        # In one relation: what the jaw alone fills, the two together fill too.
        self.assertLess((solid["upper"] - solid["upper joined"]).volume(), 0.1)
        self.assertGreater(solid["upper joined"].volume(), solid["upper"].volume() + 1000)

    def test_a_house_part_is_put_on_a_base_with_a_press_and_turned(self) -> None:
        page = self.page
        self.drop(("jaw.stl", stl.write_binary(light_jaws(21)[1])), ("foot.stl", stl.write_binary(box((3.0, 2.0, 2.5)))))
        page.wait_for_url(re.compile("/case/"))
        page.get_by_label("What foot.stl is").select_option("part")
        self.wait_state("Plate", "done", seconds=240)
        page.keyboard.press("Alt+8")
        page.keyboard.press("1")
        page.get_by_role("button", name="Attach").wait_for()
        page.wait_for_timeout(1500)
        page.keyboard.press("Shift+S")
        parts = page.get_by_role("region", name="House parts")
        self.press_on_wall(parts)
        page.get_by_text("1 house part united with the base.").wait_for()
        whole = self.reading("House parts")
        self.assertEqual(whole, "1")
        parts.get_by_label("Turned").fill("45")
        parts.get_by_label("Turned").press("Enter")
        parts.get_by_label("Stands on").select_option("3")
        page.keyboard.press("Control+z")
        page.keyboard.press("Control+z")
        expect(parts.get_by_label("Turned")).to_have_value("0")
        parts.get_by_role("button", name="Take off").click()
        parts.wait_for(state="detached")

    def press_on_wall(self, parts: Locator) -> None:
        """Presses from below upwards until a part stands on the base: beside the model nothing is hit."""
        stage = self.page.get_by_test_id("stage").bounding_box()
        assert stage
        for k in range(60):
            self.page.mouse.click(stage["x"] + stage["width"] / 2, stage["y"] + stage["height"] * (0.85 - 0.008 * k))
            self.page.wait_for_timeout(150)
            if parts.count():
                return
        self.fail("nothing was pressed on")

    def handed_out(self) -> dict[str, bytes]:
        """STL of each body by its name."""
        page = self.page
        self.wait_state("Plate", "done", seconds=240)
        self.step("Hand-off").click()
        page.get_by_role("button", name="Accept all, make the files").click()
        with page.expect_download(timeout=180_000) as got:
            page.get_by_role("link", name=re.compile("^All as")).click()
        with zipfile.ZipFile(io.BytesIO(got.value.path().read_bytes())) as files:
            return {name[:-4].partition("_")[2]: files.read(name) for name in files.namelist() if name.endswith(".stl")}
