"""Bottles of resin: which is where, and what prints take of them, on a stand-in over its real HTTP interface."""

from __future__ import annotations

from typing import Any

from bays.models import Bottle, BottleUse, Print
from bays.sending import deliver
from tests.server.common import delete, post
from tests.server.test_bays import BayCase


class BottleTest(BayCase):
    def bottle(self, resin: str = "plaster", ml: float = 800.0, lot: str = "7/26") -> int:
        answer = post(self.mira, "/api/bays/bottles", {"resin": resin, "lot": lot, "ml": ml})
        self.assertEqual(answer.status_code, 200, answer.content)
        return int(answer.json()["id"])

    def put(self, ident: int, bay: str = "wren") -> None:
        self.assertEqual(post(self.mira, f"/api/bays/bottles/{ident}/into", {"bay": bay}).status_code, 200)

    def left(self, ident: int) -> float:
        return next(float(b["left_ml"]) for b in self.mira.get("/api/bays/bottles").json() if b["id"] == ident)

    def half(self, row: Print) -> dict[str, Any]:
        self.printer.let_pass(self.told(row)["seconds_left"] / 2)
        return self.told(row)

    def layer_ml(self, row: Print, layer: int) -> float:
        """Of the first so many layers, by their areas: what layers.json in the file at the printer says."""
        return sum(self.printer.machine._files[row.name].ml[:layer])

    def test_what_is_printed_goes_off_the_bottle_that_is_in_and_off_the_next_from_where_it_was_changed(self) -> None:
        case = self.ready()
        first, second = self.bottle(), self.bottle(ml=500.0, lot="8/26")
        self.put(first)
        self.assertEqual(self.printer.machine.bottle_ml, 800.0)
        row = self.sent(case)
        deliver(row.pk)
        half = self.half(row)
        layer = half["layer"]
        self.assertAlmostEqual(self.left(first), 800 - self.layer_ml(row, layer), places=2)
        # Another one in the middle: each has what was cured of it.
        self.put(second)
        self.printer.let_pass(half["seconds_left"] + 1)
        done = self.told(row)
        self.assertEqual(done["state"], "done")
        self.assertEqual([b["lot"] for b in done["bottles"]], ["7/26", "8/26"])
        self.assertAlmostEqual(self.left(first), 800 - self.layer_ml(row, layer), places=2)
        whole = self.layer_ml(row, done["layers"])
        self.assertAlmostEqual(self.left(first) + self.left(second), 1300 - whole, places=2)
        self.assertAlmostEqual(self.printer.machine.bottle_ml, self.left(second), places=2)
        # Looked at again and again, and broken off and sent anew: nothing twice, nothing forgotten.
        self.told(row)
        self.assertAlmostEqual(self.left(first) + self.left(second), 1300 - whole, places=2)
        again = Print.objects.get(pk=post(self.mira, f"/api/bays/prints/{row.pk}/again").json()["id"])
        deliver(again.pk)
        broken = self.half(again)
        self.assertEqual(post(self.mira, f"/api/bays/prints/{again.pk}/cancel").status_code, 200)
        more = self.layer_ml(row, broken["layer"])
        self.assertEqual(post(self.mira, f"/api/bays/prints/{again.pk}/again").status_code, 200)
        deliver(again.pk)
        self.told(again)
        self.assertAlmostEqual(self.left(second), 1300 - whole - self.left(first) - more, places=2)
        # Gone with its case, it stays used.
        before = self.left(second)
        Print.objects.all().delete()
        self.assertEqual(self.left(second), before)
        self.assertTrue(BottleUse.objects.filter(print=None).exists())

    def test_another_resin_is_waited_for(self) -> None:
        case = self.ready()
        other = self.bottle("sand")
        self.put(other)
        row = self.sent(case)
        deliver(row.pk)
        now = self.told(row)
        self.assertEqual(now["state"], "arrived")
        self.assertEqual(now["says"], f"It waits for a bottle of Plaster grey: B-{other} in the Wren is Sandstone.")
        self.printer.let_pass(500)
        self.assertEqual(self.told(row)["layer"], 0)
        self.put(self.bottle())
        self.assertEqual((self.told(row)["state"], self.told(row)["says"]), ("printing", ""))
        self.assertEqual(self.left(other), 800.0)

    def test_one_is_in_one_printer_and_what_is_wrong_is_said(self) -> None:
        one, two = self.bottle(), self.bottle()
        self.put(one)
        self.put(two)
        where = {b["id"]: b["bay"] for b in self.mira.get("/api/bays/bottles").json()}
        self.assertEqual(where, {one: "", two: "wren"})
        self.assertEqual(self.mira.get("/api/bays").json()[0]["bottle"]["id"], two)
        post(self.mira, f"/api/bays/bottles/{two}/left", {"ml": 123.0})
        self.assertEqual((self.left(two), self.printer.machine.bottle_ml), (123.0, 123.0))
        self.assertEqual(delete(self.mira, f"/api/bays/bottles/{two}").status_code, 200)
        self.assertIsNone(self.mira.get("/api/bays").json()[0]["bottle"])
        self.assertTrue(Bottle.objects.get(pk=two).ended)
        for path, body, status, words in (
            ("", {"resin": "none", "ml": 500}, 404, "not on the shelf"),
            ("", {"resin": "sand", "ml": 5}, 422, "from 10 to 20,000 ml"),
            (f"/{two}/into", {"bay": "wren"}, 404, "no such bottle"),
            (f"/{one}/into", {"bay": "heron"}, 409, "not connected"),
            (f"/{one}/left", {"ml": -1}, 422, "from 0 to 20,000 ml"),
        ):
            answer = post(self.mira, f"/api/bays/bottles{path}", body)
            self.assertEqual(answer.status_code, status, answer.content)
            self.assertIn(words, answer.json()["message"])
