"""A second kind of sheet: bodies of several cases on one plate, worked out by the same worker."""

from __future__ import annotations

import io
import threading
import zipfile
from typing import Any

import numpy as np
import shapely
import trimesh
from django.contrib.auth.models import User

from bitecore.engine.gives import unpack
from cases import keeping
from cases.models import Case
from plates.models import Plate
from runs.models import BlobUse
from runs.owning import folder, sweep_orphans
from runs.work import work
from tests.server.common import client, post
from tests.server.test_work import WorkCase
from tests.shapes import manifold


class PlateTest(WorkCase):
    def setUp(self) -> None:
        super().setUp()
        self.one, self.two = self.work(self.opened()), self.work(self.opened())

    def worked(self, ident: int) -> dict[str, Any]:
        work("plate", ident, 0, threading.Event())
        return self.mira.get(f"/api/plates/{ident}").json()

    def filled(self) -> dict[str, Any]:
        plate = post(self.mira, "/api/plates", {"name": "Monday"}).json()
        for case, address in ((self.one, "p1"), (self.one, "p2"), (self.two, "p1")):
            body = {"base": plate["revision"], "case": case.number, "address": address}
            answer = post(self.mira, f"/api/plates/{plate['id']}/bodies", body)
            self.assertEqual(answer.status_code, 200, answer.content)
            plate = answer.json()
        return plate

    def test_bodies_of_two_cases_lie_on_the_plate_and_on_no_other(self) -> None:
        ident = self.filled()["id"]
        values = {"printer": "heron", "gap_mm": 4.0}
        changed = post(self.mira, f"/api/plates/{ident}/settings", {"base": 4, "step": "pack", "values": values}).json()
        self.assertEqual((changed["states"]["pack"], changed["working"]), ("ready", True))
        plate = self.worked(ident)
        self.assertEqual((plate["states"]["pack"], plate["sentences"], plate["working"]), ("done", [], False))
        boxes, seen = [], []
        for body in plate["bodies"]:
            mesh = unpack({"mesh": body["mesh"]}, folder()).moved(body["home_to_plate"])
            boxes.append((mesh.vertices_mm.min(0), mesh.vertices_mm.max(0)))
            seen.append(shapely.union_all([shapely.Polygon(ring).buffer(0) for ring in manifold(mesh).project().to_polygons()]))
        # The Heron's plate is 198 x 124 mm, kept off by 2 mm at the edges.
        for low, high in boxes:
            self.assertAlmostEqual(low[2], 0.0, places=6)
            self.assertTrue((low[:2] >= 2 - 1e-6).all() and (high[:2] <= np.array([198, 124]) - 2 + 1e-6).all())
        for i, one in enumerate(seen):
            for two in seen[i + 1 :]:
                self.assertGreaterEqual(one.distance(two), 4.0 - 1e-6)

    def test_what_does_not_fit_is_said_and_the_rest_lies(self) -> None:
        plate = self.worked(self.filled()["id"])
        self.assertEqual(plate["states"]["pack"], "look")
        self.assertIn("No room on the Wren (144 × 82 mm)", plate["sentences"][0])
        self.assertEqual(sum(b["home_to_plate"] is not None for b in plate["bodies"]), 2)

    def test_the_whole_plate_as_one_file(self) -> None:
        ident = self.filled()["id"]
        post(self.mira, f"/api/plates/{ident}/settings", {"base": 4, "step": "pack", "values": {"printer": "heron"}})
        self.assertEqual(self.mira.get(f"/api/plates/{ident}/plate.3mf").json()["code"], "no-files")
        post(self.mira, f"/api/plates/{ident}/file")
        self.assertEqual(self.worked(ident)["states"]["together"], "done")
        data = self.mira.get(f"/api/plates/{ident}/plate.3mf").content
        scene = trimesh.load(io.BytesIO(data), file_type="3mf")
        self.assertEqual(len(scene.geometry), 3)
        with zipfile.ZipFile(io.BytesIO(data)) as package:
            self.assertNotIn(b"patient", package.read("3D/3dmodel.model").lower())

    def test_a_body_stays_as_it_was_put_there_whatever_becomes_of_its_case(self) -> None:
        ident = self.filled()["id"]
        before = self.worked(ident)
        post(self.mira, f"/api/cases/{self.one.number}/settings", {"base": 1, "step": "base", "values": {"thickness_mm": 6.0}})
        self.work(Case.objects.get(pk=self.one.pk))
        keeping.delete(User.objects.get(username="tove"), self.two.number)
        sweep_orphans(grace_s=-1)
        self.assertEqual(self.worked(ident), before)
        for body in before["bodies"]:
            self.assertTrue(folder().path(body["mesh"]).exists())

    def test_undo_two_people_and_what_is_refused(self) -> None:
        plate = self.filled()
        ident, tove = plate["id"], client("tove")
        off = post(self.mira, f"/api/plates/{ident}/bodies/b2/off", {"base": 4}).json()
        self.assertEqual([b["id"] for b in off["bodies"]], ["b1", "b3"])
        clash = post(tove, f"/api/plates/{ident}/bodies", {"base": 4, "case": self.two.number, "address": "p2"})
        self.assertEqual((clash.status_code, clash.json()["code"]), (409, "changed-meanwhile"))
        back = post(self.mira, f"/api/plates/{ident}/undo").json()
        self.assertEqual([b["id"] for b in back["bodies"]], ["b1", "b2", "b3"])
        for body, code, status in (
            ({"base": 6, "case": "9999-01", "address": "p1"}, "no-case", 404),
            ({"base": 6, "case": self.one.number, "address": "p9"}, "no-body", 409),
            ({"base": 99, "case": self.one.number, "address": "p1"}, "no-revision", 409),
        ):
            answer = post(self.mira, f"/api/plates/{ident}/bodies", body)
            self.assertEqual((answer.status_code, answer.json()["code"]), (status, code))
        wrong = post(self.mira, f"/api/plates/{ident}/settings", {"base": 6, "step": "pack", "values": {"printer": "nobody"}})
        self.assertEqual((wrong.status_code, wrong.json()["code"]), (422, "no-record"))
        self.assertEqual(post(self.mira, "/api/plates/999/undo").status_code, 404)
        self.assertEqual(Plate.objects.count(), 1)
        # Both cases have the same scans: two bodies are one mesh.
        self.assertEqual(BlobUse.objects.filter(owner=Plate.objects.get().owner).count(), len({b["mesh"] for b in back["bodies"]}))
