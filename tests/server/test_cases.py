"""Cases over HTTP: what is accepted, refused, changed, taken back, and who may."""

from __future__ import annotations

from dataclasses import replace
from unittest.mock import patch

from django.conf import settings
from django.test import Client, TestCase, override_settings

from bitecore.files import stl
from bitecore.runsheet import CASE, Registry, standard
from cases.documents import document_of
from cases.models import AuditLine, Case
from house.models import HouseRevision
from house.services import newest
from runs.models import BlobUse
from tests.broken import BROKEN
from tests.core.test_files import zipped
from tests.server.common import clear_state, client, drop, pair, people, post, scan, yes
from tests.shapes import light_jaws as jaws
from tests.shapes import sphere


def limited(**values: int) -> override_settings:
    """The installation started with other limits."""
    return override_settings(BENCH_LIMITS={**settings.BENCH_LIMITS, **values})


class ServerCase(TestCase):
    @classmethod
    def setUpTestData(cls) -> None:
        people()

    def setUp(self) -> None:
        clear_state()
        self.mira, self.tove = client("mira"), client("tove")

    def opened(self) -> str:
        return drop(self.mira, *pair()).json()["number"]

    def read(self, number: str) -> dict:
        return self.mira.get(f"/api/cases/{number}").json()

    def settings(self, who: Client, number: str, base: int, step: str, values: dict, piece: str = "*"):  # noqa: ANN201
        return post(who, f"/api/cases/{number}/settings", {"base": base, "step": step, "piece": piece, "values": values})


class DoorTest(ServerCase):
    def test_nobody_signed_in_gets_nothing(self) -> None:
        number = self.opened()
        out = Client()
        for path in (
            "/api/cases", f"/api/cases/{number}", f"/api/cases/{number}/history", f"/api/cases/{number}/files.zip", "/api/house",
            "/api/cases/steps", f"/api/meshes/{'0' * 64}/full.glb", f"/api/pictures/1/{'0' * 40}.png", "/api/events",
        ):  # fmt: skip
            answer = out.get(path)
            self.assertEqual(answer.status_code, 401, path)
            self.assertEqual(answer.json()["code"], "sign-in", path)
        for path in ("drop", f"{number}/drop", f"{number}/settings", f"{number}/undo", f"{number}/hand-off", f"{number}/accept"):
            self.assertIn(out.post(f"/api/cases/{path}", {}, "application/json").status_code, (401, 403), path)

    def test_wrong_password_is_one_sentence(self) -> None:
        who = Client()
        answer = who.post("/api/sign-in", {"name": "mira", "password": "x"}, "application/json")
        self.assertEqual((answer.status_code, answer.json()["message"]), (403, "Name or password is not right."))

    def test_a_post_without_the_token_is_refused(self) -> None:
        number = self.opened()
        self.assertEqual(self.mira.post(f"/api/cases/{number}/undo", {}, "application/json").status_code, 403)

    def test_pages_carry_a_policy_and_no_foreign_source(self) -> None:
        answer = self.mira.get("/case/2611-01")
        self.assertIn("default-src 'self'", answer["Content-Security-Policy"])
        self.assertEqual(answer["X-Frame-Options"], "DENY")


