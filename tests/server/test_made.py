"""Pieces made of pieces, and what was done by hand on a scan that another one takes the place of."""

from __future__ import annotations

from typing import Any

import numpy as np

from bitecore.engine.gives import unpacked_points
from bitecore.files import read_mesh
from bitecore.mesh import Mesh
from bitecore.ops.weld import weld
from cases.models import Case
from runs.store import ServerStore
from tests.core.test_mesh import joined
from tests.server.common import drop, post, scan
from tests.server.test_work import WorkCase
from tests.shapes import light_jaws as jaws
from tests.shapes import turn


class MadeCase(WorkCase):
    def entry(self, case: Case, step: str, piece: str, at: str, value: dict[str, Any] | None, key: str = "") -> Any:
        case.refresh_from_db()
        body = {"base": case.revision, "step": step, "piece": piece, "entries": [{"at": [at], "id": key, "value": value}]}
        return post(self.mira, f"/api/cases/{case.number}/settings", body)

    def choose(self, case: Case, piece: str, what: str, of: str = "") -> Any:
        case.refresh_from_db()
        answer = post(self.mira, f"/api/cases/{case.number}/pieces/{piece}", {"base": case.revision, "what": what, "of": of})
        case.refresh_from_db()
        return answer

    def node(self, case: Case, name: str) -> dict[str, Any]:
        found = self.mira.get(f"/api/cases/{case.number}?step=trim").json()
        return next(n for n in [*found["opened"], *found["nodes"]] if n["id"] == name)

    def good(self, case: Case, name: str) -> dict[str, Any]:
        return next(n for n in self.mira.get(f"/api/cases/{case.number}").json()["nodes"] if n["id"] == name)["good"]

    def source(self, case: Case, piece: str) -> Mesh:
        entry = next(p for p in case.document["pieces"] if p["id"] == piece)
        return weld(read_mesh(entry["file"], ServerStore().blobs.read(entry["sha256"])).points).mesh


class MadeTest(MadeCase):
    def test_what_is_marked_is_split_off_and_comes_in_as_a_piece(self) -> None:
        case = self.work(self.opened())
        self.assertEqual(self.choose(case, "p2", "split").json()["code"], "not-ready")
        low = jaws(3)[1].vertices_mm
        at = low[low[:, 1].argmax()].tolist()
        self.entry(case, "marked", "p2", "marks", {"kind": "saw", "points_mm": [[0, 20, 0]], "towards": [0, 1, 0]})
        self.assertGreater(at[1], 25)
        self.work(case)
        answer = self.choose(case, "p2", "split")
        self.assertEqual(answer.status_code, 200, answer.content)
        fresh = next(p for p in answer.json()["pieces"] if p["id"] == "p3")
        self.assertEqual(fresh["file"], "b split off.stl")
        part = self.source(case, "p3")
        self.assertGreater(part.vertices_mm[:, 1].min(), 19.95)
        self.work(case)
        fresh = next(p for p in self.mira.get(f"/api/cases/{case.number}").json()["pieces"] if p["id"] == "p3")
        self.assertEqual((fresh["kind"], fresh["jaw"]), ("other", None))
        # The jaw goes on without it, and undo takes the piece back.
        self.assertGreater(self.good(case, "trim/p2")["saws"]["back"]["mm"], 5)
        undone = post(self.mira, f"/api/cases/{case.number}/undo").json()
        self.assertNotIn("p3", {p["id"] for p in undone["pieces"]})

    def test_a_copy_brings_its_settings_along(self) -> None:
        case = self.work(self.opened())
        self.entry(case, "marked", "p2", "marks", {"kind": "swab", "points_mm": [[0, 0, 0], [1, 0, 0]], "mm": 1.0})
        answer = self.choose(case, "p2", "copy")
        self.assertEqual(answer.status_code, 200, answer.content)
        settings = case.document["settings"]
        self.assertEqual(settings["marked"]["p3"], settings["marked"]["p2"])
        self.assertEqual(settings["intake"]["p3"]["kind"], "other")
        self.assertEqual(case.document["pieces"][2]["sha256"], case.document["pieces"][1]["sha256"])
        self.assertEqual({k: v for k, v in self.good(self.work(case), "level/*")["home_to_bench"].items() if v}.keys(), {"p1", "p2"})

    def test_a_bite_impression_is_taken_apart_into_both_jaws_and_their_bite(self) -> None:
        upper, lower = jaws(3)
        # Of the impression both sides are negatives: what faces up is the upper's.
        both = joined(upper.turned_inside_out(), lower.turned_inside_out())
        case = self.work(self.opened(("tray.stl", scan(both))))
        answer = self.choose(case, "p1", "apart")
        self.assertEqual(answer.status_code, 200, answer.content)
        self.work(case)
        found = {p["id"]: p["jaw"] for p in self.mira.get(f"/api/cases/{case.number}").json()["pieces"]}
        self.assertEqual(({found["p2"], found["p3"]}, found["p1"]), ({"upper", "lower"}, None))
        bite = self.good(case, "bite/*")
        self.assertTrue(bite["related"])
        for piece in ("p2", "p3"):
            jaw = upper if found[piece] == "upper" else lower
            np.testing.assert_allclose(self.source(case, piece).vertices_mm.mean(0), jaw.vertices_mm.mean(0), atol=1.5)
            np.testing.assert_allclose(bite["home_to_bite"][piece], np.eye(4), atol=1e-9)

    def test_what_has_one_side_is_not_taken_apart(self) -> None:
        case = self.work(self.opened())
        answer = self.choose(case, "p2", "apart")
        self.assertEqual((answer.status_code, answer.json()["code"]), (409, "one-sided"))
        self.assertEqual(len(case.document["pieces"]), 2)

    def test_the_list_of_points_of_an_entry_stays_when_the_rest_of_it_changes(self) -> None:
        case = self.opened()
        mark = {"kind": "swab", "points_mm": [[0, 0, 0], [1, 0, 0]], "mm": 1.0}
        self.entry(case, "marked", "p2", "marks", mark)
        case.refresh_from_db()
        kept = case.document["settings"]["marked"]["p2"]["marks"]["m1"]
        self.assertEqual(self.entry(case, "marked", "p2", "marks", {**kept, "adds": False}, "m1").status_code, 200)
        case.refresh_from_db()
        self.assertEqual(case.document["settings"]["marked"]["p2"]["marks"]["m1"], {**kept, "adds": False})
        # A list that is not its own is named by nobody.
        other = {**kept, "points_mm": {"points": "0" * 64, "count": 2}}
        self.assertEqual(self.entry(case, "marked", "p2", "marks", other, "m1").status_code, 422)
        self.assertEqual(self.entry(case, "marked", "p2", "marks", kept).status_code, 422)


