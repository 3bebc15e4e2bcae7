"""A denture and its jaw as one body: chosen on the card, handed out beside the jaw alone, and measured in the files."""

from __future__ import annotations

import io
import re

import trimesh

from bitecore.files import stl
from bitecore.mesh import Mesh
from tests.browser.harness import BrowserCase
from tests.core.test_joining import without_teeth
from tests.shapes import box, manifold


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
        self.wait_state("Plate", "done", seconds=240)
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


class HousePartTest(BrowserCase):
    def test_a_part_of_the_shelf_is_put_on_a_base_and_is_one_body_with_it(self) -> None:
        page = self.page
        tove = self.signed_in("tove")
        tove.goto(f"{self.app.address}/house")
        shelf = tove.get_by_role("region", name="House parts")
        foot = stl.write_binary(box((3.0, 3.0, 4.0)))
        shelf.locator("input[type=file]").set_input_files([{"name": "peg.stl", "mimeType": "model/stl", "buffer": foot}])
        shelf.get_by_label("Name of peg").wait_for()
        self.open_pair()
        page.keyboard.press("Alt+5")
        self.set_number("Under the lowest point", "8")
        self.wait_reading("Under the lowest point", "8.00 mm")
        page.keyboard.press("Alt+8")
        card = page.get_by_label("Card")
        card.get_by_label("Put a house part on a base").select_option(label="peg")
        page.get_by_label("What peg.stl is").wait_for()
        self.wait_state("Plate", "done", seconds=240)
        page.keyboard.press("1")
        self.shown(2)
        page.wait_for_timeout(1500)
        page.mouse.click(620, 200)  # on the upper's wall
        row = card.get_by_role("region", name="House parts").get_by_role("listitem")
        row.get_by_text("12 mm²").wait_for(timeout=150_000)
        self.wait_state("Plate", "done", seconds=240)
        files = self.handed_out()
        read = trimesh.load(io.BytesIO(files["upper"]), file_type="stl")
        self.assertTrue(read.is_watertight)
        solid = manifold(Mesh.of(read.vertices, read.faces))
        self.assertEqual(len(solid.decompose()), 1)
