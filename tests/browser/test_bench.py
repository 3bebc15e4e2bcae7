"""The slice as a technician walks it, through the real interface."""

from __future__ import annotations

import contextlib
import io
import re
import zipfile

import lib3mf
import numpy as np
import pypdfium2
import trimesh
from django.test import tag
from playwright.sync_api import TimeoutError, expect

from tests.browser.harness import BrowserCase, parse_mm, scan
from tests.core.test_files import zipped
from tests.shapes import light_jaws as jaws
from tests.shapes import sphere


class SliceTest(BrowserCase):
    def test_from_dropping_files_to_the_downloaded_3mf(self) -> None:
        page = self.page
        number = self.open_pair()
        tiles = page.get_by_label("Pieces")
        tiles.get_by_text("Upper", exact=True).wait_for()
        tiles.get_by_text("Lower", exact=True).wait_for()
        self.assertEqual(tiles.get_by_text(re.compile(r"\d+ % sure")).count(), 2)
        self.shown(2)
        page.keyboard.press("d")
        page.get_by_label("Patient").fill("Ilse M")
        page.get_by_label("Patient").press("Enter")
        page.get_by_role("button", name=re.compile(f"{number}.*Ilse M")).wait_for()
        page.keyboard.press("d")
        page.get_by_label("Pieces").get_by_text("Upper", exact=True).click()
        for title in ("Bite", "Level", "Trim", "Base", "Hollow", "Label", "Articulate", "Plate", "Hand-off"):
            # A step that has something to read is accepted once it is here.
            page.get_by_label("Card").get_by_role("button", name=re.compile("^(Accept|Go to)")).wait_for()
            page.keyboard.press("Enter")
            page.get_by_label("Card").get_by_role("heading", name=title).wait_for()
        page.get_by_role("button", name="Make the files").click()
        page.get_by_role("link", name=f"{number}_all.3mf").wait_for(timeout=180_000)
        self.step("Base").click()
        self.page.get_by_role("button", name="more readings").click()
        counts = [int(self.reading("Triangles").replace(",", ""))]
        page.get_by_role("tab", name="Lower").click()
        counts.append(int(self.reading("Triangles").replace(",", "")))
        self.step("Hand-off").click()
        page.get_by_label("Card").get_by_role("heading", name="Hand-off").wait_for()
        with page.expect_download() as got:
            page.get_by_role("link", name=f"{number}_all.3mf").click()
        self.check_3mf(got.value.path().read_bytes(), counts)
        with page.expect_download() as got:
            page.get_by_role("link", name=f"All as {number}.zip").click()
        with zipfile.ZipFile(io.BytesIO(got.value.path().read_bytes())) as archive:
            self.assertEqual(sorted(archive.namelist()), [f"{number}_all.3mf", f"{number}_lower.stl", f"{number}_upper.stl"])
            lower = trimesh.load(io.BytesIO(archive.read(f"{number}_lower.stl")), file_type="stl")
        self.assertTrue(lower.is_watertight)
        self.assertLess(lower.bounds[0][2], -8)  # in bench coordinates the lower jaw hangs under the occlusal plane
        self.assertLess(lower.bounds[1][2], 3)
        self.see_proof(number, lower)

    def see_proof(self, number: str, lower: trimesh.Trimesh) -> None:
        page = self.page
        page.get_by_role("link", name="Proof sheet").click()
        out = page.get_by_label("Went out, measured on the files as they were read back")
        expect(out).to_contain_text(f"{lower.volume / 1000:.2f} ml, {lower.area:.0f} mm², {len(lower.faces):,} triangles", timeout=60_000)
        expect(page.get_by_label("Who said yes")).to_contain_text("Intake")
        with page.expect_download() as got:
            page.get_by_role("link", name="proof.pdf").click()
        text = "".join(p.get_textpage().get_text_range() for p in pypdfium2.PdfDocument(got.value.path()))
        for words in (f"Proof {number}", "Ilse M", f"{number}_lower.stl"):
            self.assertIn(words, text)
        page.get_by_role("link", name=number, exact=True).click()
        page.get_by_label("Run sheet").wait_for()

    def check_3mf(self, data: bytes, counts: list[int]) -> None:
        model = lib3mf.get_wrapper().CreateModel()
        model.QueryReader("3mf").ReadFromBuffer(data)
        self.assertEqual(model.GetUnit(), lib3mf.ModelUnit.MilliMeter)
        found = []
        objects = model.GetMeshObjects()
        while objects.MoveNext():
            mesh = objects.GetCurrentMeshObject()
            self.assertTrue(mesh.IsManifoldAndOriented())
            found.append(mesh.GetTriangleCount())
        self.assertEqual(found, counts)

    def test_a_late_change_works_out_only_what_follows(self) -> None:
        self.open_pair()
        self.step("Base").click()
        before = parse_mm(self.reading("Height"))
        self.set_number("Under the lowest point", "5")
        self.wait_reading("Under the lowest point", "5.00 mm")
        self.assertAlmostEqual(parse_mm(self.reading("Height")), before + 3.0, delta=0.011)
        self.shown(2)
        self.wait_state("Plate", "done")
        self.page.get_by_role("button", name="Under the lowest point: back to the default").click()
        self.wait_reading("Under the lowest point", "2.00 mm")

    def test_undo_and_redo_after_a_reload(self) -> None:
        page = self.page
        self.open_pair()
        self.step("Base").click()
        self.set_number("Under the lowest point", "4")
        self.wait_reading("Under the lowest point", "4.00 mm")
        page.keyboard.press("Control+z")  # right after typing: the bench's undo, not the field's
        self.wait_reading("Under the lowest point", "2.00 mm")
        page.keyboard.press("Control+Shift+z")
        self.wait_reading("Under the lowest point", "4.00 mm")
        page.get_by_role("textbox", name="Under the lowest point").focus()
        page.keyboard.press("Alt+4")
        page.get_by_label("Card").get_by_role("heading", name="Trim").wait_for()
        page.reload()
        # One goes on where one was.
        page.get_by_label("Card").get_by_role("heading", name="Trim").wait_for()
        self.step("Base").click()
        self.wait_reading("Under the lowest point", "4.00 mm")
        page.keyboard.press("Control+z")
        self.wait_reading("Under the lowest point", "2.00 mm")
        page.keyboard.press("Control+Shift+z")
        self.wait_reading("Under the lowest point", "4.00 mm")
        page.keyboard.press("h")
        page.get_by_text("Did again: Base: Under the lowest point").first.wait_for()
        page.get_by_label("Card").get_by_text("Mira Tallow").first.wait_for()

    @tag("long")
    def test_the_saw_is_pulled_on_the_stage(self) -> None:
        page = self.page
        self.open_pair()
        self.step("Trim").click()
        before = parse_mm(self.reading("Bottom saw"))
        page.keyboard.press("1")
        page.keyboard.press("s")
        page.get_by_text("Pull a saw on the model").wait_for()
        self.shown(2)
        page.wait_for_timeout(900)
        for _ in range(3):
            page.keyboard.press("ArrowUp")
        page.keyboard.press("Shift+ArrowUp")
        self.wait_reading("Bottom saw", f"{before - 1.3:.2f} mm")
        page.keyboard.press("Control+z")
        self.wait_reading("Bottom saw", f"{before:.2f} mm")
        # From the front the bottom saw of the upper is a level line over its gum: find it by dragging where it stands.
        box = page.get_by_test_id("stage").bounding_box()
        assert box
        for y in range(int(box["y"]) + 60, int(box["y"] + box["height"] / 2), 6):
            page.mouse.move(box["x"] + box["width"] / 2, y)
            page.mouse.down()
            page.mouse.move(box["x"] + box["width"] / 2, y + 20, steps=4)
            page.mouse.up()
            page.wait_for_timeout(150)
            if page.get_by_role("button", name="Bottom, from the occlusal plane: back to the default").count():
                break
        page.get_by_role("button", name="Bottom, from the occlusal plane: back to the default").wait_for()
        self.wait_state("Plate", "done")
        after = parse_mm(self.reading("Bottom saw"))
        self.assertLess(after, before - 0.5)
        self.assertGreater(after, 1.99)

    def test_the_gauge_agrees_with_the_scale(self) -> None:
        page = self.page
        self.open_pair()
        page.keyboard.press("Alt+1")
        page.keyboard.press("1")
        page.keyboard.press("g")
        page.wait_for_timeout(2500)
        box = page.get_by_test_id("stage").bounding_box()
        assert box
        x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        page.mouse.click(x - 50, y + 12)
        page.mouse.click(x + 50, y + 12)
        told = parse_mm(page.get_by_test_id("gauge").inner_text())
        words = page.get_by_text(re.compile(r"^\d+ mm$")).last
        mm = parse_mm(words.inner_text())
        pixels = words.locator("xpath=following-sibling::div").bounding_box()
        assert pixels
        self.assertAlmostEqual(told, 100 * mm / pixels["width"], delta=0.2 * told)
        page.keyboard.press("Escape")
        self.assertEqual(page.get_by_test_id("gauge").count(), 0)

    def test_raw_scan_through_the_body_and_pieces_shown_ghosted_hidden(self) -> None:
        page = self.page
        self.open_pair()
        self.step("Base").click()
        self.shown(2)
        page.keyboard.down("r")
        self.shown(4)
        page.keyboard.up("r")
        self.shown(2)
        page.keyboard.press("u")
        page.get_by_text("ghosted").wait_for()
        page.keyboard.press("u")
        self.shown(1)
        page.keyboard.press("u")
        self.shown(2)

    def test_keys_box_and_overview(self) -> None:
        page = self.page
        self.open_pair()
        page.keyboard.press("Alt+3")
        page.get_by_label("Card").get_by_role("heading", name="Level").wait_for()
        page.keyboard.press("Alt+0")
        page.get_by_label("Card").get_by_role("heading", name="Hand-off").wait_for()
        page.keyboard.press("/")
        page.get_by_label("Find a command", exact=True).last.fill("from above")
        page.keyboard.press("Enter")
        page.keyboard.press("?")
        page.get_by_role("heading", name="All keys").wait_for()
        self.assertGreater(page.locator("dialog kbd").count(), 25)
        page.keyboard.press("Escape")

    def test_jaw_corrected_with_one_choice(self) -> None:
        page = self.page
        self.drop(("one.stl", scan(jaws(21)[1])))
        self.wait_state("Plate", "done")
        page.get_by_label("What one.stl is").select_option("upper")
        page.get_by_label("Pieces").get_by_text("set by hand").wait_for()
        page.get_by_label("Pieces").get_by_text("Upper", exact=True).wait_for()
        self.wait_state("Plate", "done")
        page.keyboard.press("Control+z")
        page.get_by_label("Pieces").get_by_text("Lower", exact=True).wait_for()

    def test_cancel_and_go_on(self) -> None:
        page = self.page
        self.open_pair()
        self.step("Trim").click()
        self.set_number("Ease the border", "1.35")
        page.get_by_role("button", name="Cancel").click()
        page.get_by_text("Stopped by hand").wait_for()
        page.get_by_role("button", name="Go on").click()
        self.wait_state("Trim", "done")
        self.wait_state("Plate", "done")

    def test_page_never_scrolls_and_nothing_is_cut_off(self) -> None:
        page = self.page
        self.open_pair()
        for key in ("Alt+1", "Alt+2", "Alt+3", "Alt+4", "Alt+5", "Alt+9", "Alt+0", "d", "h"):
            page.keyboard.press(key)
            page.wait_for_timeout(150)
            wide, tall = page.evaluate("[document.documentElement.scrollWidth, document.documentElement.scrollHeight]")
            self.assertEqual((wide, tall), (1280, 800), key)
            card = page.get_by_label("Card", exact=True).evaluate("e => [e.scrollWidth, e.clientWidth]")
            self.assertLessEqual(card[0], card[1], key)
        stage = page.get_by_test_id("stage").bounding_box()
        assert stage
        self.assertGreaterEqual(stage["width"] * stage["height"], 0.55 * 1280 * 800)

    def test_two_people_in_one_case(self) -> None:
        number = self.open_pair()
        tove = self.signed_in("tove")
        tove.goto(f"{self.app.address}/case/{number}")
        tove.get_by_text("Mira Tallow has it open too").wait_for()
        self.step("Base", tove).click()
        self.wait_reading("Under the lowest point", "2.00 mm", tove)
        self.step("Base").click()
        self.set_number("Under the lowest point", "3.5")
        tove.get_by_text("Mira Tallow changed this case: Base: Under the lowest point.").wait_for()
        self.wait_reading("Under the lowest point", "3.50 mm", tove)
        self.page.get_by_text("Tove Ashgrove has it open too").wait_for(timeout=180_000)
        self.assertTrue(tove.get_by_role("button", name="Nothing to take back").is_disabled())


