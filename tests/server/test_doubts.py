"""No doubt is waved through: several steps are accepted up to the first one, each doubt has its own yes, and the proof says whose."""

from __future__ import annotations

from typing import Any

from cases.models import Case
from tests.server.common import post, yes
from tests.server.test_cases import ServerCase
from tests.server.test_work import STEPS, WorkCase


class DoubtTest(WorkCase):
    """A mounting gap that the pair does not fit: asked for and not made."""

    def setUp(self) -> None:
        super().setUp()
        case = self.opened()
        self.number = case.number
        values = {"height": "gap", "gap_mm": 15.0}
        answer = post(self.mira, f"/api/cases/{self.number}/settings", {"base": 1, "step": "base", "values": values})
        self.base = answer.json()["revision"]
        self.case = self.work(Case.objects.get(pk=case.pk))

    def read(self) -> dict[str, Any]:
        out: dict[str, Any] = self.mira.get(f"/api/cases/{self.number}?step=base").json()
        return out

    def doubts(self, step: str = "base") -> list[dict[str, Any]]:
        return [d for d in self.read()["doubts"] if d["step"] == step]

    def accept(self, steps: list[str], seen: list[str] | None = None) -> Any:
        body = {"base": self.base, "steps": steps, "seen": seen or []}
        return post(self.mira, f"/api/cases/{self.number}/accept", body)

    def gap(self) -> dict[str, Any]:
        return next(d for d in self.doubts() if d["flag"]["code"] == "gap-past")

    def test_what_was_asked_for_and_not_made_stands_on_its_step_and_stops_every_other_yes(self) -> None:
        self.assertTrue(self.gap()["own"])
        tray = next(t for t in self.mira.get("/api/cases").json() if t["number"] == self.number)
        self.assertEqual({s["step"]: s["state"] for s in tray["states"]}["base"], "look")
        refused = self.accept(STEPS)
        self.assertEqual((refused.status_code, refused.json()["code"]), (409, "doubts"))
        self.assertIn(self.gap()["id"], refused.json()["doubts"])
        # Nor by the card of its own step, whose other doubts that press accepts.
        self.assertEqual(self.accept(["base"], [d["id"] for d in self.doubts()]).status_code, 409)
        self.assertEqual(self.read()["accepted"], {})

    def test_each_gets_its_own_yes_where_one_stands_and_the_proof_names_who_gave_it(self) -> None:
        gap = self.gap()
        answer = post(self.mira, f"/api/cases/{self.number}/doubts", {"base": self.base, "doubts": [gap["id"]]})
        self.assertEqual(answer.status_code, 200, answer.content)
        self.assertEqual(self.gap()["who"], "Mira Tallow")
        found = self.mira.get(f"/api/cases/{self.number}/doubts?before=plate").json()
        self.assertIn("base", found["waits"])
        self.assertNotIn("plate", found["waits"])
        self.assertEqual(yes(self.mira, self.number, self.base, STEPS).status_code, 200)
        proof = self.mira.get(f"/api/proofs/{self.number}/proof.json").json()
        left = next(one for one in proof["left"] if one["doubt"] == gap["id"])
        self.assertEqual(left["who"], "Mira Tallow")
        sheet = self.mira.get(f"/api/proofs/{self.number}").json()
        lines = [line for s in sheet["sections"] for row in s["rows"] for cell in row for line in cell["lines"]]
        self.assertIn("accepted by Mira Tallow", lines)

    def test_a_yes_is_taken_back_and_undone(self) -> None:
        ident = self.gap()["id"]
        post(self.mira, f"/api/cases/{self.number}/doubts", {"base": self.base, "doubts": [ident]})
        post(self.mira, f"/api/cases/{self.number}/doubts", {"base": self.base, "doubts": [ident], "yes": False})
        self.assertEqual(self.gap()["who"], "")
        post(self.mira, f"/api/cases/{self.number}/undo")
        self.assertEqual(self.gap()["who"], "Mira Tallow")

    def test_a_yes_counts_for_these_words_alone(self) -> None:
        gap = self.gap()
        post(self.mira, f"/api/cases/{self.number}/doubts", {"base": self.base, "doubts": [gap["id"]]})
        now = self.read()["revision"]
        post(self.mira, f"/api/cases/{self.number}/settings", {"base": now, "step": "base", "values": {"gap_mm": 16.0}})
        self.work(Case.objects.get(pk=self.case.pk))
        other = self.gap()
        self.assertNotEqual((other["id"], other["who"]), (gap["id"], "Mira Tallow"))
        body = {"base": now, "doubts": [gap["id"]]}
        self.assertEqual(post(self.mira, f"/api/cases/{self.number}/doubts", body).json()["code"], "doubt-changed")

    def test_one_fix_of_several_settings_is_one_change(self) -> None:
        more = [{"step": "trim", "piece": piece, "values": {"bottom_mm": mm}} for piece, mm in (("p1", 14.0), ("p2", 13.0))]
        body = {"base": self.base, "step": "base", "values": {"gap_mm": 40.0}, "more": more}
        answer = post(self.mira, f"/api/cases/{self.number}/settings", body)
        self.assertEqual(answer.json()["revision"], self.base + 1)
        settings = Case.objects.get(pk=self.case.pk).document["settings"]
        self.assertEqual(settings["trim"]["p2"]["bottom_mm"], 13.0)
        post(self.mira, f"/api/cases/{self.number}/undo")
        self.assertEqual(Case.objects.get(pk=self.case.pk).document["settings"].get("trim", {}).get("p2", {}), {})
        odd = {**body, "base": self.base, "more": [{"step": "trim", "piece": "p9", "values": {}}]}
        self.assertEqual(post(self.mira, f"/api/cases/{self.number}/settings", odd).status_code, 404)


class UnfinishedTest(ServerCase):
    def test_a_case_that_is_being_worked_out_is_closed_only_on_a_second_word(self) -> None:
        number = self.opened()
        asks = post(self.mira, f"/api/cases/{number}/close")
        self.assertEqual((asks.status_code, asks.json()["code"]), (409, "asks-first"))
        self.assertIn("being worked out", asks.json()["message"])
        self.assertTrue(post(self.mira, f"/api/cases/{number}/close?sure=true").json()["closed"])