class DropTest(ServerCase):
    def test_a_drop_sent_again_after_a_lost_answer_is_taken_once(self) -> None:
        first = drop(self.mira, *pair(), name="a1").json()["number"]
        self.assertEqual(drop(self.mira, *pair(), name="a1").json()["number"], first)
        self.assertEqual(Case.objects.count(), 1)
        self.assertNotEqual(drop(self.mira, *pair(), name="a2").json()["number"], first)
        self.assertNotEqual(drop(self.tove, *pair(), name="a1").json()["number"], first)
        more = ("c.stl", scan(jaws(21)[1]))
        to = f"/api/cases/{first}/drop"
        for _ in range(2):
            self.assertEqual(drop(self.mira, more, to=to, name="a3").status_code, 200)
        self.assertEqual(len(self.read(first)["pieces"]), 3)

    def test_a_drop_opens_a_case_with_its_own_number(self) -> None:
        answer = drop(self.mira, *pair()).json()
        self.assertRegex(answer["number"], r"^\d{4}-\d{2,}$")
        self.assertEqual((answer["accepted"], answer["refused"]), (["a.stl", "b.stl"], []))
        case = Case.objects.get(number=answer["number"])
        self.assertTrue(case.needs_work)
        self.assertEqual(AuditLine.objects.filter(case_number=case.number, action="open").count(), 1)
        self.assertNotEqual(drop(self.mira, pair()[0]).json()["number"], answer["number"])

    def test_what_cannot_be_used_is_refused_with_a_sentence_and_nothing_of_it_is_stored(self) -> None:
        good = scan(jaws(21)[1])
        files = [
            ("empty.stl", b""), ("cut.stl", good[:7000]), ("letter.stl", b"Dear all\n" * 99), ("photo.ply", b"\x89PNG" * 99),
            ("bad.zip", zipped(("u.stl", good))[:3000]), ("out.zip", zipped(("../../u.stl", good))),
        ]  # fmt: skip
        answer = drop(self.mira, *files).json()
        self.assertEqual((answer["number"], answer["accepted"], Case.objects.count(), BlobUse.objects.count()), (None, [], 0, 0))
        self.assertEqual([r["file"] for r in answer["refused"]], [name for name, _ in files])
        for refusal in answer["refused"]:
            self.assertIn(refusal["file"], refusal["message"])

    def test_good_ones_among_bad_ones_go_in(self) -> None:
        answer = drop(self.mira, ("x.stl", b"?"), pair()[0]).json()
        self.assertEqual((answer["accepted"], len(answer["refused"])), (["a.stl"], 1))
        self.assertEqual([p["file"] for p in self.read(answer["number"])["pieces"]], ["a.stl"])

    def test_more_triangles_than_the_limit(self) -> None:
        with limited(triangles=1000):
            answer = drop(self.mira, pair()[0]).json()
        self.assertEqual(answer["refused"][0]["code"], "too-many-triangles")
        self.assertIn("1,000", answer["refused"][0]["message"])

    def test_the_house_raises_and_lowers_the_limits(self) -> None:
        def keep(**values: int | None) -> None:
            self.assertEqual(post(self.tove, "/api/house/general", {"values": values}).status_code, 200)

        keep(triangles=1000)
        self.assertIn("1,000", drop(self.mira, pair()[0]).json()["refused"][0]["message"])
        with limited(triangles=1000):
            keep(triangles=200_000, read_mb=400, read_s=5)
            self.assertEqual(drop(self.mira, pair()[0]).json()["accepted"], ["a.stl"])
            keep(triangles=None)
            self.assertEqual(drop(self.mira, pair()[0]).json()["accepted"], [])
        keep(drop_mb=1)
        self.assertIn("A drop takes up to 1 MB", drop(self.mira, *pair()).json()["refused"][0]["message"])
        for values in ({"triangles": 0}, {"read_s": "soon"}, {"read_mb": 10**9}, {"colour": 1}):
            answer = post(self.tove, "/api/house/general", {"values": values})
            self.assertEqual(answer.status_code, 422)
            self.assertRegex(answer.json()["message"], r"\.$")

    def test_larger_than_a_drop_may_be(self) -> None:
        with limited(drop_bytes=100_000):
            answer = drop(self.mira, *pair()).json()
        self.assertEqual({r["code"] for r in answer["refused"]}, {"too-large"})

    def test_the_same_file_twice_is_taken_once(self) -> None:
        data = pair()[0][1]
        answer = drop(self.mira, ("a.stl", data), ("copy of a.stl", data)).json()
        self.assertEqual((answer["accepted"], answer["refused"][0]["code"]), (["a.stl"], "same-file"))
        again = drop(self.mira, ("a.stl", data), to=f"/api/cases/{answer['number']}/drop")
        self.assertEqual((again.status_code, again.json()["code"]), (409, "same-file"))
        self.assertEqual(BlobUse.objects.count(), 1)

    def test_zip_with_folders(self) -> None:
        upper, lower = jaws(3)
        data = zipped(("x/u.stl", scan(upper)), ("x/l.stl", stl.write_ascii(lower)), ("x/readme.txt", b"hello"))
        answer = drop(self.mira, ("all.zip", data)).json()
        self.assertEqual(answer["accepted"], ["x/u.stl", "x/l.stl"])

    def test_later_scans_join_and_can_be_taken_back(self) -> None:
        one, two = pair()
        number = drop(self.mira, one).json()["number"]
        drop(self.mira, two, to=f"/api/cases/{number}/drop")
        self.assertEqual(len(self.read(number)["pieces"]), 2)
        post(self.mira, f"/api/cases/{number}/undo")
        self.assertEqual(len(self.read(number)["pieces"]), 1)
        post(self.mira, f"/api/cases/{number}/redo")
        self.assertEqual(len(self.read(number)["pieces"]), 2)


