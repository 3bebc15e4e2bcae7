"""History as changes, strokes as entries, acceptance that remembers, views when they are asked for."""

from __future__ import annotations

import threading
import time
from typing import Any

import numpy as np
from django.conf import settings
from django.test import AsyncClient, tag

from bitecore.engine.document import hashed
from bitecore.engine.gives import pack, unpacked_points
from bitecore.runsheet import MemoryStore
from bitecore.views import view_path
from cases.models import AuditLine, Case
from runs.changes import WHOLE_EVERY, back_from_now
from runs.models import BlobUse, Result, Revision
from runs.owning import folder
from runs.work import make_full_view
from tests.server.common import drop, post, scan, yes
from tests.server.test_cases import ServerCase
from tests.server.test_work import STEPS, WorkCase
from tests.shapes import light_jaws as jaws
from tests.shapes import turn


def stroke(k: int, points: int = 60) -> dict[str, Any]:
    return {"points_mm": [[k + i / 100, i / 50, 1.0] for i in range(points)], "radius_mm": 1.5, "adds": True}


class KeptTest(ServerCase):
    def test_a_value_gives_the_same_key_before_and_after_the_database(self) -> None:
        """PostgreSQL's jsonb knows no -0 (its documentation: numbers are kept as numeric), and every name is text."""
        value = {"way": (-0.0, 1e-7, 0.1 + 0.2), 16: [{"at": [-0.0, 3]}], 9: True, "none": None, "wide": np.float64(-0.0)}
        ref = pack(value, MemoryStore().blobs)
        row = Result.objects.create(key="0" * 64, step="dies", manifest={"values": {"dies": ref}})
        row.refresh_from_db()
        self.assertEqual(hashed(row.manifest["values"]["dies"]), hashed(ref))
        self.assertNotEqual(hashed({"json": -0.0}), hashed({"json": 0.0}), "else this would show nothing")


class HistoryTest(ServerCase):
    def test_a_revision_holds_what_changed_and_now_and_then_the_whole(self) -> None:
        number = self.opened()
        for k in range(WHOLE_EVERY + 10):
            self.settings(self.mira, number, k + 1, "base", {"thickness_mm": 2.0 + (k + 1) / 100})
        case = Case.objects.get(number=number)
        whole = set(case.revisions.filter(document__isnull=False).values_list("number", flat=True))
        self.assertEqual(whole, {1, WHOLE_EVERY + 1})
        thick = [round(d["settings"].get("base", {}).get("*", {}).get("thickness_mm", 2.0), 2) for _, d in back_from_now(case)]
        self.assertEqual(thick, [round(2.0 + k / 100, 2) for k in range(WHOLE_EVERY + 10, -1, -1)])
        # Beside the whole, what an old state is put together from comes to the same.
        for revision, document in back_from_now(case):
            if revision.document is not None:
                self.assertEqual(document, revision.document)

    def test_audit_lines_point_to_the_revision_and_repeat_nothing(self) -> None:
        number = self.opened()
        self.settings(self.mira, number, 1, "base", {"thickness_mm": 3.0})
        post(self.mira, f"/api/cases/{number}/undo")
        lines = list(AuditLine.objects.filter(case_number=number).order_by("id").values_list("action", "revision"))
        self.assertEqual(lines, [("open", 1), ("change", 2), ("undo", 3)])
        self.assertEqual(AuditLine.objects.get(action="change").detail, {})
        change = Revision.objects.get(number=2).changes[-1]
        self.assertEqual((change["path"], change["after"]), (["settings", "base", "*", "thickness_mm"], 3.0))


