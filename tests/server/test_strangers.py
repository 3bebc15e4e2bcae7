"""Case ZIPs that somebody forged, odd texts, wrong addresses: a sentence each, and nobody else notices."""

from __future__ import annotations

import copy
import io
import json
import zipfile
from typing import Any
from unittest.mock import patch

from django.test import Client, tag

from cases.carried import MARK
from cases.models import AuditLine, Case
from runs.models import Revision
from tests.core.test_files import zipped
from tests.server.common import clear_state, drop, pair, post
from tests.server.test_cases import ServerCase


class ForgedTest(ServerCase):
    def setUp(self) -> None:
        super().setUp()
        number = self.opened()
        self.packed = self.mira.get(f"/api/cases/{number}/case.zip").getvalue()
        with zipfile.ZipFile(io.BytesIO(self.packed)) as archive:
            self.index = json.loads(archive.read(MARK))
            self.scans = {n: archive.read(n) for n in archive.namelist() if n != MARK}
        self.first = number

    def forged(self, change: Any, **members: bytes) -> Any:
        index = copy.deepcopy(self.index)
        change(index)
        data = zipped((MARK, json.dumps(index).encode()), *self.scans.items(), *members.items())
        return drop(self.mira, ("forged.zip", data))

    def test_results_of_a_stranger_never_count(self) -> None:
        """A reference to a file of the server, a flag without a message, a figure that is a number."""
        bad = {
            "step": "intake", "piece": "p1", "readings": [], "flags": [{"severity": "stop"}], "figure": 7, "seconds": 0,
            "values": {"file 0": {"file": "/etc/passwd", "name": "../../x", "bytes": 9}, "mesh": {"mesh": "../../etc/passwd"}},
        }  # fmt: skip

        def change(index: dict) -> None:
            index |= {
                "format": 1,
                "results": {"0" * 64: bad},
                "last_good": {"hand-off/*": "0" * 64},
                "demanded": ["hand-off"],
                "number": "9",
            }

        number = self.forged(change).json()["number"]
        case = Case.objects.get(number=number)
        self.assertEqual((case.last_good, case.demanded), ({}, []))
        self.assertEqual(self.mira.get(f"/api/cases/{number}/files.zip").json()["code"], "no-files")
        self.assertEqual(len(self.mira.get("/api/cases").json()), 2)

    def test_numbers_that_are_none_get_a_new_one(self) -> None:
        for odd in ("2611-x", "2611-99999999999", "", "a/b", "teeth", "../../../etc", "veil", "2613-01", self.first, "steps", "x" * 150):
            with self.subTest(odd):
                number = self.forged(lambda index, odd=odd: index.update(number=odd)).json()["number"]
                self.assertRegex(number, r"^\d{4}-\d{2,3}$")
                self.assertNotEqual(number, odd)
                self.assertEqual(self.mira.get(f"/api/cases/{number}").status_code, 200)
                self.assertEqual(drop(self.mira, pair()[0]).status_code, 200)
        self.assertEqual(self.forged(lambda index: index.update(number="2604-12")).json()["number"], "2604-12")

    def test_what_does_not_fit_is_refused_whole(self) -> None:
        def last(index: dict) -> dict:
            return index["revisions"][-1]["document"]

        changes: dict[str, Any] = {
            "path for a digest": lambda i: last(i)["pieces"][0].update(sha256="/etc/passwd"),
            "piece with a path": lambda i: last(i)["pieces"][0].update(id="../x"),
            "setting of no piece": lambda i: last(i)["settings"].update(base={"p77": {"thickness_mm": 3}}),
            "setting out of bounds": lambda i: last(i)["settings"].update(base={"*": {"thickness_mm": -3}}),
            "pattern that cannot work": lambda i: last(i)["settings"].update({"hand-off": {"*": {"pattern": "{nobody}"}}}),
            "number for a text": lambda i: last(i).update(patient=7),
            "NUL": lambda i: last(i).update(patient="a\0b"),
            "half of a pair": lambda i: last(i).update(patient="a\ud800b"),
            "wrong tooth": lambda i: last(i).update(teeth="99"),
            "date": lambda i: last(i).update(opened="yesterday"),
            "no revision": lambda i: i.update(revisions=[]),
            "same revision twice": lambda i: i.update(revisions=i["revisions"] * 2),
            "takes back the future": lambda i: i["revisions"][0].update(kind="undo", takes_back=9),
            "unknown kind": lambda i: i["revisions"][0].update(kind="evil"),
            "endless number": lambda i: i["revisions"][0].update(number=10**40),
            "not a list": lambda i: i.update(revisions={"a": 1}),
            "long name": lambda i: last(i)["pieces"][0].update(file="x" * 9999),
            "old and new twice": lambda i: last(i)["pieces"].append(last(i)["pieces"][0]),
            "number that is a number": lambda i: i.update(number=7),
        }
        before = (Case.objects.count(), Revision.objects.count(), AuditLine.objects.count())
        for what, change in changes.items():
            with self.subTest(what):
                answer = self.forged(change).json()
                self.assertEqual((answer["number"], [r["code"] for r in answer["refused"]]), (None, ["bad-case"]))
        self.assertEqual((Case.objects.count(), Revision.objects.count(), AuditLine.objects.count()), before)

    def test_a_bomb_in_place_of_the_index(self) -> None:
        deep = b'{"format": 2, "number": "x", "revisions": ' + b"[" * 200_000 + b"]" * 200_000 + b"}"
        for data in (deep, b"[" + b"1," * 3_000_000 + b"1]", b'{"format": 2, "number": NaN}', b"\xff\xfe", b"9" * 100_000):
            answer = drop(self.mira, ("bomb.zip", zipped((MARK, data))))
            self.assertEqual(answer.json()["refused"][0]["code"], "bad-case")
        damaged = bytearray(zipped((MARK, json.dumps(self.index).encode() * 50)))
        damaged[60:200] = bytes(140)
        self.assertTrue(drop(self.mira, ("x.zip", bytes(damaged))).json()["refused"])

    def test_one_case_that_cannot_be_shown_leaves_the_rack_standing(self) -> None:
        second = self.opened()
        Case.objects.filter(number=second).update(document={"number": second, "pieces": 7}, summary={})
        trays = {t["number"]: t["waits"] for t in self.mira.get("/api/cases").json()}
        self.assertIn("cannot be shown", trays[second])
        self.assertNotIn("cannot be shown", trays[self.first])
        self.assertEqual(drop(self.mira, *pair()).status_code, 200)
        token = {"X-CSRFToken": self.tove.cookies["csrftoken"].value}
        self.assertEqual(self.tove.delete(f"/api/cases/{second}", headers=token).status_code, 200)


