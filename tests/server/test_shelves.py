"""Purposes, practices, printers, resins: records of the house; layers of defaults; a case keeps what it took up."""

from __future__ import annotations

import time
from typing import Any

import lib3mf
import numpy as np
from django.utils import timezone

from cases.models import Case
from house import shelves
from runs.owning import folder
from tests.server.common import client, drop, post, scan
from tests.server.common import pair as pair_of
from tests.server.test_cases import ServerCase
from tests.server.test_work import WorkCase
from tests.shapes import box

# What a printer is where nobody said.
PRINTER = {
    "pixel_mm": 0.05, "grey_parts": 0, "lift_s": 5.0, "thin_layer_mm": 0.01, "thick_layer_mm": 0.2, "least_mm": 0.2, "tank_ml": None,
    "bottle_ml": 1000.0,
}  # fmt: skip


class ShelfTest(ServerCase):
    def put(self, shelf: str, **body: Any) -> Any:
        return post(self.tove, f"/api/house/shelves/{shelf}", body)

    def test_what_ships_is_there_and_a_lead_changes_it(self) -> None:
        shelf = self.mira.get("/api/house/shelves").json()
        self.assertEqual({r["id"] for r in shelf["printer"]}, {"wren", "heron"})
        self.assertTrue(shelf["purpose"] and shelf["resin"])
        refused = post(self.mira, "/api/house/shelves/printer", {"name": "Kestrel", "data": {"width_mm": 1, "depth_mm": 1, "height_mm": 1}})
        self.assertEqual((refused.status_code, refused.json()["code"]), (403, "lead-only"))
        size = {"width_mm": 120, "depth_mm": 68, "height_mm": 150}
        made = self.put("printer", name="Kestrel", data=size).json()
        self.assertEqual((made["id"], made["revision"], made["data"]), ("kestrel", 1, {**size, **PRINTER}))
        again = self.put("printer", id="kestrel", name="Kestrel", data={**size, "width_mm": 130}).json()
        self.assertEqual((again["id"], again["revision"]), ("kestrel", 2))
        steps = {s["name"]: s for s in self.mira.get("/api/cases/steps").json()}
        choices = next(s for s in steps["plate"]["settings"] if s["key"] == "printer")
        self.assertEqual((choices["type"], choices["labels"]["kestrel"]), ("choice", "Kestrel"))
        token = {"X-CSRFToken": self.tove.cookies["csrftoken"].value}
        self.assertEqual(self.tove.delete("/api/house/shelves/printer/kestrel", headers=token).status_code, 200)
        self.assertNotIn("kestrel", shelves.on("printer"))
        # An id that was given once is not given again.
        self.assertEqual(self.put("printer", name="Kestrel", data=size).json()["id"], "kestrel-2")

    def test_the_fit_strip_is_fetched_and_what_it_told_is_kept_with_the_resin(self) -> None:
        file = self.mira.get("/api/house/fit-strip.3mf")
        self.assertEqual((file.status_code, file["Content-Type"]), (200, "model/3mf"))
        model = lib3mf.get_wrapper().CreateModel()
        model.QueryReader("3mf").ReadFromBuffer(file.content)
        self.assertEqual(model.GetMeshObjects().Count(), 2)
        self.assertEqual(self.client.get("/api/house/fit-strip.3mf").status_code, 401)
        kept = self.put("resin", id="plaster", name="Plaster grey", data={"density_g_ml": 1.15, "die_air_mm": 0.09}).json()
        self.assertEqual(kept["data"]["die_air_mm"], 0.09)

    def test_the_size_strip_is_fetched_and_what_was_measured_asks_for_a_correction(self) -> None:
        model = lib3mf.get_wrapper().CreateModel()
        model.QueryReader("3mf").ReadFromBuffer(self.mira.get("/api/house/size-strip.3mf").content)
        self.assertEqual(model.GetMeshObjects().Count(), 1)
        asked = self.mira.get("/api/house/size-correction?width=59.7&height=30.03").json()
        self.assertEqual(asked, {"size_x": 0.5, "size_y": None, "size_z": -0.1})
        wrong = self.mira.get("/api/house/size-correction?depth=6.02")
        self.assertEqual(wrong.status_code, 422)
        self.assertIn("A depth of 6.02 mm where 60 mm were printed is more than 5 % off", wrong.json()["message"])
        for odd in ("0", "-60", "nan", "inf"):
            self.assertEqual(self.mira.get(f"/api/house/size-correction?width={odd}").status_code, 422, odd)
        kept = self.put("resin", id="plaster", name="Plaster grey", data={"density_g_ml": 1.15, "size_x": asked["size_x"]}).json()
        self.assertEqual(kept["data"]["size_x"], 0.5)

    def test_what_does_not_fit_is_a_sentence(self) -> None:
        for shelf, body, status, words in (
            ("printer", {"name": "X", "data": {"width_mm": 3, "depth_mm": 68, "height_mm": 150}}, 422, "Width"),
            ("printer", {"name": "X", "data": {}}, 422, "Width"),
            ("printer", {"name": "Wren", "data": {"width_mm": 99, "depth_mm": 68, "height_mm": 150}}, 409, "on the shelf already"),
            ("printer", {"id": "gone", "name": "Y", "data": {}}, 404, "not on the shelf"),
            ("purpose", {"name": "  "}, 422, "needs a name"),
            ("purpose", {"name": "X", "steps": {"base": {"thickness_mm": 0.1}}}, 422, "Under the lowest point"),
            ("purpose", {"name": "X", "steps": {"polish": {}}}, 422, "There is no step"),
            ("cupboard", {"name": "X"}, 404, "The shelves are"),
        ):
            answer = self.put(shelf, **body)
            self.assertEqual(answer.status_code, status, body)
            self.assertIn(words, answer.json()["message"])

    def test_every_record_that_ships_is_kept_again_with_its_empty_fields(self) -> None:
        for shelf, records in self.mira.get("/api/house/shelves").json().items():
            fields = [f["key"] for f in self.mira.get("/api/house/forms").json()[shelf]]
            for record in records:
                # As a form sends it: null where nothing is typed.
                data = {key: record["data"].get(key) for key in fields}
                answer = self.put(shelf, **{**record, "data": data})
                self.assertEqual(answer.status_code, 200, (record["id"], answer.content))

    def test_a_drawing_that_crosses_itself_without_end_holds_nobody(self) -> None:
        rng = np.random.default_rng(3)
        points = " L ".join(f"{x:.2f} {y:.2f}" for x, y in rng.uniform(0, 100, (5000, 2)))
        svg = f'<svg xmlns="http://www.w3.org/2000/svg"><path d="M {points} Z"/></svg>'
        begun = time.monotonic()
        answer = self.put("mark", name="Scrawl", data={"outline": svg})
        self.assertEqual(answer.status_code, 422, answer.content)
        self.assertLess(time.monotonic() - begun, 60)
        many = (
            '<svg xmlns="http://www.w3.org/2000/svg"><path d="M ' + " L ".join(f"{k % 170} {k % 97}" for k in range(26_000)) + ' Z"/></svg>'
        )
        begun = time.monotonic()
        self.assertIn("too many corners", self.put("mark", name="Many", data={"outline": many}).json()["message"])
        self.assertLess(time.monotonic() - begun, 20)

    def test_a_mark_is_made_of_a_drawing_and_nothing_else_of_it_is_kept(self) -> None:
        svg = '<svg xmlns="http://www.w3.org/2000/svg"><script>alert(1)</script><circle cx="5" cy="5" r="4" onclick="x()"/></svg>'
        made = self.put("mark", name="Ring", data={"outline": svg}).json()
        self.assertRegex(made["data"]["outline"], r"^[MLZ\d.\- ]+$")
        for strange in ("<svg/>", "<html/>", "<!DOCTYPE s [<!ENTITY a 'b'>]><svg>&a;</svg>", "M 1 1 L 2 2 Z", "no drawing"):
            answer = self.put("mark", name="Other", data={"outline": strange})
            self.assertEqual(answer.status_code, 422, strange)
            self.assertRegex(answer.json()["message"], r"^Mark: [a-z].*\.$")
        steps = {step["name"]: step for step in self.mira.get("/api/cases/steps").json()}
        choices = next(row for row in steps["label"]["settings"] if row["key"] == "mark")
        self.assertEqual(choices["labels"], {"none": "No mark", "ring": "Ring"})

    def test_the_nearer_layer_wins_and_says_whose_it_is(self) -> None:
        post(self.tove, "/api/house", {"step": "base", "values": {"thickness_mm": 3.0}})
        number = self.opened()
        self.put("purpose", name="Guard", steps={"base": {"thickness_mm": 4.0}, "trim": {"ease_mm": 1.1}})
        self.put("practice", name="Hollow and Reed", steps={"base": {"thickness_mm": 5.0}})

        def now() -> tuple[float, str]:
            opened = self.mira.get(f"/api/cases/{number}?step=hand-off").json()
            self.assertEqual(opened["open"], "hand-off")
            return standard_base(number)

        def standard_base(number: str) -> tuple[float, str]:
            from bitecore.runsheet import standard
            from cases.documents import document_of

            document, step = document_of(Case.objects.get(number=number)), standard()["base"]
            return document.settings_for(step).thickness_mm, document.whose(step).get("thickness_mm", "")  # type: ignore[attr-defined]

        self.assertEqual(now(), (3.0, "house"))
        for revision, (values, told) in enumerate(
            (({"purpose": "Guard"}, (4.0, "purpose")), ({"practice": "hollow and reed"}, (5.0, "practice"))), 1
        ):
            answer = post(self.mira, f"/api/cases/{number}/details", {"base": revision, "values": values})
            self.assertEqual(answer.status_code, 200, answer.content)
            self.assertEqual(now(), told)
        self.assertEqual(self.read(number)["details"]["practice"], "Hollow and Reed")
        self.settings(self.mira, number, 3, "base", {"thickness_mm": 6.0})
        self.assertEqual(now(), (6.0, "case"))
        # What a lead changes later does not reach a case that has taken it up; undo takes a layer off again.
        self.put("practice", id="hollow-and-reed", name="Hollow and Reed", steps={"base": {"thickness_mm": 9.0}})
        post(self.mira, f"/api/cases/{number}/undo")
        self.assertEqual(now(), (5.0, "practice"))
        post(self.mira, f"/api/cases/{number}/undo")
        self.assertEqual(now(), (4.0, "purpose"))
        post(self.mira, f"/api/cases/{number}/details", {"base": 6, "values": {"purpose": ""}})
        self.assertEqual(now(), (3.0, "house"))

    def test_a_purpose_nobody_knows_is_refused_and_a_practice_is_put_on_the_shelf(self) -> None:
        number = self.opened()
        answer = post(self.mira, f"/api/cases/{number}/details", {"base": 1, "values": {"purpose": "Nonsense"}})
        self.assertEqual((answer.status_code, answer.json()["code"]), (422, "no-record"))
        self.assertIn("Splint", answer.json()["message"])
        self.assertEqual(post(self.mira, f"/api/cases/{number}/details", {"base": 1, "values": {"practice": "Fen Lane"}}).status_code, 200)
        self.assertEqual(shelves.named("practice", "fen lane").id, "fen-lane")  # type: ignore[union-attr]

    def test_a_printer_that_is_taken_off_is_in_nobodys_way(self) -> None:
        """The house's rule names it still: new cases open, and their other settings can be changed."""
        made = self.put("printer", name="Kestrel", data={"width_mm": 120, "depth_mm": 68, "height_mm": 150}).json()
        post(self.tove, "/api/house", {"step": "plate", "values": {"printer": made["id"]}})
        token = {"X-CSRFToken": self.tove.cookies["csrftoken"].value}
        self.tove.delete(f"/api/house/shelves/printer/{made['id']}", headers=token)
        number = self.opened()
        self.assertEqual(self.settings(self.mira, number, 1, "base", {"thickness_mm": 3.0}).status_code, 200)
        self.assertEqual(self.settings(self.mira, number, 2, "plate", {"printer": "wren"}).status_code, 200)

    def test_a_printer_that_is_not_there_is_refused(self) -> None:
        number = self.opened()
        answer = self.settings(self.mira, number, 1, "plate", {"printer": "nobody"})
        self.assertEqual((answer.status_code, answer.json()["code"]), (422, "no-record"))
        self.assertEqual(post(self.tove, "/api/house", {"step": "plate", "values": {"printer": "nobody"}}).status_code, 422)


