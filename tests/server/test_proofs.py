"""The proof over HTTP: who did what when, and what was printed."""

from __future__ import annotations

import hashlib
import json

import pypdfium2

from bays.models import Print
from cases.models import Case
from tests.server.common import client, post
from tests.server.test_bays import BayCase
from tests.server.test_work import STEPS


class ProofTest(BayCase):
    def test_who_said_yes_what_went_out_and_what_was_printed(self) -> None:
        case = self.ready()
        number, tove = case.number, client("tove")
        early = self.mira.get(f"/api/proofs/{number}/proof.json").json()
        self.assertEqual(early["outputs"], [])
        self.assertEqual(early["settings"], [])
        post(self.mira, f"/api/cases/{number}/hand-off")
        self.work(Case.objects.get(pk=case.pk))
        base = self.mira.get(f"/api/cases/{number}").json()["revision"]
        for accepted in (False, True):
            answer = post(tove, f"/api/cases/{number}/accept", {"base": base, "steps": ["trim"], "accepted": accepted})
            base = answer.json()["revision"]
        row = self.sent(Case.objects.get(pk=case.pk))
        spec = {**row.spec, "printing": {**row.spec["printing"], "sized_percent": [0.2, 0.1, 0.0]}}
        Print.objects.filter(pk=row.pk).update(spec=spec)
        found = self.mira.get(f"/api/proofs/{number}/proof.json").json()
        said = {one["step"]: one["who"] for one in found["accepted"]}
        self.assertEqual(set(said), set(STEPS))
        self.assertEqual((said["trim"], said["bite"]), ("Tove Ashgrove", "Mira Tallow"))
        self.assertEqual([one["who"] for one in found["handed_off"]], ["Mira Tallow"])
        files = {f["name"]: f for f in self.mira.get(f"/api/cases/{number}").json()["files"]}
        self.assertEqual({o["file"] for o in found["outputs"]}, set(files))
        for out in found["outputs"]:
            data = self.mira.get(f"/api/cases/{number}/files/{out['file']}").content
            self.assertEqual((out["sha256"], out["open_edges"]), (hashlib.sha256(data).hexdigest(), 0))
        (print_of,) = found["prints"]
        self.assertEqual((print_of["name"], print_of["sized_percent"]), (row.name, [0.2, 0.1, 0.0]))
        self.seen(number)

    def seen(self, number: str) -> None:
        sheet = self.mira.get(f"/api/proofs/{number}").json()
        self.assertIn("printed larger by 0.2 % in width, 0.1 % in depth", json.dumps(sheet["sections"]))
        raw = self.mira.get(f"/api/proofs/{number}/proof.json").content
        self.assertEqual(sheet["sha256"], hashlib.sha256(raw).hexdigest())
        answer = self.mira.get(f"/api/proofs/{number}/proof.pdf")
        self.assertEqual(answer["Content-Type"], "application/pdf")
        text = "".join(page.get_textpage().get_text_range() for page in pypdfium2.PdfDocument(answer.content))
        self.assertIn(sheet["sha256"], text)

    def test_a_change_after_the_yes_is_said_and_one_taken_back_is_gone(self) -> None:
        case = self.ready()
        base = self.mira.get(f"/api/cases/{case.number}").json()["revision"]
        body = {"base": base, "step": "base", "values": {"thickness_mm": 5.0}}
        base = post(self.mira, f"/api/cases/{case.number}/settings", body).json()["revision"]
        self.work(Case.objects.get(pk=case.pk))
        post(self.mira, f"/api/cases/{case.number}/accept", {"base": base, "steps": ["level"], "accepted": False})
        found = self.mira.get(f"/api/proofs/{case.number}/proof.json").json()
        changed = {one["step"]: one["changed"] for one in found["accepted"]}
        self.assertTrue(changed["base"])
        self.assertEqual(changed["intake"], [])
        self.assertNotIn("level", changed)
        self.assertEqual([(s["key"], s["value"]) for s in found["settings"]], [("thickness_mm", 5.0)])

    def test_strangers_and_cases_that_are_not_there(self) -> None:
        self.assertEqual(self.mira.get("/api/proofs/9999-99").status_code, 404)
        self.assertEqual(self.mira.get("/api/proofs/9999-99/proof.pdf").status_code, 404)
        number = self.opened().number
        self.assertEqual(self.client.get(f"/api/proofs/{number}/proof.json").status_code, 401)
        # Nothing is worked out yet, and the sheet says so.
        sheet = self.mira.get(f"/api/proofs/{number}").json()
        self.assertIn("No files were made yet.", [s["none"] for s in sheet["sections"]])