class ChangeTest(ServerCase):
    def test_set_undo_redo(self) -> None:
        number = self.opened()
        first = self.settings(self.mira, number, 1, "base", {"thickness_mm": 3.5}).json()
        self.assertEqual((first["revision"], first["undo"], first["redo"]), (2, "Base: Under the lowest point", None))
        self.settings(self.mira, number, 2, "trim", {"ease_mm": 1.5})
        back = post(self.mira, f"/api/cases/{number}/undo").json()
        self.assertEqual(back["redo"], "Trim: Ease the border")
        document = Case.objects.get(number=number).document
        self.assertEqual(document["settings"], {"base": {"*": {"thickness_mm": 3.5}}, "trim": {"*": {}}})
        again = post(self.mira, f"/api/cases/{number}/redo").json()
        self.assertEqual((again["undo"], again["redo"]), ("Trim: Ease the border", None))
        for _ in range(2):
            post(self.mira, f"/api/cases/{number}/undo")
        self.assertEqual(post(self.mira, f"/api/cases/{number}/undo").json()["code"], "nothing-to-undo")

    def test_a_change_after_an_undo_ends_the_redo(self) -> None:
        number = self.opened()
        self.settings(self.mira, number, 1, "base", {"thickness_mm": 3.5})
        post(self.mira, f"/api/cases/{number}/undo")
        self.settings(self.mira, number, 3, "base", {"thickness_mm": 4.5})
        self.assertEqual(post(self.mira, f"/api/cases/{number}/redo").json()["code"], "nothing-to-redo")

    def test_what_does_not_fit_is_refused_and_not_kept(self) -> None:
        number = self.opened()
        for step, values, words in (
            ("base", {"thickness_mm": 0.1}, "greater than or equal to 1"),
            ("base", {"thickness_mm": "thick"}, "valid number"),
            ("base", {"colour": 1}, "no setting"),
            ("polish", {"x": 1}, "There is no step"),
        ):
            answer = self.settings(self.mira, number, 1, step, values)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(words, answer.json()["message"])
        self.assertEqual(self.read(number)["revision"], 1)

    def test_a_value_for_both_replaces_the_one_for_one(self) -> None:
        number = self.opened()
        self.settings(self.mira, number, 1, "trim", {"ease_mm": 2.0}, piece="p1")
        data = self.settings(self.mira, number, 2, "trim", {"ease_mm": 0.5}).json()
        own = Case.objects.get(number=number).document["settings"]["trim"]
        self.assertEqual((data["revision"], own), (3, {"p1": {}, "*": {"ease_mm": 0.5}}))

    def test_clearing_goes_back_to_the_house(self) -> None:
        post(self.tove, "/api/house", {"step": "base", "values": {"thickness_mm": 6.0}})
        number = self.opened()
        self.settings(self.mira, number, 1, "base", {"thickness_mm": 3.0})
        self.settings(self.mira, number, 2, "base", {"thickness_mm": {"absent": True}})
        node = next(s for s in self.mira.get("/api/cases/steps").json() if s["name"] == "base")
        self.assertEqual(next(s["default"] for s in node["settings"] if s["key"] == "thickness_mm"), 2.0)
        document = Case.objects.get(number=number).document
        self.assertEqual((document["layers"]["house"]["steps"]["base"], document["settings"]["base"]["*"]), ({"thickness_mm": 6.0}, {}))

    def test_details_at_any_time(self) -> None:
        number = self.opened()
        data = post(self.mira, f"/api/cases/{number}/details", {"base": 1, "values": {"patient": " Corwin P ", "notes": "x" * 5000}}).json()
        self.assertEqual((data["details"]["patient"], len(data["details"]["notes"])), ("Corwin P", 2000))
        bad = post(self.mira, f"/api/cases/{number}/details", {"base": 2, "values": {"shoe": "44"}})
        self.assertEqual(bad.status_code, 422)
        found = self.mira.get("/api/cases?find=corwin").json()
        self.assertEqual([t["number"] for t in found], [number])
        self.assertEqual(self.mira.get("/api/cases?find=nobody").json(), [])

    def test_history_says_who_and_when(self) -> None:
        number = self.opened()
        self.settings(self.tove, number, 1, "base", {"thickness_mm": 3.0})
        lines = self.mira.get(f"/api/cases/{number}/history").json()
        self.assertEqual([(h["who"], h["what"]) for h in lines][:1], [("Tove Ashgrove", "Base: Under the lowest point")])
        self.assertTrue(lines[-1]["what"].startswith("Case opened with a.stl, b.stl"))
        self.assertEqual(AuditLine.objects.filter(case_number=number).count(), 2)

    def test_no_such_case(self) -> None:
        for answer in (self.mira.get("/api/cases/9999-99"), post(self.mira, "/api/cases/9999-99/undo")):
            self.assertEqual((answer.status_code, answer.json()["code"]), (404, "no-case"))