class PinnedTest(WorkCase):
    def test_a_case_prints_on_the_plate_its_printer_had_when_it_was_opened(self) -> None:
        from tests.server.common import client

        tove = client("tove")
        case = self.work(self.opened())
        kept = Case.objects.get(pk=case.pk).document["records"]["printer"]["wren"]
        self.assertEqual((kept["name"], kept["revision"], kept["data"]["width_mm"]), ("Wren", 0, 144.0))
        body = {"id": "wren", "name": "Wren", "data": {"width_mm": 60, "depth_mm": 60, "height_mm": 100}}
        self.assertEqual(post(tove, "/api/house/shelves/printer", body).status_code, 200)
        self.assertEqual(self.states(case)["plate/*"], "done")
        later = drop(self.mira, *pair_of(), name="another").json()["number"]
        later_case = self.work(Case.objects.get(number=later))
        self.assertEqual(self.states(later_case)["plate/*"], "failed")
        # Another that is chosen is the one of now.
        answer = post(self.mira, f"/api/cases/{case.number}/settings", {"base": 1, "step": "plate", "values": {"printer": "heron"}})
        self.assertEqual(answer.status_code, 200)
        self.assertIn("heron", Case.objects.get(pk=case.pk).document["records"]["printer"])
        self.assertEqual(answer.json()["newer"], {})
        # The first one again is as it was, until a person takes it as it is now.
        path = f"/api/cases/{case.number}"
        back = post(self.mira, f"{path}/settings", {"base": 2, "step": "plate", "values": {"printer": "wren"}}).json()
        self.assertEqual(back["newer"]["plate.printer"], "Wren")
        self.assertEqual(self.states(self.work(case))["plate/*"], "done")
        taken = post(self.mira, f"{path}/records", {"base": 3}).json()
        self.assertEqual((taken["newer"], taken["undo"]), ({}, "As the shelf has it now: Wren"))
        self.assertEqual(self.states(self.work(case))["plate/*"], "failed")
        again = post(self.mira, f"{path}/records", {"base": 4})
        self.assertEqual((again.status_code, again.json()["code"]), (409, "nothing-newer"))
        undone = post(self.mira, f"{path}/undo").json()
        self.assertEqual(undone["newer"]["plate.printer"], "Wren")
        self.assertEqual(self.states(self.work(case))["plate/*"], "done")


