"""A plate of two cases printed with all that goes wrong on the way: two people at it, the wrong bottle, a fault, a printer without power,
a killed worker and a killed server. No print is lost, none is sent twice, and printed again it is the same to the byte."""

from __future__ import annotations

import hashlib
import os
import re
import signal
from typing import Any

from playwright.sync_api import Page, expect

from tests.browser.printing import PrinterCase

LONG = 180_000


class PrintedTogetherTest(PrinterCase):
    def test_a_plate_of_two_cases_is_printed_whatever_breaks(self) -> None:
        page = self.page
        numbers = [self.accepted_pair(3), self.accepted_pair(3)]
        page.goto(f"{self.app.address}/plates")
        page.get_by_role("button", name="Begin a plate").click()
        page.get_by_label("Card").get_by_role("combobox", name="Printer").select_option("heron")
        for number in numbers:
            page.get_by_test_id(f"shelf-{number}").get_by_role("button", name="Lower").click()
            self.body(page, f"{number} lower").wait_for()
        self.plate = page.url.rsplit("/", 1)[1]
        self.two_people(numbers)
        expect(page.get_by_role("button", name="Print on Heron")).to_be_enabled(timeout=LONG)
        self.wrong_bottle()
        self.fault_and_no_power()
        self.killed_in_the_middle()

    def accepted_pair(self, seed: int) -> str:
        page = self.page
        page.goto(self.app.address)
        page.get_by_role("heading", name="Rack", exact=True).wait_for()
        number = self.open_pair(seed)
        case = self.got(f"cases/{number}")
        steps = sorted({n["step"] for n in case["nodes"] if not n["part_of"] and n["step"] != "hand-off"})
        doubts = [d["id"] for d in case["doubts"] if not d["at"]]
        if doubts:
            self.posted(f"cases/{number}/doubts", {"base": case["revision"], "doubts": doubts})
        self.posted(f"cases/{number}/accept", {"base": case["revision"], "steps": steps})
        return number

    def got(self, path: str) -> Any:
        return self.page.request.get(f"{self.app.address}/api/{path}").json()

    def posted(self, path: str, body: dict[str, Any]) -> Any:
        cookies = {c["name"]: c["value"] for c in self.page.context.cookies()}
        headers = {"X-CSRFToken": cookies["csrftoken"]}
        answer = self.page.request.post(f"{self.app.address}/api/{path}", data=body, headers=headers)
        self.assertEqual(answer.status, 200, answer.text())
        return answer.json()

    def prints(self) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = self.got(f"bays/prints?plate={self.plate}")
        return found

    def body(self, page: Page, name: str) -> Any:
        return page.get_by_label("Bodies").get_by_role("button", name=name, exact=True)

    def two_people(self, numbers: list[str]) -> None:
        """What one does the other sees at once; what both do at once is kept."""
        page, tove = self.page, self.signed_in("tove")
        tove.goto(page.url)
        self.body(tove, f"{numbers[1]} lower").wait_for()
        page.get_by_test_id(f"shelf-{numbers[0]}").get_by_role("button", name="Upper").click()
        tove.get_by_test_id(f"shelf-{numbers[1]}").get_by_role("button", name="Upper").click()
        for who in (page, tove):
            for number in numbers:
                self.body(who, f"{number} upper").wait_for(timeout=LONG)
        self.assertEqual(len(self.got(f"plates/{self.plate}")["bodies"]), 4)
        tove.get_by_role("button", name=f"Take {numbers[1]} upper off").click()
        page.get_by_text("Someone changed this plate.").first.wait_for()
        self.body(page, f"{numbers[1]} upper").wait_for(state="detached")
        tove.context.close()

    def wrong_bottle(self) -> None:
        page = self.page
        page.get_by_role("button", name="Bottles").click()
        self.new_bottle("sand", "S-1")
        page.get_by_test_id("other-resin").wait_for()
        page.get_by_role("button", name="Print on Heron").click()
        row = page.get_by_test_id("print")
        expect(row).to_contain_text("It waits for a bottle of Plaster grey", timeout=LONG)
        self.new_bottle("plaster", "P-1")
        expect(row).to_contain_text(re.compile(r"printing, layer \d+ of \d+"), timeout=LONG)

    def new_bottle(self, resin: str, lot: str) -> None:
        page = self.page
        page.get_by_label("Resin of the new bottle").select_option(resin)
        page.get_by_label("Lot of the new bottle").fill(lot)
        page.get_by_role("button", name="New, put in").click()
        page.get_by_label("Bottle", exact=True).get_by_text(f"lot {lot}").first.wait_for()

    def fault_and_no_power(self) -> None:
        """Switched in the room: something came off; then the printer's process is killed, and started again."""
        page = self.page
        page.get_by_label("Practise a fault").select_option("layer")
        row = page.get_by_test_id("print")
        expect(row).to_contain_text("Something came off in the last layer", timeout=LONG)
        layer = self.printer.ask("/")["job"]["layer"]
        page.reload()
        expect(row).to_contain_text("stopped, layer", timeout=LONG)
        page.get_by_label("Practise a fault").select_option("none")
        expect(row).to_contain_text("printing, layer", timeout=LONG)
        self.printer.kill()
        expect(page.get_by_label("Bays")).to_contain_text("does not answer", timeout=LONG)
        self.printer.begin()
        expect(row).to_contain_text(re.compile(r"printed"), timeout=LONG * 2)
        job = self.printer.ask("/jobs/" + self.prints()[0]["name"])
        self.assertTrue(layer < job["layer"] == job["layers"])
        (taken,) = self.prints()[0]["bottles"]
        self.assertEqual(taken["lot"], "P-1")
        self.assertAlmostEqual(taken["ml"], self.prints()[0]["resin_ml"], delta=0.01)

    def killed_in_the_middle(self) -> None:
        """Printed again; the worker and then the server are killed while it is sent."""
        page, app = self.page, self.app
        first = self.prints()[0]
        page.get_by_test_id("print").get_by_role("button", name="Print again").click()
        expect(page.get_by_test_id("print")).to_have_count(2)
        app.kill_worker()
        assert app.web
        os.killpg(app.web.pid, signal.SIGKILL)
        app.web.wait()
        app.start_web()
        app.start_worker()
        expect(page.get_by_test_id("print").first).to_contain_text(re.compile(r"printing, layer \d+"), timeout=LONG)
        second = self.prints()[0]
        self.assertEqual((len(self.prints()), second["sha256"]), (2, first["sha256"]))
        files = sorted(self.printer.folder.glob("*.zip"))
        self.assertEqual([f.stem for f in files], sorted([first["name"], second["name"]]))
        self.assertEqual({hashlib.sha256(f.read_bytes()).hexdigest() for f in files}, {first["sha256"]})
        page.get_by_test_id("print").first.get_by_role("button", name="Cancel").click()
        expect(page.get_by_test_id("print").first).to_contain_text("cancelled", timeout=LONG)