class TwoPeopleTest(ServerCase):
    def test_the_second_is_told_and_nothing_is_overwritten(self) -> None:
        number = self.opened()
        self.settings(self.mira, number, 1, "base", {"thickness_mm": 3.0})
        answer = self.settings(self.tove, number, 1, "base", {"thickness_mm": 5.0})
        self.assertEqual((answer.status_code, answer.json()["code"]), (409, "changed-meanwhile"))
        self.assertIn("Mira Tallow", answer.json()["message"])
        document = Case.objects.get(number=number).document
        self.assertEqual(document["settings"]["base"]["*"]["thickness_mm"], 3.0)

    def test_changes_of_different_places_both_stand(self) -> None:
        number = self.opened()
        self.settings(self.mira, number, 1, "base", {"thickness_mm": 3.0})
        answer = self.settings(self.tove, number, 1, "trim", {"ease_mm": 1.0})
        self.assertEqual(answer.status_code, 200)
        self.assertEqual(answer.json()["revision"], 3)

    def test_undo_takes_back_only_my_own(self) -> None:
        number = self.opened()
        self.settings(self.tove, number, 1, "trim", {"ease_mm": 1.0})
        self.settings(self.mira, number, 2, "base", {"thickness_mm": 3.0})
        back = post(self.tove, f"/api/cases/{number}/undo").json()
        settings = Case.objects.get(number=number).document["settings"]
        self.assertEqual((settings["base"]["*"], settings["trim"]["*"]), ({"thickness_mm": 3.0}, {}))
        self.assertIsNone(back["undo"])

    def test_undo_is_refused_where_someone_changed_the_same_place_since(self) -> None:
        number = self.opened()
        self.settings(self.mira, number, 1, "base", {"thickness_mm": 3.0})
        self.settings(self.tove, number, 2, "base", {"thickness_mm": 4.0})
        answer = post(self.mira, f"/api/cases/{number}/undo")
        self.assertEqual((answer.status_code, answer.json()["code"]), (409, "changed-meanwhile"))

    def test_who_else_is_here(self) -> None:
        number = self.opened()
        self.assertEqual(post(self.mira, f"/api/cases/{number}/here").json(), {"others": []})
        self.assertEqual(post(self.tove, f"/api/cases/{number}/here").json(), {"others": ["Mira Tallow"]})