class StrokeTest(ServerCase):
    def brush(self, who: Any, number: str, base: int, value: Any, ident: str = "") -> Any:
        entry = {"at": ["swab"], "id": ident, "value": value}
        body = {"base": base, "step": "follow", "piece": "p1", "values": {}, "entries": [entry]}
        return post(who, f"/api/cases/{number}/settings", body)

    def kept(self, number: str) -> dict[str, Any]:
        return Case.objects.get(number=number).document["settings"].get("follow", {}).get("p1", {}).get("swab", {})

    def test_two_people_brush_one_scan_and_each_takes_back_their_own(self) -> None:
        number = self.opened()
        # Both on the same state: neither stroke is in the other's way.
        self.assertEqual(self.brush(self.mira, number, 1, stroke(1)).status_code, 200)
        self.assertEqual(self.brush(self.tove, number, 1, stroke(2)).status_code, 200)
        self.assertEqual(set(self.kept(number)), {"s1", "s2"})
        self.assertEqual(post(self.mira, f"/api/cases/{number}/undo").status_code, 200)
        self.assertEqual(set(self.kept(number)), {"s2"})
        self.assertEqual(post(self.mira, f"/api/cases/{number}/redo").status_code, 200)
        self.assertEqual(set(self.kept(number)), {"s1", "s2"})
        self.assertEqual(self.brush(self.mira, number, 5, None, "s2").status_code, 200)
        self.assertEqual(set(self.kept(number)), {"s1"})
        self.assertEqual(self.brush(self.tove, number, 6, stroke(3), "s2").json()["code"], "no-entry")
        told = [line["what"] for line in self.mira.get(f"/api/cases/{number}/history").json()]
        self.assertEqual(told[0], "Following scans: Swab")

    def test_points_are_a_blob_to_the_micrometre_that_the_case_owns(self) -> None:
        number = self.opened()
        self.brush(self.mira, number, 1, stroke(1))
        packed = self.kept(number)["s1"]["points_mm"]
        self.assertEqual(packed["count"], 60)
        points = unpacked_points(folder().read(packed["points"]))
        self.assertLess(abs(points - [[1 + i / 100, i / 50, 1.0] for i in range(60)]).max(), 0.0006)
        self.assertTrue(BlobUse.objects.filter(sha256=packed["points"], owner=Case.objects.get(number=number).owner).exists())

    def test_what_is_no_stroke_is_refused(self) -> None:
        number = self.opened()
        digest = BlobUse.objects.first().sha256  # type: ignore[union-attr]
        for value in (
            {**stroke(1), "radius_mm": 99}, {**stroke(1), "points_mm": []}, {**stroke(1), "points_mm": [[1, 2]]},
            {**stroke(1), "points_mm": "x"}, {**stroke(1), "points_mm": [[1, 2, 1e9]]}, {**stroke(1), "colour": "red"},
            {**stroke(1, 2001)}, {**stroke(1), "points_mm": {"points": digest, "count": 3}},
        ):  # fmt: skip
            answer = self.brush(self.mira, number, 1, value)
            self.assertEqual(answer.status_code, 422, str(value)[:120])
        for at in (["nobody"], ["swab", "x", "y", "z"], []):
            body = {"base": 1, "step": "follow", "piece": "p1", "values": {}, "entries": [{"at": at, "id": "", "value": stroke(1)}]}
            self.assertEqual(post(self.mira, f"/api/cases/{number}/settings", body).status_code, 422)
        self.assertEqual(self.read(number)["revision"], 1)

    def test_a_case_with_strokes_is_carried_whole(self) -> None:
        number = self.opened()
        self.brush(self.mira, number, 1, stroke(4))
        packed = self.mira.get(f"/api/cases/{number}/case.zip").getvalue()
        answer = drop(self.mira, ("there.zip", packed)).json()
        self.assertEqual(answer["refused"], [])
        other = answer["number"]
        self.assertEqual(self.kept(other), self.kept(number))
        owner = Case.objects.get(number=other).owner
        self.assertTrue(BlobUse.objects.filter(owner=owner, sha256=self.kept(other)["s1"]["points_mm"]["points"]).exists())

    @tag("long")
    def test_three_hundred_strokes_leave_the_document_small(self) -> None:
        import json

        number = self.opened()
        for k in range(300):
            self.brush(self.mira, number, k + 1, stroke(k))
        document = Case.objects.get(number=number).document
        self.assertEqual(len(self.kept(number)), 300)
        self.assertLess(len(json.dumps(document)), 100_000)