class OddTest(ServerCase):
    def said(self, answer: Any, status: int) -> dict:
        self.assertEqual(answer.status_code, status, answer.content[:200])
        body = answer.json()
        self.assertRegex(body["message"], r"[.!]$")
        return body

    def test_texts_that_cannot_be_kept(self) -> None:
        number = self.opened()
        for text in ("a\0b", "a\ud800b"):
            answer = post(self.mira, f"/api/cases/{number}/details", {"base": 1, "values": {"patient": text}})
            self.assertEqual(self.said(answer, 422)["code"], "odd-text")
            self.said(post(self.mira, f"/api/cases/{number}/settings", {"base": 1, "step": text, "values": {}}), 422)
            self.said(post(self.mira, "/api/sign-in", {"name": text, "password": text}), 422)
        # What only looks like it can be kept.
        good = post(self.mira, f"/api/cases/{number}/details", {"base": 1, "values": {"patient": "🦷 \\u0000"}}).json()
        self.assertEqual(good["details"]["patient"], "🦷 \\u0000")

    def test_addresses(self) -> None:
        for address in ("/api/cases/a%00b", "/api/cases?find=a%00b", "/api/meshes/%00/full.glb", "/%00", "/api/cases/%ff%fe"):
            self.assertIn(self.mira.get(address).status_code, (400, 404), address)
            self.mira.get(address).json()
        for address in ("/api/nope", "/api", "/api/", "/api/cases/2611-01/nope/nope", "/api/pictures/x/y.png"):
            self.said(self.mira.get(address), 404)
        for way, address in (("put", "/api/cases"), ("delete", "/api/house"), ("get", "/api/cases/drop/"), ("patch", "/api/me")):
            answer = getattr(self.mira, way)(address, headers={"X-CSRFToken": self.mira.cookies["csrftoken"].value})
            self.said(answer, answer.status_code)
            self.assertIn(answer.status_code, (404, 405))

    def test_bodies(self) -> None:
        number = self.opened()
        token = {"X-CSRFToken": self.mira.cookies["csrftoken"].value}
        for body in (b"", b"{", b"[" * 100_000, b"\xff", b"null", b"7", b'{"base": 1e999}', b'{"base": ' + b"9" * 5000 + b"}"):
            for address in ("settings", "details", "accept", "hold"):
                answer = self.mira.post(f"/api/cases/{number}/{address}", body, "application/json", headers=token)
                self.assertIn(self.said(answer, answer.status_code)["code"], ("invalid", "bad-request"))
                self.assertLess(answer.status_code, 500)
        for kind in ("multipart/form-data", "multipart/form-data; boundary=", "text/plain", "multipart/form-data; boundary=x"):
            answer = self.mira.post("/api/cases/drop", b"--x\r\ngarbage", kind, headers=token)
            self.said(answer, answer.status_code)
            self.assertLess(answer.status_code, 500)

    def test_a_body_larger_than_words_can_be(self) -> None:
        number = self.opened()
        answer = post(self.mira, f"/api/cases/{number}/details", {"base": 1, "values": {"notes": "x" * 9_000_000}})
        self.assertEqual(self.said(answer, 413)["code"], "too-large")

    @tag("long")
    def test_far_too_many_files(self) -> None:
        files = [(f"{i}.stl", b"?") for i in range(150)]
        self.assertEqual(len(drop(self.mira, *files).json()["refused"]), 150)
        self.said(drop(self.mira, *[(f"{i}.stl", b"") for i in range(1100)]), 413)

    def test_a_file_that_goes_while_it_is_asked_for(self) -> None:
        number = self.opened()
        clear_state()
        answer = self.mira.get(f"/api/cases/{number}/case.zip")
        self.assertEqual(self.said(answer, 409)["code"], "file-gone")

    def test_a_case_that_goes_while_it_is_asked_for(self) -> None:
        number = self.opened()
        case = Case.objects.get(number=number)

        def gone(user: Any, asked: str) -> Case:
            Case.objects.filter(number=asked).delete()
            return case

        with patch("cases.services.visible", gone):
            self.assertEqual(self.said(self.mira.get(f"/api/cases/{number}"), 404)["code"], "no-case")

    def test_odd_file_names(self) -> None:
        for name in ("a\nb.stl", "../../x.stl", "\u202eknow.stl", "a" * 400 + ".stl", "⟦p1⟧.stl", "{patient}.stl", "<b>.stl"):
            answer = drop(self.mira, (name, pair()[0][1])).json()
            shown = self.read(answer["number"])["pieces"][0]["file"]
            self.assertLessEqual(len(shown), 300)
            self.assertNotRegex(shown, "[\n\u202e/]")
            self.assertEqual(self.mira.get(f"/api/cases/{answer['number']}/case.zip").status_code, 200)

    def test_a_setting_of_a_scan_that_is_not_there(self) -> None:
        number = self.opened()
        answer = self.settings(self.mira, number, 1, "trim", {"ease_mm": 1.0}, piece="p99")
        self.assertEqual(self.said(answer, 404)["code"], "no-piece")
        self.assertEqual(drop(self.mira, ("c.stl", pair()[0][1][:-50] + bytes(50)), to=f"/api/cases/{number}/drop").status_code, 200)

    def test_a_base_that_never_was(self) -> None:
        number = self.opened()
        self.settings(self.tove, number, 1, "base", {"thickness_mm": 5.0})
        for base in (99, 0, -1, 2**62):
            answer = self.settings(self.mira, number, base, "base", {"thickness_mm": 3.0})
            self.assertEqual(self.said(answer, 409)["code"], "no-revision")
        document = Case.objects.get(number=number).document  # type: ignore[union-attr]
        self.assertEqual(document["settings"]["base"]["*"]["thickness_mm"], 5.0)

    def test_a_name_pattern_that_cannot_work_is_refused_when_it_is_set(self) -> None:
        number = self.opened()
        for pattern in ("{nobody}", "{number", "a}b"):
            answer = self.settings(self.mira, number, 1, "hand-off", {"pattern": pattern})
            self.assertIn("Hand-off, File names:", self.said(answer, 422)["message"])
            self.said(post(self.tove, "/api/house", {"step": "hand-off", "values": {"pattern": pattern}}), 422)

    def test_a_pattern_kept_from_before_fails_its_own_step_alone(self) -> None:
        number = self.opened()
        row = Case.objects.get(number=number)
        row.document["settings"] = {"hand-off": {"*": {"pattern": "{nobody}"}}}
        row.save()
        nodes = {n["id"]: n for n in self.read(number)["nodes"]}
        self.assertEqual(nodes["intake/p1"]["state"], "todo")
        self.assertEqual(self.settings(self.mira, number, 1, "base", {"thickness_mm": 3.0}).status_code, 200)
        self.assertEqual(self.settings(self.mira, number, 2, "hand-off", {"pattern": "{number}"}).status_code, 200)

    @tag("long")
    def test_undo_reaches_the_very_first_change(self) -> None:
        number = self.opened()
        for i in range(230):
            self.settings(self.mira, number, i + 1, "base", {"thickness_mm": 2.0 + i / 100 + 0.01})
        for _ in range(230):
            self.assertEqual(post(self.mira, f"/api/cases/{number}/undo").status_code, 200)
        document = Case.objects.get(number=number).document  # type: ignore[union-attr]
        self.assertEqual(document["settings"]["base"]["*"], {})
        self.assertEqual(post(self.mira, f"/api/cases/{number}/undo").json()["code"], "nothing-to-undo")


class DoorTest(ServerCase):
    def test_headers_of_every_page(self) -> None:
        answer = Client().get("/")
        for part in ("frame-ancestors 'none'", "base-uri 'none'", "form-action 'self'", "object-src 'none'"):
            self.assertIn(part, answer["Content-Security-Policy"])