class RackTest(ServerCase):
    def test_the_rack_reads_what_is_kept_and_works_nothing_out(self) -> None:
        numbers = {self.opened() for _ in range(12)}
        with (
            patch("runs.services.resolve", side_effect=AssertionError("the rack resolves")),
            patch("cases.trays.place", return_value="3 before it, about 40 s"),
        ):
            with self.assertNumQueries(4):
                trays = self.mira.get("/api/cases").json()
            # As long as nothing has changed the trays are not read again, whoever asks.
            with self.assertNumQueries(3):
                self.assertEqual(self.tove.get("/api/cases").json(), trays)
        self.assertEqual({t["number"] for t in trays}, numbers)
        self.assertEqual({t["waits"] for t in trays}, {"Waits for its turn: 3 before it, about 40 s"})

    def test_a_tray_follows_every_change(self) -> None:
        number = self.opened()

        def tray() -> dict:
            return self.mira.get("/api/cases").json()[0]

        post(self.mira, f"/api/cases/{number}/details", {"base": 1, "values": {"patient": "Bo Ek", "due": "2026-12-01"}})
        self.assertEqual((tray()["patient"], tray()["due"]), ("Bo Ek", "2026-12-01"))
        post(self.mira, f"/api/cases/{number}/undo")
        self.assertEqual(tray()["patient"], "")
        self.assertIn("Waits for its turn", tray()["waits"])
        self.assertEqual(self.mira.get(f"/api/cases/{number}").json()["queue"], "next in turn")
        post(self.mira, f"/api/cases/{number}/hold", {"held": True})
        self.assertEqual(tray()["waits"], "Stopped by hand: go on when you like")

    def test_a_case_without_a_summary_or_with_an_older_one_gets_it(self) -> None:
        number = self.opened()
        for summary in ({}, {"steps": "of a version before", "revision": 1}):
            Case.objects.update(summary=summary)
            self.assertEqual(self.mira.get("/api/cases").json()[0]["number"], number)
            self.assertEqual(Case.objects.get().summary["revision"], 1)


class HandOffTest(ServerCase):
    def test_waits_for_every_yes(self) -> None:
        number = self.opened()
        answer = post(self.mira, f"/api/cases/{number}/hand-off")
        self.assertEqual((answer.status_code, answer.json()["code"]), (409, "not-accepted"))
        asked = [step for step in standard().shown if not step.on_demand]
        self.assertEqual(answer.json()["missing"], [step.title for step in asked])
        # Nobody can have seen what is not there yet.
        early = yes(self.mira, number, 1, [step.name for step in asked])
        self.assertEqual((early.status_code, early.json()["code"]), (409, "not-there"))
        self.assertIn("Plate: still being worked out", early.json()["message"])
        self.assertEqual(self.mira.get(f"/api/cases/{number}").json()["accepted"], {})

    def test_no_files_before_they_are_made(self) -> None:
        number = self.opened()
        self.assertEqual(self.mira.get(f"/api/cases/{number}/files.zip").json()["code"], "no-files")