class PartsTest(WorkCase):
    def test_a_rescan_that_takes_a_place_inherits_what_was_set_for_its_parts(self) -> None:
        upper, lower = jaws(3)
        case = self.work(self.opened(("u.stl", scan(upper)), ("l.stl", scan(lower))))
        Case.objects.filter(pk=case.pk).update(document={**case.document, "parts": {"p2.cut-k1": {"begins": "assemble"}}})
        case.refresh_from_db()
        body = {"base": case.revision, "step": "plate", "piece": "p2.cut-k1", "values": {"gap_mm": 7.0}}
        self.assertEqual(post(self.mira, f"/api/cases/{case.number}/settings", body).status_code, 200)
        for wrong in ("p9.cut-k1", "p2.", "p2.Cut", "p2.cut-k1\n", "p2" + ".cut-k1" * 20):
            answer = post(self.mira, f"/api/cases/{case.number}/settings", {**body, "base": 2, "piece": wrong})
            self.assertEqual(answer.json()["code"], "no-piece", wrong)
        drop(self.mira, ("again.stl", scan(lower.moved(turn(7)))), to=f"/api/cases/{case.number}/drop")
        case = self.work(Case.objects.get(pk=case.pk))
        body = {"base": case.revision, "what": "instead", "of": "p2"}
        self.assertEqual(post(self.mira, f"/api/cases/{case.number}/pieces/p3", body).status_code, 200)
        document = Case.objects.get(pk=case.pk).document
        self.assertEqual(document["settings"]["plate"]["p3.cut-k1"], {"gap_mm": 7.0})
        self.assertEqual(document["parts"], {"p3.cut-k1": {"begins": "assemble"}})
        # The part is a body of its own from there on, of the jaw of the new scan.
        nodes = self.mira.get(f"/api/cases/{case.number}").json()["nodes"]
        part = next(n for n in nodes if n["id"] == "assemble/p3.cut-k1")
        self.assertEqual(part["jaw"], "lower")
        post(self.mira, f"/api/cases/{case.number}/undo")
        self.assertEqual(Case.objects.get(pk=case.pk).document["parts"], {"p2.cut-k1": {"begins": "assemble"}})


class AcceptTest(WorkCase):
    def change(self, case: Case, step: str, **values: float) -> None:
        case.refresh_from_db()
        body = {"base": case.revision, "step": step, "values": values}
        self.assertEqual(post(self.mira, f"/api/cases/{case.number}/settings", body).status_code, 200)
        case.refresh_from_db()
        self.work(case)

    def accepted(self, case: Case) -> dict[str, list[str]]:
        return self.mira.get(f"/api/cases/{case.number}").json()["accepted"]

    def test_what_changed_since_is_said_and_asked_again(self) -> None:
        case = self.work(self.opened())
        steps = STEPS
        yes(self.mira, case.number, 1, steps)
        self.assertEqual(self.accepted(case), {step: [] for step in steps})
        self.change(case, "base", thickness_mm=5.0)
        now = self.accepted(case)
        self.assertEqual({step for step, changed in now.items() if changed}, {"base", "hollow", "plate"})
        self.assertTrue(any("volume" in words and ", now " in words for words in now["base"]), now["base"])
        answer = post(self.mira, f"/api/cases/{case.number}/hand-off").json()
        self.assertEqual((answer["code"], answer["missing"]), ("not-accepted", ["Base", "Plate"]))
        tray = self.mira.get("/api/cases").json()[0]
        self.assertIn("Base has changed since it was accepted", tray["waits"])
        # Back at what was accepted, nothing is asked.
        post(self.mira, f"/api/cases/{case.number}/undo")
        self.assertEqual(self.accepted(case), {step: [] for step in steps})
        self.assertEqual(post(self.mira, f"/api/cases/{case.number}/hand-off").status_code, 200)

    def test_a_change_that_comes_to_the_same_asks_nothing(self) -> None:
        case = self.work(self.opened())
        yes(self.mira, case.number, 1, ["bite", "level"])
        self.change(case, "bite", open_mm=0.7)
        self.assertEqual(self.accepted(case), {"bite": [], "level": []})

    def test_a_newer_version_of_a_step_leaves_what_was_accepted(self) -> None:
        from dataclasses import replace
        from unittest.mock import patch

        from bitecore.runsheet import CASE, Registry

        case = self.work(self.opened())
        yes(self.mira, case.number, 1, ["base"])
        newer = Registry([replace(s, version=s.version + 1) if s.name in ("base", "trim") else s for s in CASE.registry.steps])
        with patch.object(CASE, "registry", newer):
            states = self.states(case)
            # Trim was not accepted and is to be made anew; Base stands as it was accepted, for now.
            self.assertEqual((states["trim/p1"], states["base/p1"]), ("stale", "stale"))
            # It is not there yet: no yes to it is taken.
            early = yes(self.mira, case.number, 2, ["trim"])
            self.assertEqual(early.json()["code"], "not-there")
            self.work(Case.objects.get(pk=case.pk))
            # Trim came to the same, so that nothing Base gets has changed: it is not made anew.
            opened = self.mira.get(f"/api/cases/{case.number}?step=base").json()["opened"]
            kept = {n["piece"]: n["kept"] for n in opened if n["step"] == "base"}
            self.assertEqual(kept, {"p1": CASE.registry["base"].version - 1, "p2": CASE.registry["base"].version - 1})
            revision = Case.objects.get(pk=case.pk).revision
            body = {"base": revision, "steps": ["base"], "accepted": False}
            post(self.mira, f"/api/cases/{case.number}/accept", body)
            self.work(Case.objects.get(pk=case.pk))
            opened = self.mira.get(f"/api/cases/{case.number}?step=base").json()["opened"]
            self.assertEqual({n["kept"] for n in opened if n["step"] == "base"}, {None})