class DoorTest(BrowserCase):
    def test_messy_drop_is_said_and_the_good_ones_go_in(self) -> None:
        page = self.page
        good = zipped(("case/u.stl", scan(jaws(3)[0])), ("case/info.txt", b"x"))
        self.drop(("letter.stl", b"Dear all,\n" * 99), ("cut.stl", scan(jaws(3)[1])[:9000]), ("set.zip", good))
        page.get_by_text("“letter.stl” is not a scan").wait_for()
        page.get_by_text("“cut.stl” is cut short").wait_for()
        page.get_by_label("Pieces").get_by_text("Upper", exact=True).wait_for()

    def test_files_dropped_by_hand_anywhere_on_the_rack(self) -> None:
        page = self.page
        data = list(scan(jaws(21)[1])[: 84 + 50 * 30_000])
        count = np.frombuffer(bytes(data[80:84]), "<u4")[0]
        data[80:84] = list(np.array([min(count, 30_000)], "<u4").tobytes())
        transfer = page.evaluate_handle(
            "bytes => { const t = new DataTransfer(); t.items.add(new File([new Uint8Array(bytes)], 'x.stl')); return t; }", data
        )
        rack = page.get_by_role("heading", name="Rack", exact=True)
        rack.dispatch_event("dragenter", {"dataTransfer": transfer})
        page.get_by_text("Drop the scans: a case opens by itself").wait_for()
        rack.dispatch_event("drop", {"dataTransfer": transfer})
        page.wait_for_url(re.compile("/case/"))
        page.get_by_label("Pieces").get_by_text("+ drop files").wait_for()

    def test_a_scan_that_is_no_jaw_is_kept_and_said_to_be(self) -> None:
        page = self.page
        self.drop(("ball.stl", scan(sphere(4, 12))))
        page.wait_for_url(re.compile("/case/"))
        page.get_by_label("Card").get_by_text("kept").first.wait_for()

    def test_no_such_case_and_nothing_without_signing_in(self) -> None:
        page = self.page
        page.goto(f"{self.app.address}/case/9999-99")
        page.get_by_text("There is no case 9999-99.").wait_for()
        page.get_by_label(re.compile("menu")).click()
        page.get_by_role("button", name="Sign out").click()
        page.get_by_role("button", name="Sign in").wait_for()
        page.goto(f"{self.app.address}/case/2611-01")
        page.get_by_role("button", name="Sign in").wait_for()

    def test_house_settings_are_the_leads(self) -> None:
        self.page.get_by_role("link", name="House settings").click()
        self.page.get_by_text("Only a lead changes them.").wait_for()
        self.assertTrue(self.page.get_by_label("Printer", exact=True).is_disabled())
        tove = self.signed_in("tove")
        tove.get_by_role("link", name="House settings").click()
        field = tove.get_by_label("Too hard above")
        field.fill("0.2")
        field.press("Enter")
        tove.get_by_text("Kept as the house's default").wait_for()

    def test_no_two_commands_share_a_key_and_the_overview_shows_them_all(self) -> None:
        """On the rack, in the house settings, and in every step of the bench."""
        self.keys("the rack")
        self.page.keyboard.press("Alt+h")
        self.page.get_by_role("heading", name="House settings").wait_for()
        self.keys("the house settings")
        self.page.keyboard.press("Alt+r")
        self.open_pair()
        for number in (1, 2, 3, 4, 5, 9, 0):
            self.page.keyboard.press(f"Alt+{number}")
            self.keys(f"step {number}")

    def keys(self, where: str) -> None:
        dialog = self.page.get_by_role("dialog", name="All keys")
        # A key that is pressed while a step still comes onto the stage may go by: pressed again, as a person would.
        for _ in range(5):
            self.page.keyboard.press("Shift+?")
            with contextlib.suppress(TimeoutError):
                dialog.wait_for(timeout=6000)
                break
        keys = dialog.locator("kbd").all_inner_texts()
        twice = {key for key in keys if keys.count(key) > 1}
        self.assertTrue(keys and not twice, f"{where}: {twice}")
        sheet = self.page.get_by_test_id("all-keys")
        cut = sheet.evaluate("e => e.scrollHeight - e.clientHeight")
        box = sheet.bounding_box()
        assert box
        self.assertLessEqual((cut, box["y"] + box["height"]), (0, 800), where)
        self.page.keyboard.press("Escape")
        dialog.wait_for(state="detached")