class CarriedTest(MadeCase):
    def test_work_by_hand_goes_over_to_a_scan_that_lies_elsewhere(self) -> None:
        upper, lower = jaws(3)
        case = self.work(self.opened(("u.stl", scan(upper)), ("l.stl", scan(lower))))
        low = lower.vertices_mm[lower.vertices_mm[:, 2] < -8]
        at = low[low[:, 1].argmin()].tolist()
        self.entry(case, "marked", "p2", "marks", {"kind": "swab", "points_mm": [at, [at[0] + 2, at[1], at[2]]], "mm": 1.5})
        self.entry(case, "marked", "p2", "marks", {"kind": "saw", "points_mm": [[0, 24, 0]], "towards": [0, 1, 0]})
        self.entry(case, "touch", "p2", "strokes", {"kind": "add", "points_mm": [at], "radius_mm": 2.0})
        self.entry(case, "clean", "p2", "left", {"kind": "hole", "at": at})
        self.work(case)
        before = self.node(case, "marked/p2")["readings"]
        m = turn(7)
        drop(self.mira, ("again.stl", scan(lower.moved(m))), to=f"/api/cases/{case.number}/drop")
        self.work(Case.objects.get(pk=case.pk))
        self.assertEqual(self.choose(case, "p3", "instead", "p2").status_code, 200)
        settings = case.document["settings"]
        marks = settings["marked"]["p3"]["marks"]
        np.testing.assert_allclose(marks["m2"]["towards"], m[:3, 1], atol=1e-3)
        points = unpacked_points(ServerStore().blobs.read(marks["m1"]["points_mm"]["points"]))
        np.testing.assert_allclose(points[0], m[:3, :3] @ at + m[:3, 3], atol=0.02)
        np.testing.assert_allclose(settings["clean"]["p3"]["left"]["l1"]["at"], m[:3, :3] @ at + m[:3, 3], atol=0.02)
        self.work(case)
        after = self.node(case, "marked/p3")
        self.assertEqual([f["code"] for f in after["flags"] if f["code"] == "mark-lost"], [])
        count, was = (next(r["value"] for r in rs if r["name"] == "triangles marked to go") for rs in (after["readings"], before))
        self.assertAlmostEqual(count, was, delta=0.03 * was)
        self.assertEqual([f["code"] for f in self.node(case, "touch/p3")["flags"]], [])