class HouseTest(ServerCase):
    def test_only_a_lead_changes_the_house(self) -> None:
        answer = post(self.mira, "/api/house", {"step": "trim", "values": {"ease_mm": 1.0}})
        self.assertEqual((answer.status_code, answer.json()["code"]), (403, "lead-only"))
        self.assertEqual(post(self.tove, "/api/house", {"step": "trim", "values": {"ease_mm": 99}}).status_code, 422)
        self.assertEqual(post(self.tove, "/api/house", {"step": "trim", "values": {"ease_mm": 1.0}}).json()["number"], 1)

    def test_cases_keep_what_they_began_with(self) -> None:
        before = self.opened()
        post(self.tove, "/api/house", {"step": "base", "values": {"thickness_mm": 4.0}})
        after = drop(self.mira, ("s.stl", scan(sphere(4, 12)))).json()["number"]
        houses = {n: Case.objects.get(number=n).document["layers"]["house"]["steps"] for n in (before, after)}
        self.assertEqual(houses, {before: {}, after: {"base": {"thickness_mm": 4.0}}})


class UpgradeTest(ServerCase):
    """A step whose settings were renamed: what was saved under the old name counts under the new one."""

    def renamed(self) -> Registry:
        base = standard()["base"]
        newer = replace(base, version=base.version + 1, upgrades={base.version: lambda old: {"thickness_mm": old.get("deep_mm", 2.0)}})
        return Registry([newer if s.name == "base" else s for s in standard().steps])

    def test_saved_settings_of_a_case_and_of_the_house(self) -> None:
        number = self.opened()
        self.settings(self.mira, number, 1, "base", {"thickness_mm": 3.0})
        row = Case.objects.get(number=number)
        self.assertEqual(row.document["versions"], {"base": standard()["base"].version})
        # As if the step had called it otherwise in its first version.
        row.document["settings"]["base"] = {"*": {"deep_mm": 7.0}}
        row.save()
        house = HouseRevision.objects.create(number=1, steps={"base": {"deep_mm": 5.0}}, versions={"base": standard()["base"].version})
        registry = self.renamed()
        with patch.object(CASE, "registry", registry), patch("house.services.standard", lambda: registry):
            document = document_of(Case.objects.get(number=number))
            self.assertEqual(document.settings_for(registry["base"]).thickness_mm, 7.0)
            self.assertEqual(newest().steps, {"base": {"thickness_mm": 5.0}})
            answer = self.settings(self.mira, number, 2, "base", {"thickness_mm": 8.0}, piece="p1")
            self.assertEqual(answer.status_code, 200, answer.content)
        document = Case.objects.get(number=number).document
        self.assertEqual(document["settings"]["base"], {"*": {"thickness_mm": 7.0}, "p1": {"thickness_mm": 8.0}})
        self.assertEqual(document["versions"], {"base": standard()["base"].version + 1})
        self.assertEqual(house.number, 1)

    def test_a_piece_taken_back_leaves_its_number(self) -> None:
        one, two = pair()
        number = drop(self.mira, one).json()["number"]
        drop(self.mira, two, to=f"/api/cases/{number}/drop")
        self.settings(self.mira, number, 2, "intake", {"jaw": "upper"}, piece="p2")
        post(self.mira, f"/api/cases/{number}/undo")
        post(self.mira, f"/api/cases/{number}/undo")
        drop(self.mira, ("other.stl", scan(sphere(4, 12))), to=f"/api/cases/{number}/drop")
        self.assertEqual([p["id"] for p in self.read(number)["pieces"]], ["p1", "p3"])


class BrokenTest(ServerCase):
    def test_a_drop_of_every_broken_file_stores_nothing_and_says_a_sentence_each(self) -> None:
        answer = drop(self.mira, *BROKEN.items()).json()
        self.assertEqual((answer["number"], answer["accepted"], Case.objects.count(), BlobUse.objects.count()), (None, [], 0, 0))
        refused = {r["file"] for r in answer["refused"] if r["code"] != "ignored"}
        self.assertEqual(len(refused), len(BROKEN))
