"""Strangers: a printer that lies beside one that works, and a body of ours that comes back from another program."""

from __future__ import annotations

import io
import re

import numpy as np
import trimesh
from django.test import tag
from playwright.sync_api import expect
from scipy.spatial.transform import Rotation

from tests.browser.harness import BrowserCase
from tests.printer import Outside
from tests.server.test_lying_printer import LIES, Liar


class ReturnTest(BrowserCase):
    def choose(self, step: str, label: str, value: str) -> None:
        self.step(step).click()
        self.page.get_by_role("combobox", name=label, exact=True).select_option(value)

    def test_our_body_turned_elsewhere_comes_home_by_itself_and_a_new_case_says_whose_it_is(self) -> None:
        page = self.page
        number = self.open_pair(3)
        self.choose("Hollow", "Inside", "closed")
        self.choose("Label", "Label", "engraved")
        self.choose("Articulate", "Held by", "pins")
        self.wait_state("Articulate", "done", seconds=240)
        self.wait_state("Plate", "done", seconds=240)
        body = trimesh.load(io.BytesIO(self.handed_out()["upper"]), file_type="stl")
        there = np.eye(4)
        there[:3, :3] = Rotation.from_euler("xyz", [33, -71, 118], degrees=True).as_matrix()
        there[:3, 3] = [120, -340, 77]
        body.apply_transform(there)
        data = body.export(file_type="stl")
        self.drop(("from elsewhere.stl", data))
        tile = page.locator("[data-piece=p3]")
        expect(tile).to_contain_text("Returned", timeout=180_000)
        self.step("Bite").click()
        page.get_by_text(re.compile(r"Laid on the upper jaw by \d+% of its surface, the teeth to (less than )?\d+ µm")).wait_for()
        page.goto(self.app.address)
        page.get_by_role("heading", name="Rack", exact=True).wait_for()
        self.drop(("who is this.stl", data))
        page.wait_for_url(re.compile(f"/case/(?!{number})"))
        self.step("Intake").click()
        page.get_by_text(re.compile(f"a body that went out of case {number}")).wait_for()
        page.get_by_role("link", name=f"Go to {number}").click()
        page.wait_for_url(re.compile(f"/case/{number}"))


class LiarTest(BrowserCase):
    """Six ways to lie, and the Wren beside it that works."""

    liar: Liar
    printer: Outside

    @classmethod
    def setUpClass(cls) -> None:
        cls.liar, cls.printer = Liar(LIES["no jobs"]), Outside("Wren", 400.0)
        cls.environment = {"BENCH_PRINTERS": f"heron={cls.liar.url} wren={cls.printer.url}"}
        super().setUpClass()

    @classmethod
    def tearDownClass(cls) -> None:
        super().tearDownClass()
        cls.liar.close()
        cls.printer.close()

    @tag("long")
    def test_it_is_said_of_the_liar_alone_and_the_other_prints(self) -> None:
        page = self.page
        self.open_pair(3)
        self.step("Plate").click()
        card = page.get_by_label("Print", exact=True)
        self.answer_doubts(card)
        card.get_by_role("button", name=re.compile("print on Wren", re.IGNORECASE)).click()
        row = page.get_by_test_id("print")
        expect(row).to_contain_text(re.compile("printing, layer|printed"), timeout=180_000)
        for says in LIES.values():
            self.liar.says = says
            page.wait_for_timeout(2500)
        expect(row).to_contain_text(re.compile("printing, layer|printed"))
        page.get_by_role("button", name="Bite Bench").or_(page.get_by_role("link", name="Bite Bench")).first.click()
        page.get_by_text(re.compile("answers what it should not|does not answer")).first.wait_for()
