"""Closing, finding, retention, deletion, a case carried elsewhere and back; the veil; scans that replace others."""

from __future__ import annotations

import io
import json
import zipfile
from datetime import date

import numpy as np
from django.conf import settings
from django.contrib.auth.models import User
from django.test import Client

from bitecore.files import read_mesh
from bitecore.ops.weld import weld
from cases import keeping
from cases.carried import MARK
from cases.models import AuditLine, Case
from runs.models import BlobUse, Owner
from tests.server.common import client, drop, pair, post, scan
from tests.server.test_cases import ServerCase
from tests.server.test_work import WorkCase
from tests.shapes import light_jaws as jaws
from tests.shapes import turn


class KeepingTest(ServerCase):
    def details(self, number: str, **values: str) -> None:
        base = self.read(number)["revision"]
        self.assertEqual(post(self.mira, f"/api/cases/{number}/details", {"base": base, "values": values}).status_code, 200)

    def rack(self, who: Client, **asked: str) -> list[str]:
        return [t["number"] for t in who.get("/api/cases", asked).json()]

    def test_closed_cases_leave_the_rack_and_are_found_by_any_field(self) -> None:
        number = self.opened()
        self.details(number, patient="Corwin Pellathorn", technician="Mira", teeth="14-16", notes="gold clasp")
        self.assertEqual(self.read(number)["details"]["teeth"], "16 15 14")
        self.assertEqual(post(self.mira, f"/api/cases/{number}/close?sure=true").json()["closed"], True)
        self.assertEqual(self.rack(self.mira), [])
        for words in ("", "corwin", "clasp gold", "15", number, "a.stl"):
            self.assertEqual(self.rack(self.mira, closed="true", find=words), [number], words)
        self.assertEqual(self.rack(self.mira, closed="true", find="nobody"), [])
        answer = post(self.mira, f"/api/cases/{number}/details", {"base": 2, "values": {"notes": "x"}})
        self.assertEqual((answer.status_code, answer.json()["code"]), (409, "closed"))
        self.assertEqual(post(self.mira, f"/api/cases/{number}/reopen").json()["closed"], False)
        self.assertEqual(self.rack(self.mira), [number])

    def test_kept_for_the_years_the_house_says(self) -> None:
        number = self.opened()
        post(self.mira, f"/api/cases/{number}/close?sure=true")
        until = Case.objects.get().keep_until
        self.assertEqual(until, date.today().replace(year=date.today().year + 7))  # common practice, no source
        post(self.mira, f"/api/cases/{number}/reopen")
        self.assertEqual(post(self.mira, "/api/house/general", {"values": {"retention_years": 10}}).status_code, 403)
        self.assertEqual(post(self.tove, "/api/house/general", {"values": {"retention_years": 10}}).status_code, 200)
        self.assertEqual(post(self.tove, "/api/house/general", {"values": {"retention_years": 99}}).status_code, 422)
        post(self.mira, f"/api/cases/{number}/close?sure=true")
        self.assertEqual(Case.objects.get().keep_until.year, date.today().year + 10)

    def test_deleting_before_time_asks_a_lead_and_leaves_a_line_without_names(self) -> None:
        number = self.opened()
        self.details(number, patient="Corwin Pellathorn")
        kept = drop(self.mira, pair()[0]).json()["number"]  # shares one scan
        token = {"X-CSRFToken": self.mira.cookies["csrftoken"].value}
        refused = self.mira.delete(f"/api/cases/{number}", headers=token)
        self.assertEqual((refused.status_code, refused.json()["code"]), (403, "lead-only"))
        done = self.tove.delete(f"/api/cases/{number}", headers={"X-CSRFToken": self.tove.cookies["csrftoken"].value})
        self.assertEqual(done.status_code, 200)
        self.assertEqual([c.number for c in Case.objects.all()], [kept])
        lines = AuditLine.objects.filter(case_number=number)
        self.assertEqual([(x.action, x.user.username) for x in lines], [("delete", "tove")])
        self.assertNotIn("Pellathorn", json.dumps([x.detail for x in lines]))
        # The scan that the other case has too is still there; the other one is gone.
        left = set(BlobUse.objects.values_list("sha256", flat=True))
        self.assertEqual(left, {p["sha256"] for p in self.read(kept)["pieces"]})
        on_disk = {p.name for p in settings.BLOB_ROOT.rglob("*") if p.is_file()} if hasattr(settings.BLOB_ROOT, "rglob") else left
        self.assertEqual(on_disk, left)

    def test_after_its_time_anybody_may(self) -> None:
        number = self.opened()
        post(self.mira, f"/api/cases/{number}/close?sure=true")
        Case.objects.update(keep_until=date(2020, 1, 1))
        token = {"X-CSRFToken": self.mira.cookies["csrftoken"].value}
        self.assertEqual(self.mira.delete(f"/api/cases/{number}", headers=token).status_code, 200)
        self.assertFalse(Case.objects.exists() or BlobUse.objects.exists() or Owner.objects.exists())

    def test_wrong_teeth_are_a_sentence(self) -> None:
        number = self.opened()
        answer = post(self.mira, f"/api/cases/{number}/details", {"base": 1, "values": {"teeth": "14-34"}})
        self.assertEqual(answer.status_code, 422)
        self.assertIn("not in one arch", answer.json()["message"])
        chart = self.mira.get("/api/cases/teeth").json()
        self.assertEqual((len(chart), chart[0]["fdi"], chart[0]["universal"]), (52, 18, "1"))