class AnswerTest(WorkCase):
    def test_only_the_open_step_tells_all(self) -> None:
        case = self.work(self.opened())
        plain = self.mira.get(f"/api/cases/{case.number}").json()
        self.assertEqual((plain["open"], plain["opened"]), ("", []))
        opened = self.mira.get(f"/api/cases/{case.number}?step=bite").json()
        self.assertEqual({n["step"] for n in opened["opened"]}, {"bite", "fit", "contacts"})
        self.assertEqual(plain["nodes"], opened["nodes"])
        bite = next(n for n in opened["opened"] if n["step"] == "bite")
        self.assertTrue(bite["readings"] and bite["settings"]["source"] == "auto")
        self.assertEqual(self.mira.get(f"/api/cases/{case.number}?step=nobody").json()["open"], "")


class ViewTest(WorkCase):
    remembers = False

    async def test_a_map_is_made_when_it_is_first_asked_for(self) -> None:
        from asgiref.sync import sync_to_async

        def prepare() -> tuple[str, str, str]:
            upper, lower = jaws(3)
            case = self.opened(("u.stl", scan(upper)), ("l.stl", scan(lower)), ("again.stl", scan(lower.moved(turn(7)))))
            self.work(case)
            nodes = self.mira.get(f"/api/cases/{case.number}").json()["nodes"]
            follow = next(n for n in nodes if n["step"] == "follow")
            body = next(n for n in nodes if n["id"] == "assemble/p1")
            return follow["good"]["map"], body["good"]["body"], self.mira.cookies["sessionid"].value

        digest, body, session = await sync_to_async(prepare, thread_sensitive=True)()
        self.assertTrue(view_path(settings.VIEW_ROOT, body, "full").exists())
        self.assertFalse(view_path(settings.VIEW_ROOT, digest, "full").exists())
        web = AsyncClient()
        web.cookies["sessionid"] = session
        # The worker's part, as soon as the job is there.
        maker = threading.Thread(target=self.makes, args=(digest,))
        maker.start()
        answer = await web.get(f"/api/meshes/{digest}/full.glb")
        maker.join()
        self.assertEqual(answer.status_code, 200)
        stranger = await AsyncClient().get(f"/api/meshes/{digest}/full.glb")
        self.assertEqual(stranger.status_code, 401)

    def makes(self, digest: str) -> None:
        from django.db import connections
        from procrastinate.contrib.django.models import ProcrastinateJob

        try:
            end = time.monotonic() + 90
            while time.monotonic() < end:
                if ProcrastinateJob.objects.filter(task_name="view", args={"digest": digest}).exists():
                    return make_full_view(digest)
                time.sleep(0.05)
        finally:
            connections.close_all()
        raise AssertionError("nobody asked for it")
