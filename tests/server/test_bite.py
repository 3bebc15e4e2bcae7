"""Bite and Level in the application: what follows, what a change did, what is kept beside a correction by hand, contacts."""

from __future__ import annotations

import igl
import numpy as np
from django.test import tag

from bitecore.files import read_mesh
from bitecore.ops.rigid import placed
from bitecore.ops.weld import weld
from cases.models import Case
from tests.server.common import drop, post, scan
from tests.server.test_work import WorkCase
from tests.shapes import light_jaws as jaws
from tests.shapes import turn


class BiteWorkTest(WorkCase):
    @tag("long")
    def test_a_scan_from_before_is_told_by_its_name_and_follows_its_jaw(self) -> None:
        upper, lower = jaws(3)
        case = self.opened(("pre-op upper.stl", scan(upper.moved(turn(9)))), ("u.stl", scan(upper)), ("l.stl", scan(lower)))
        self.work(case)
        found = self.mira.get(f"/api/cases/{case.number}").json()
        by_file = {p["file"]: p for p in found["pieces"]}
        self.assertEqual((by_file["u.stl"]["jaw"], by_file["l.stl"]["jaw"]), ("upper", "lower"))
        self.assertEqual((by_file["pre-op upper.stl"]["jaw"], by_file["pre-op upper.stl"]["kind"]), (None, "before"))
        places = next(n for n in found["nodes"] if n["id"] == "places/*")["good"]["home_to_bench"]
        level = next(n for n in found["nodes"] if n["id"] == "level/*")["good"]["home_to_bench"]
        back = np.array(places["p1"]) @ turn(9)
        np.testing.assert_allclose(back, np.array(level["p2"]), atol=2e-3)

    def test_a_choice_on_one_scan_asks_before_it_changes_what_another_is(self) -> None:
        upper, lower = jaws(3)
        case = self.work(self.opened(("u.stl", scan(upper)), ("l.stl", scan(lower))))
        drop(self.mira, ("more.stl", scan(lower.moved(turn(7)))), to=f"/api/cases/{case.number}/drop")
        case.refresh_from_db()
        self.work(case)
        change = {"base": case.revision, "step": "intake", "piece": "p3", "values": {"kind": "jaw", "jaw": "lower"}}
        asked = post(self.mira, f"/api/cases/{case.number}/settings", change)
        self.assertEqual((asked.status_code, asked.json()["code"]), (409, "changes-others"))
        self.assertIn("The scan that is the lower jaw becomes", asked.json()["message"])
        case.refresh_from_db()
        self.assertEqual((case.revision, case.document["settings"].get("intake")), (change["base"], None))
        # What changes nothing else is done at once; a yes does the other.
        harmless = {**change, "values": {"kind": "other", "jaw": "auto"}}
        self.assertEqual(post(self.mira, f"/api/cases/{case.number}/settings", harmless).status_code, 200)
        case.refresh_from_db()
        sure = {**change, "base": case.revision, "sure": True}
        self.assertEqual(post(self.mira, f"/api/cases/{case.number}/settings", sure).status_code, 200)
        case.refresh_from_db()
        self.work(case)
        found = {p["id"]: (p["jaw"], p["kind"]) for p in self.mira.get(f"/api/cases/{case.number}").json()["pieces"]}
        # The upper stays the upper: nobody is turned into the other jaw because its place is taken.
        self.assertEqual(found["p1"][0], "upper")
        self.assertEqual((found["p3"][0], found["p2"][0]), ("lower", None))

    def test_the_bite_survives_a_rescan_elsewhere(self) -> None:
        upper, lower = jaws(3)
        case = self.work(self.opened(("u.stl", scan(upper)), ("l.stl", scan(lower))))
        drop(self.mira, ("again.stl", scan(lower.moved(turn(7)))), to=f"/api/cases/{case.number}/drop")
        case.refresh_from_db()
        self.work(case)
        answer = post(self.mira, f"/api/cases/{case.number}/pieces/p3", {"base": case.revision, "what": "instead", "of": "p2"})
        self.assertEqual(answer.status_code, 200)
        case.refresh_from_db()
        self.work(case)
        found = self.mira.get(f"/api/cases/{case.number}").json()
        bite = next(n for n in found["nodes"] if n["id"] == "bite/*")
        self.assertEqual(bite["good"]["method"], "earlier pair")
        m = np.array(bite["good"]["home_to_bite"]["p3"]) @ turn(7)
        np.testing.assert_allclose(m, np.eye(4), atol=2e-3)
        self.assertNotIn("p2", {p["id"] for p in found["pieces"]})
        self.assertNotIn("intake/p2", {n["id"] for n in found["nodes"]})

    def test_what_a_change_of_the_bite_did(self) -> None:
        upper, lower = jaws(3)
        case = self.work(self.opened(("u.stl", scan(upper)), ("l.stl", scan(lower))))
        asked = f"/api/cases/{case.number}/moved"
        self.assertEqual(self.mira.get(asked).json(), {"since": "", "who": "", "jaws": []})
        post(self.mira, f"/api/cases/{case.number}/settings", {"base": case.revision, "step": "bite", "values": {"up_mm": -0.5}})
        case.refresh_from_db()
        # While it is worked out nothing is said.
        self.assertEqual(self.mira.get(asked).json()["jaws"], [])
        self.work(case)
        found = self.mira.get(asked).json()
        self.assertEqual((found["since"], found["who"]), ("Bite: Lower up", "Mira Tallow"))
        by_jaw = {j["jaw"]: j for j in found["jaws"]}
        # The plane is the lower's, so that on the bench it is the upper that stands half a millimetre higher.
        self.assertEqual((by_jaw["lower"]["moved_mm"], by_jaw["lower"]["body"]), (0.0, "same"))
        self.assertAlmostEqual(by_jaw["upper"]["moved_mm"], 0.5, places=6)
        self.assertAlmostEqual(by_jaw["upper"]["turned_deg"], 0.0, places=6)
        self.assertEqual(by_jaw["lower"]["had_ml"], by_jaw["lower"]["has_ml"])

    def test_what_a_correction_of_the_level_was_made_on_is_kept_beside_it(self) -> None:
        """The lower came turned by itself, so the upper led; what led is kept beside the correction by the service."""
        upper, lower = jaws(3)
        case = self.work(self.opened(("u.stl", scan(upper)), ("l.stl", scan(lower.moved(turn(7))))))
        asked = f"/api/cases/{case.number}/settings"
        post(self.mira, asked, {"base": case.revision, "step": "level", "values": {"tilt_deg": 2.0}})
        case.refresh_from_db()
        self.work(case)
        kept = Case.objects.get(pk=case.pk).document["settings"]["level"]["*"]
        self.assertEqual((kept["tilt_deg"], kept["auto"]["on"]), (2.0, "p1"))
        level = self.level(case.number)
        np.testing.assert_allclose(level["good"]["auto"]["matrix"], kept["auto"]["matrix"], atol=1e-12)
        self.assertNotIn("hand-moved", self.codes(case.number, "level"))
        post(self.mira, f"/api/cases/{case.number}/undo")
        self.assertEqual(Case.objects.get(pk=case.pk).document["settings"]["level"]["*"], {})

    @tag("long")
    def test_a_nudge_on_another_relation_starts_anew(self) -> None:
        """The lower came elsewhere and was nudged from its level; a rescan in the upper's place brings the relation. What
        was nudged does not count on it, and the next nudge does not take it along."""
        upper, lower = jaws(3)
        case = self.work(self.opened(("u.stl", scan(upper)), ("l.stl", scan(lower.moved(turn(7))))))
        self.nudge(case, up_mm=-1.5, left_mm=0.4)
        self.assertEqual(self.bite(case.number)["good"]["method"], "by hand")
        drop(self.mira, ("again.stl", scan(lower)), to=f"/api/cases/{case.number}/drop")
        case.refresh_from_db()
        self.work(case)
        body = {"base": case.revision, "what": "instead", "of": "p2"}
        self.assertEqual(post(self.mira, f"/api/cases/{case.number}/pieces/p3", body).status_code, 200)
        case.refresh_from_db()
        self.work(case)
        bite = self.bite(case.number)
        self.assertEqual(bite["good"]["method"], "as they came")
        self.assertIn("nudge-left-out", self.codes(case.number, "bite"))
        np.testing.assert_allclose(self.place(bite), np.eye(4), atol=1e-9)
        self.nudge(case, back_mm=0.02)
        own = Case.objects.get(pk=case.pk).document["settings"]["bite"]["*"]
        self.assertEqual(own, {"back_mm": 0.02, "nudged_on": "as they came"})
        self.assertAlmostEqual(float(np.linalg.norm(self.place(self.bite(case.number))[:3, 3])), 0.02, places=9)
        post(self.mira, f"/api/cases/{case.number}/undo")
        self.assertEqual(Case.objects.get(pk=case.pk).document["settings"]["bite"]["*"]["up_mm"], -1.5)

    def nudge(self, case: Case, **values: float) -> None:
        case.refresh_from_db()
        answer = post(self.mira, f"/api/cases/{case.number}/settings", {"base": case.revision, "step": "bite", "values": values})
        self.assertEqual(answer.status_code, 200)
        case.refresh_from_db()
        self.work(case)

    def codes(self, number: str, step: str) -> list[str]:
        opened = self.mira.get(f"/api/cases/{number}?step={step}").json()["opened"]
        return [flag["code"] for node in opened for flag in node["flags"]]

    def bite(self, number: str) -> dict:
        return next(n for n in self.mira.get(f"/api/cases/{number}").json()["nodes"] if n["id"] == "bite/*")

    def place(self, bite: dict) -> np.ndarray:
        return np.array(next(m for p, m in bite["good"]["home_to_bite"].items() if p != "p1"))

    def level(self, number: str) -> dict:
        return next(n for n in self.mira.get(f"/api/cases/{number}").json()["nodes"] if n["id"] == "level/*")

    def test_contacts_are_as_deep_as_another_library_measures(self) -> None:
        """Every listed contact, asked of libigl's point to mesh distance: the place is in the lower's home, the upper as it
        is exported in bite coordinates."""
        upper, lower = jaws(3)
        m = turn(7)
        case = self.work(self.opened(("u.stl", scan(upper.moved(m))), ("l.stl", scan(lower.moved(m @ placed(np.eye(3), [0, 0, 0.06]))))))
        nodes = {n["id"]: n for n in self.mira.get(f"/api/cases/{case.number}").json()["nodes"]}
        listed = nodes["contacts/*"]["good"]["contacts"]
        self.assertGreater(len(listed), 4)
        answer = self.mira.get(f"/api/cases/{case.number}/scans/p1.stl", {"frame": "bite"})
        surface = weld(read_mesh("u.stl", answer.content).points).mesh
        to_bite = np.array(nodes["bite/*"]["good"]["home_to_bite"]["p2"])
        points = np.array([c["point_mm"] for c in listed]) @ to_bite[:3, :3].T + to_bite[:3, 3]
        squared, face, near = igl.point_mesh_squared_distance(points, surface.vertices_mm, surface.faces.astype(np.int64))[:3]
        a, b, c = (surface.vertices_mm[surface.faces[face, k]] for k in range(3))
        outside = np.sign(np.einsum("ij,ij->i", points - near, np.cross(b - a, c - a)))
        np.testing.assert_allclose([c["depth_mm"] for c in listed], -outside * np.sqrt(squared), atol=1e-4)
        self.assertGreater(max(c["depth_mm"] for c in listed), 0.04)