class CarriedTest(WorkCase):
    def test_a_case_comes_back_identical(self) -> None:
        case = self.work(self.opened(*pair()))
        mira = client("mira")
        number = case.number
        base = mira.get(f"/api/cases/{number}").json()["revision"]
        post(mira, f"/api/cases/{number}/details", {"base": base, "values": {"patient": "Ilse Marrowby"}})
        self.work(Case.objects.get(pk=case.pk))
        packed = mira.get(f"/api/cases/{number}/case.zip").getvalue()
        self.assertEqual(packed, mira.get(f"/api/cases/{number}/case.zip").getvalue())
        before = mira.get(f"/api/cases/{number}").json()
        with zipfile.ZipFile(io.BytesIO(packed)) as archive:
            self.assertIn(MARK, archive.namelist())
            self.assertTrue(any(n.startswith("scans/") for n in archive.namelist()))
        # Another installation: nothing of it is here.
        keeping.delete(User.objects.get(username="tove"), number)
        AuditLine.objects.all().delete()
        self.assertEqual(list(settings.BLOB_ROOT.glob("??/*")), [])
        answer = drop(mira, ("brought.zip", packed)).json()
        self.assertEqual((answer["number"], answer["refused"]), (number, []))
        self.work(Case.objects.get())
        after = mira.get(f"/api/cases/{number}").json()
        for key in ("details", "pieces"):
            self.assertEqual(after[key], {**before, "pieces": self.elsewhere(before, after)}[key], key)
        # What is worked out is worked out here, and comes to the same.
        self.assertEqual({n["id"]: n["good"] for n in after["nodes"]}, {n["id"]: n["good"] for n in before["nodes"]})
        # What was accepted elsewhere is looked at here once more; the history says who had done so.
        self.assertEqual((after["accepted"], after["revision"]), ({}, before["revision"] + 1))
        told = [line["what"] for line in mira.get(f"/api/cases/{number}/history").json()]
        self.assertIn("Brought in from another installation", told)
        self.assertTrue(any(t.startswith("Case opened with a.stl, b.stl (Mira Tallow") for t in told), told)
        # Where the number is taken it gets one of its own, and the old one is noted.
        again = drop(mira, ("again.zip", packed)).json()["number"]
        self.assertNotEqual(again, number)
        self.assertIn(f"Came as case {number}.", mira.get(f"/api/cases/{again}").json()["details"]["notes"])

    @staticmethod
    def elsewhere(before: dict, after: dict) -> list[dict]:
        """The same tiles, their pictures under the new owner."""
        owner = after["picture"].split("/")[0]
        return [{**p, "turning": f"{owner}/{p['turning'].split('/')[1]}"} for p in before["pieces"]]

    def test_a_changed_or_broken_case_is_refused_whole(self) -> None:
        case = self.opened(*pair())
        mira = client("mira")
        packed = mira.get(f"/api/cases/{case.number}/case.zip").getvalue()
        blobs = BlobUse.objects.count()
        for change in ("scan", "index", "format", "cut"):
            out = io.BytesIO()
            with zipfile.ZipFile(io.BytesIO(packed)) as old, zipfile.ZipFile(out, "w") as new:
                for name in old.namelist():
                    data = old.read(name)
                    if change == "scan" and name.startswith("scans/"):
                        data = data[:-1] + bytes([data[-1] ^ 1])
                    if change == "index" and name == MARK:
                        data = json.dumps({"format": 1, "number": 3}).encode()
                    if change == "format" and name == MARK:
                        data = json.dumps({**json.loads(data), "format": 99}).encode()
                    new.writestr(name, data)
            data = out.getvalue() if change != "cut" else packed[: len(packed) // 2]
            answer = drop(mira, ("x.zip", data)).json()
            self.assertEqual((answer["number"], len(answer["refused"]) > 0), (None, True), change)
        self.assertEqual((Case.objects.count(), BlobUse.objects.count()), (1, blobs))


class ReplaceTest(WorkCase):
    def test_a_later_scan_asks_and_takes_the_place_with_the_settings(self) -> None:
        case = self.work(self.opened(*pair()))
        mira, number = client("mira"), case.number
        lower = next(p["id"] for p in mira.get(f"/api/cases/{number}").json()["pieces"] if p["jaw"] == "lower")
        base = case.revision
        post(mira, f"/api/cases/{number}/settings", {"base": base, "step": "trim", "piece": lower, "values": {"bottom_mm": 14.0}})
        drop(mira, ("rescan.stl", scan(jaws(21)[1])), to=f"/api/cases/{number}/drop")
        case = self.work(Case.objects.get(pk=case.pk))
        shown = mira.get(f"/api/cases/{number}").json()
        new = next(p for p in shown["pieces"] if p["file"] == "rescan.stl")
        self.assertEqual((new["jaw"], new["instead_of"]), (None, lower))
        body = {"base": shown["revision"], "what": "instead", "of": lower}
        self.assertEqual(post(mira, f"/api/cases/{number}/pieces/{new['id']}", body).status_code, 200)
        case = self.work(Case.objects.get(pk=case.pk))
        shown = mira.get(f"/api/cases/{number}").json()
        self.assertEqual([p["file"] for p in shown["pieces"] if p["jaw"] == "lower"], ["rescan.stl"])
        trim = next(n for n in shown["nodes"] if n["step"] == "trim" and n["piece"] == new["id"])
        opened = mira.get(f"/api/cases/{number}?step=trim").json()["opened"]
        own = next(n["settings"]["bottom_mm"] for n in opened if n["id"] == trim["id"])
        self.assertEqual((own, trim["state"] in ("done", "look")), (14.0, True))
        # Undo brings the first one back, and needs no work.
        post(mira, f"/api/cases/{number}/undo")
        shown = mira.get(f"/api/cases/{number}").json()
        self.assertIn(lower, [p["id"] for p in shown["pieces"] if p["jaw"] == "lower"])

    def test_beside_and_aside(self) -> None:
        case = self.work(self.opened(*pair()))
        mira, number = client("mira"), case.number
        drop(mira, ("rescan.stl", scan(jaws(21)[1])), to=f"/api/cases/{number}/drop")
        self.work(Case.objects.get(pk=case.pk))
        shown = mira.get(f"/api/cases/{number}").json()
        new = next(p["id"] for p in shown["pieces"] if p["file"] == "rescan.stl")
        answer = post(mira, f"/api/cases/{number}/pieces/{new}", {"base": shown["revision"], "what": "beside"}).json()
        self.assertIsNone(next(p for p in answer["pieces"] if p["id"] == new)["instead_of"])
        answer = post(mira, f"/api/cases/{number}/pieces/{new}", {"base": answer["revision"], "what": "aside"}).json()
        self.assertNotIn(new, [p["id"] for p in answer["pieces"]])
        self.assertEqual(post(mira, f"/api/cases/{number}/pieces/{new}", {"base": 1, "what": "aside"}).status_code, 404)


class TwinTest(WorkCase):
    def test_the_same_surface_in_another_case_is_told_with_how_far_it_moved(self) -> None:
        first = self.work(self.opened(pair()[0]))
        upper = jaws(3)[0]
        moved = upper.moved(np.array([[1, 0, 0, 3.2], [0, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1.0]]))
        second = self.work(self.opened(("other name.stl", scan(moved)), pair()[1]))
        mira = client("mira")
        twins = {p["file"]: p["twin"] for p in mira.get(f"/api/cases/{second.number}").json()["pieces"]}
        self.assertEqual(twins["other name.stl"], f"The same surface as “a.stl” in case {first.number}, moved by 3.2 mm.")
        self.assertEqual(twins["b.stl"], "")
        drop(mira, ("turned.stl", scan(upper.moved(turn(4)))), to=f"/api/cases/{first.number}/drop")
        first = self.work(Case.objects.get(pk=first.pk))
        twins = {p["file"]: p["twin"] for p in mira.get(f"/api/cases/{first.number}").json()["pieces"]}
        self.assertIn("The same surface as “a.stl”, moved by", twins["turned.stl"])


class TakingTest(WorkCase):
    def test_a_scan_is_taken_out_where_it_stands(self) -> None:
        upper, lower = jaws(3)
        case = self.work(self.opened(("u.stl", scan(upper.moved(turn(4)))), ("l.stl", scan(lower.moved(turn(4))))))
        nodes = {n["id"]: n for n in self.mira.get(f"/api/cases/{case.number}").json()["nodes"]}
        m = np.array(nodes["level/*"]["good"]["home_to_bench"]["p2"])
        mesh = weld(read_mesh("l.stl", self.taken(case.number, "p2", "bench")).points).mesh
        home = weld(read_mesh("l.stl", scan(lower.moved(turn(4)))).points).mesh
        np.testing.assert_allclose(np.sort(mesh.vertices_mm, axis=0), np.sort(home.moved(m).vertices_mm, axis=0), atol=1e-4)
        same = weld(read_mesh("l.stl", self.taken(case.number, "p2", "home")).points).mesh
        np.testing.assert_allclose(np.sort(same.vertices_mm, axis=0), np.sort(home.vertices_mm, axis=0), atol=1e-4)
        self.assertEqual(self.mira.get(f"/api/cases/{case.number}/scans/p9.stl").status_code, 409)
        self.assertEqual(Client().get(f"/api/cases/{case.number}/scans/p2.stl").status_code, 401)

    def taken(self, number: str, piece: str, frame: str) -> bytes:
        answer = self.mira.get(f"/api/cases/{number}/scans/{piece}.stl", {"frame": frame})
        self.assertEqual(answer.status_code, 200)
        self.assertIn(f"{number}_", answer["Content-Disposition"])
        return answer.content

    def test_a_whole_case_is_called_as_the_house_says(self) -> None:
        case = self.opened()
        tove = client("tove")
        answer = post(tove, "/api/house/general", {"values": {"case_name": "{date}/{patient}-{number}"}})
        self.assertEqual(answer.status_code, 200)
        post(self.mira, f"/api/cases/{case.number}/details", {"base": case.revision, "values": {"patient": "Corwin Pellathorn"}})
        whole = self.mira.get(f"/api/cases/{case.number}/case.zip")["Content-Disposition"]
        self.assertRegex(whole, rf"\d{{4}}-\d\d-\d\d.Corwin Pellathorn.{case.number}\.zip")
        post(self.mira, "/api/cases/veil", {"down": True})
        self.assertNotIn("Pellathorn", self.mira.get(f"/api/cases/{case.number}/case.zip")["Content-Disposition"])
        for pattern in ("{nobody}", "{number", "a\x07b", ""):
            refused = post(tove, "/api/house/general", {"values": {"case_name": pattern}})
            self.assertEqual(refused.status_code, 422, pattern)
            self.assertIn("Name of an exported case: ", refused.json()["message"])