class HousePartTest(WorkCase):
    """Closed bodies of the house's own: on the shelf by a lead, in cases by anybody, kept for whoever has them."""

    def setUp(self) -> None:
        super().setUp()
        self.tove = client("tove")

    def put(self, *files: tuple[str, bytes]) -> Any:
        return drop(self.tove, *files, to="/api/house-parts")

    def delete(self, ident: int) -> Any:
        return self.tove.delete(f"/api/house-parts/{ident}", headers={"X-CSRFToken": self.tove.cookies["csrftoken"].value})

    def test_put_taken_up_and_taken_off(self) -> None:
        body = scan(box((6.0, 8.0, 10.0)))
        self.assertEqual(drop(self.mira, ("foot.stl", body), to="/api/house-parts").json()["code"], "lead-only")
        (part,) = self.put(("foot.stl", body)).json()["parts"]
        self.assertEqual((part["name"], part["face"], part["turn_deg"]), ("foot", 1, 0.0))
        # The same file again is the same part; what is no body is a sentence.
        again = self.put(("other name.stl", body), ("notes.stl", b"no body")).json()
        self.assertEqual(([p["id"] for p in again["parts"]], len(again["refused"])), ([part["id"]], 1))
        changed = post(self.tove, f"/api/house-parts/{part['id']}", {"name": "Foot of the house", "face": 2, "turn_deg": 90}).json()
        self.assertEqual([(p["name"], p["face"]) for p in changed["parts"]], [("Foot of the house", 2)])
        self.assertEqual(post(self.tove, f"/api/house-parts/{part['id']}", {"name": " "}).status_code, 422)
        self.assertEqual(post(self.mira, f"/api/house-parts/{part['id']}", {"name": "X"}).status_code, 403)
        number = drop(self.mira, pair_of()[1]).json()["number"]
        for _ in range(2):  # twice is once
            self.assertEqual(post(self.mira, f"/api/house-parts/{part['id']}/to/{number}").status_code, 200)
        self.work(Case.objects.get(number=number))
        pieces = self.mira.get(f"/api/cases/{number}").json()["pieces"]
        self.assertEqual([(p["file"], p["kind"], p["sha256"]) for p in pieces[1:]], [("foot.stl", "part", part["sha256"])])
        self.assertEqual(self.delete(part["id"]).json()["parts"], [])
        self.assertTrue(folder().path(part["sha256"]).exists())
        self.assertEqual(post(self.mira, f"/api/house-parts/{part['id']}/to/{number}").json()["code"], "no-record")

    def test_what_nobody_has_any_more_goes(self) -> None:
        (part,) = self.put(("foot.stl", scan(box((6.0, 8.0, 11.0))))).json()["parts"]
        self.assertTrue(folder().path(part["sha256"]).exists())
        self.delete(part["id"])
        self.assertFalse(folder().path(part["sha256"]).exists())

    def test_nothing_goes_into_a_closed_case(self) -> None:
        (part,) = self.put(("foot.stl", scan(box((6.0, 8.0, 12.0))))).json()["parts"]
        number = drop(self.mira, pair_of()[1]).json()["number"]
        Case.objects.filter(number=number).update(closed=timezone.now())
        self.assertEqual(post(self.mira, f"/api/house-parts/{part['id']}/to/{number}").json()["code"], "closed")
        Case.objects.filter(number=number).update(closed=None)
