"""A second kind of sheet: bodies of several cases on one plate, worked out by the same worker."""

from __future__ import annotations

import io
import json
import threading
import zipfile
from typing import Any
from unittest import mock

import numpy as np
import shapely
import trimesh
from django.conf import settings
from django.contrib.auth.models import User
from django.db import transaction
from django.test import Client
from PIL import Image

from bitecore.engine.gives import unpack
from bitecore.views import view_path
from cases import keeping
from cases.models import Case
from plates.leaving import without_case
from plates.models import Plate
from runs.models import BlobUse
from runs.owning import folder
from runs.services import look
from runs.work import work
from tests.server.common import client, delete, post, yes
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
            body = {"base": plate["revision"], "case": case.number, "addresses": [address]}
            answer = post(self.mira, f"/api/plates/{plate['id']}/bodies", body)
            self.assertEqual(answer.status_code, 200, answer.content)
            plate = answer.json()
        return plate

    def test_bodies_of_two_cases_lie_on_the_plate_and_on_no_other(self) -> None:
        ident = self.filled()["id"]
        values = {"printer": "heron", "gap_mm": 4.0}
        changed = post(self.mira, f"/api/plates/{ident}/settings", {"base": 4, "step": "pack", "values": values}).json()
        self.assertEqual((changed["states"]["pack"], changed["layers"]), ("ready", ""))
        plate = self.worked(ident)
        self.assertEqual((plate["states"]["pack"], plate["working"]), ("done", {}))
        self.assertEqual([f for n in plate["nodes"] for f in n["flags"] if f["severity"] != "note"], [])
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
        self.assertEqual(post(self.mira, "/api/bays/prints", {"plate": plate["id"]}).json()["code"], "not-accepted")
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
        plain = trimesh.load(io.BytesIO(self.mira.get(f"/api/plates/{ident}/plate.stl").content), file_type="stl")
        self.assertAlmostEqual(plain.volume, sum(g.volume for g in scene.geometry.values()), delta=1.0)
        np.testing.assert_allclose(plain.bounds, scene.bounds, atol=1e-3)

    def test_a_plate_that_was_never_printed_goes_with_what_it_alone_kept(self) -> None:
        ident = self.filled()["id"]
        plate = self.worked(ident)
        owner = Plate.objects.get(pk=ident).owner_id
        self.assertEqual(Client().get(f"/api/plates/{ident}").status_code, 401)
        self.assertEqual(delete(self.mira, f"/api/plates/{ident}").status_code, 200)
        self.assertEqual(self.mira.get(f"/api/plates/{ident}").status_code, 404)
        self.assertEqual(delete(self.mira, f"/api/plates/{ident}").status_code, 404)
        self.assertNotIn(ident, [p["id"] for p in self.mira.get("/api/plates").json()])
        self.assertFalse(BlobUse.objects.filter(owner_id=owner).exists())
        for body in plate["bodies"]:
            self.assertTrue(folder().read(body["mesh"]), "its case has it still")
        # A worker that was still at it ends without a word.
        work("plate", ident, 0, threading.Event())

    def test_a_body_stays_as_it_was_put_there_whatever_becomes_of_its_case(self) -> None:
        ident = self.filled()["id"]
        self.worked(ident)
        post(self.mira, f"/api/cases/{self.one.number}/settings", {"base": 1, "step": "base", "values": {"thickness_mm": 6.0}})
        self.work(Case.objects.get(pk=self.one.pk))
        after = self.worked(ident)
        self.assertEqual([b["newer"] for b in after["bodies"]], [True, True, False])
        asks = post(self.mira, "/api/bays/prints", {"plate": ident})
        self.assertEqual(asks.json()["code"], "not-accepted")
        for body in after["bodies"]:
            self.assertTrue(folder().path(body["mesh"]).exists())

    def test_with_its_case_a_body_goes_from_plate_history_disk_and_every_address(self) -> None:
        # Of a case whose body no other has.
        body = {"base": 1, "step": "base", "values": {"thickness_mm": 3.3}}
        post(self.mira, f"/api/cases/{self.two.number}/settings", body)
        self.two = self.work(Case.objects.get(pk=self.two.pk))
        ident = self.filled()["id"]
        plate = self.worked(ident)
        gone = next(b for b in plate["bodies"] if b["case"] == self.two.number)
        off = self.filled()
        self.worked(off["id"])
        # Taken off again, it still stood in the history of this one.
        last = next(b["id"] for b in off["bodies"] if b["case"] == self.two.number)
        post(self.mira, f"/api/plates/{off['id']}/off", {"base": off["revision"], "bodies": [last]})
        png = f"/api/plates/{ident}/layers/3.png"
        self.assertEqual(self.mira.get(f"{png}?of={plate['layers']}").status_code, 200)
        # Of a case whose number begins alike nothing goes.
        with transaction.atomic():
            self.assertEqual(without_case(self.two.number[:-1]), set())
        keeping.delete(User.objects.get(username="tove"), self.two.number)
        for each in (ident, off["id"]):
            row = Plate.objects.get(pk=each)
            kept = json.dumps([row.document, [[r.document, r.changes, r.what] for r in row.revisions]])
            self.assertNotIn(self.two.number, kept)
            self.assertNotIn(gone["mesh"], kept)
        self.assertFalse(folder().path(gone["mesh"]).exists())
        self.assertEqual(self.mira.get(f"/api/meshes/{gone['mesh']}/full.glb").status_code, 404)
        self.assertNotEqual(self.mira.get(f"{png}?of={plate['layers']}").status_code, 200)
        now = self.worked(ident)
        self.assertEqual([b["case"] for b in now["bodies"]], [self.one.number] * 2)
        self.assertIn("1 body of a deleted case is gone", now["says"][0])
        self.assertEqual(now["undo"], None)

    def test_every_limit_is_looked_at_before_anything_is_done(self) -> None:
        plate = self.filled()
        with mock.patch("plates.services.pinned", side_effect=AssertionError("it was pinned")):
            body = {"base": plate["revision"], "case": self.one.number, "addresses": ["p1"] * 60, "count": 50}
            self.assertEqual(post(self.mira, f"/api/plates/{plate['id']}/bodies", body).json()["code"], "too-many")
        self.assertEqual(post(self.mira, "/api/plates", {"name": "", "printer": "toaster"}).json()["code"], "no-printer")
        both = post(self.mira, "/api/bays/prints", {"case": self.one.number, "plate": plate["id"]})
        self.assertEqual(both.status_code, 422)

    def test_undo_two_people_and_what_is_refused(self) -> None:
        plate = self.filled()
        ident, tove = plate["id"], client("tove")
        off = post(self.mira, f"/api/plates/{ident}/off", {"base": 4, "bodies": ["b2"]}).json()
        self.assertEqual([b["id"] for b in off["bodies"]], ["b1", "b3"])
        clash = post(tove, f"/api/plates/{ident}/off", {"base": 4, "bodies": ["b1"]})
        self.assertEqual((clash.status_code, clash.json()["code"]), (409, "changed-meanwhile"))
        # What is put on is in nobody's way.
        more = post(tove, f"/api/plates/{ident}/bodies", {"base": 4, "case": self.two.number, "addresses": ["p2"]}).json()
        self.assertEqual([b["id"] for b in more["bodies"]], ["b1", "b3", "b4"])
        self.assertEqual(post(tove, f"/api/plates/{ident}/undo").status_code, 200)
        back = post(self.mira, f"/api/plates/{ident}/undo").json()
        self.assertEqual([b["id"] for b in back["bodies"]], ["b1", "b2", "b3"])
        for body, code, status in (
            ({"base": 6, "case": "9999-01", "addresses": ["p1"]}, "no-case", 404),
            ({"base": 6, "case": self.one.number, "addresses": ["p9"]}, "no-body", 409),
            ({"base": 99, "case": self.one.number, "addresses": ["p1"]}, "no-revision", 409),
        ):
            answer = post(self.mira, f"/api/plates/{ident}/bodies", body)
            self.assertEqual((answer.status_code, answer.json()["code"]), (status, code))
        wrong = post(self.mira, f"/api/plates/{ident}/settings", {"base": 6, "step": "pack", "values": {"printer": "nobody"}})
        self.assertEqual((wrong.status_code, wrong.json()["code"]), (422, "no-record"))
        self.assertEqual(post(self.mira, "/api/plates/999/undo").status_code, 404)
        self.assertEqual(Plate.objects.count(), 1)
        # Both cases have the same scans: two bodies are one mesh.
        self.assertEqual(BlobUse.objects.filter(owner=Plate.objects.get().owner).count(), len({b["mesh"] for b in back["bodies"]}))

    def on_heron(self) -> dict[str, Any]:
        ident = self.filled()["id"]
        post(self.mira, f"/api/plates/{ident}/settings", {"base": 4, "step": "pack", "values": {"printer": "heron"}})
        return self.worked(ident)

    def runs(self, ident: int) -> list[str]:
        """Digests of the layers of each body."""
        graph = look(Plate.objects.get(pk=ident))
        return [n.good.values["runs"]["files"][0]["file"] for n in graph.of_step("layers")]

    def picture(self, ident: int, layer: int) -> np.ndarray:
        return np.array(Image.open(io.BytesIO(self.mira.get(f"/api/plates/{ident}/layers/{layer}.png").content)), bool)

    def test_a_body_that_is_moved_costs_no_new_layers_and_lies_there_to_the_pixel(self) -> None:
        ident = post(self.mira, "/api/plates", {"printer": "heron"}).json()["id"]
        post(self.mira, f"/api/plates/{ident}/bodies", {"base": 1, "case": self.one.number, "addresses": ["p2"]})
        (body,) = self.worked(ident)["bodies"]
        before, first = self.runs(ident), self.picture(ident, 40)
        table = self.mira.get(f"/api/plates/{ident}/layers.json").json()
        self.assertAlmostEqual(first.sum() * 0.05**2, table["area_mm2"][40], places=3)
        low, high = np.array(body["box_mm"])
        x, y, _ = ((low + high) / 2 + [7.5, -1.25, 0]).tolist()
        places = {"b1": {"x_mm": x, "y_mm": y, "turn_deg": body["turn_deg"]}}
        post(self.mira, f"/api/plates/{ident}/settings", {"base": 2, "step": "pack", "values": {"places": places}})
        (moved,) = self.worked(ident)["bodies"]
        self.assertEqual((self.runs(ident), moved["by_hand"]), (before, True))
        np.testing.assert_allclose(np.array(moved["box_mm"]) - body["box_mm"], [[7.5, -1.25, 0]] * 2, atol=1e-6)
        # Rows of the picture go from the far side on.
        np.testing.assert_array_equal(self.picture(ident, 40), np.roll(first, (25, 150), (0, 1)))

    def test_layers_of_the_plate_are_those_of_its_bodies_and_another_library_reads_them(self) -> None:
        plate = self.on_heron()
        answer = self.mira.get(f"/api/plates/{plate['id']}/layers.zip")
        takes = {r["name"]: r["value"] for n in plate["nodes"] if n["step"] == "takes" for r in n["readings"]}
        volume = 0.0
        with zipfile.ZipFile(io.BytesIO(answer.content)) as archive:
            says = json.loads(archive.read("layers.json"))
            self.assertEqual(len(says["layers"]), takes["layers"])
            for row in says["layers"][:: len(says["layers"]) // 7]:
                image = np.array(Image.open(io.BytesIO(archive.read(row["file"]))), bool)
                self.assertEqual(image.shape[::-1], tuple(says["size_px"]))
                self.assertAlmostEqual(image.sum() * 0.05**2, row["area_mm2"], places=3)
        for body in plate["bodies"]:
            volume += manifold(unpack({"mesh": body["mesh"]}, folder()).moved(body["home_to_plate"])).volume() / 1000
        self.assertLess(abs(takes["resin"] / volume - 1), 0.01)
        self.assertAlmostEqual(says["resin_ml"], takes["resin"], places=3)

    def test_what_has_no_room_lies_on_more_plates(self) -> None:
        """Nine of a body where some have room: all lie, each once, on as many plates as it takes; what no plate takes is said."""
        ident = post(self.mira, "/api/plates", {"printer": "wren"}).json()["id"]
        post(self.mira, f"/api/plates/{ident}/bodies", {"base": 1, "case": self.one.number, "addresses": ["p2"], "count": 9})
        plate = self.worked(ident)
        left = [body["id"] for body in plate["bodies"] if body["home_to_plate"] is None]
        self.assertGreater(len(left), 2)
        answer = post(self.mira, f"/api/plates/{ident}/onto-next", {"base": plate["revision"], "bodies": left})
        self.assertEqual(answer.status_code, 200, answer.content)
        others = answer.json()["others"]
        self.assertGreater(len(others), 1)
        there = [self.worked(other) for other in (ident, *others)]
        self.assertEqual([body for one in there for body in one["bodies"] if body["home_to_plate"] is None], [])
        self.assertEqual(sum(len(one["bodies"]) for one in there), 9)
        self.assertEqual({one["settings"]["pack"]["printer"] for one in there}, {"wren"})
        # Undone here, the bodies lie on both: what was begun is a plate of its own.
        self.assertEqual(len(post(self.mira, f"/api/plates/{ident}/undo", {}).json()["bodies"]), 9)
        huge = post(self.mira, "/api/plates", {"printer": "wren"}).json()["id"]
        post(self.mira, f"/api/plates/{huge}/bodies", {"base": 1, "case": self.one.number, "addresses": ["p2"]})
        post(self.mira, f"/api/plates/{huge}/settings", {"base": 2, "step": "pack", "values": {"margin_mm": 20.0}})
        plate = self.worked(huge)
        self.assertEqual([body["home_to_plate"] for body in plate["bodies"]], [None])
        refused = post(self.mira, f"/api/plates/{huge}/onto-next", {"base": plate["revision"], "bodies": ["b1"]})
        self.assertEqual((refused.status_code, refused.json()["code"]), (409, "too-large"))

    def test_two_heights_end_under_the_lowest_margin_and_the_boundary_costs_no_new_layers(self) -> None:
        ident = post(self.mira, "/api/plates", {"printer": "heron"}).json()["id"]
        post(self.mira, f"/api/plates/{ident}/bodies", {"base": 1, "case": self.one.number, "addresses": ["p2"]})
        self.worked(ident)
        fine = self.mira.get(f"/api/plates/{ident}/layers.json").json()
        self.assertEqual(fine["seconds"], fine["fine_seconds"])

        def pack(base: int, **values: object) -> dict:
            answer = post(self.mira, f"/api/plates/{ident}/settings", {"base": base, "step": "pack", "values": values})
            self.assertEqual(answer.status_code, 200, answer.content)
            return self.worked(ident)

        plate = pack(2, thick_mm="0.1")
        readings = {r["name"]: r["value"] for n in plate["nodes"] for r in n["readings"]}
        table = self.mira.get(f"/api/plates/{ident}/layers.json").json()
        high = np.diff([0.0, *table["ends_mm"]])
        boundary = table["ends_mm"][int((high > 0.09).sum()) - 1]
        # A millimetre under the lowest margin, rounded down to a layer: by the teeth the case tells.
        teeth = self.mira.get(f"/api/cases/{self.one.number}/teeth.json").json()
        margins = [p for jaw in teeth["jaws"] if jaw["piece"] == "p2" for t in jaw["teeth"] for p in t["margin_mm"] or ()]
        matrix = np.array(plate["bodies"][0]["home_to_plate"])
        lowest = (np.c_[margins, np.ones(len(margins))] @ matrix.T)[:, 2].min()
        self.assertAlmostEqual(readings["lowest margin"], lowest, places=3)
        self.assertTrue(lowest - 1.1 - 1e-6 < boundary <= lowest - 1.0 + 1e-6, (boundary, lowest))
        self.assertAlmostEqual(table["ends_mm"][-1], fine["ends_mm"][-1], places=6)
        self.assertLess(table["seconds"], 0.85 * fine["seconds"])
        self.assertEqual(table["fine_seconds"], fine["seconds"])
        self.assertAlmostEqual(readings["printing"] * 60, table["seconds"], places=1)
        self.assertAlmostEqual(table["resin_ml"] / fine["resin_ml"], 1, delta=0.002)
        runs = self.runs(ident)
        now = pack(plate["revision"], thick_up_mm=3.0)
        self.assertEqual(self.runs(ident), runs)
        table = self.mira.get(f"/api/plates/{ident}/layers.json").json()
        self.assertEqual((np.diff([0.0, *table["ends_mm"]]) > 0.09).sum(), 30)
        picture = self.picture(ident, 29)
        self.assertAlmostEqual(picture.sum() * 0.05**2, table["area_mm2"][29], places=3)
        grey = pack(now["revision"], edges="grey")
        answer = self.mira.get(f"/api/plates/{ident}/layers/29.png")
        image = np.array(Image.open(io.BytesIO(answer.content)))
        self.assertEqual((image.dtype, image.max()), (np.uint8, 255))
        self.assertGreater(len(np.unique(image)), 10)
        self.assertAlmostEqual(image.sum() / 255 * 0.05**2 / (picture.sum() * 0.05**2), 1, delta=0.003)
        now = pack(grey["revision"], printer="wren")
        self.assertIn("no-grey", [f["code"] for n in now["nodes"] for f in n["flags"]])
        now = pack(now["revision"], printer="heron", edges="sharp")
        self.assertEqual(self.runs(ident), runs)
        over = pack(now["revision"], thick_up_mm=lowest + 2)
        (flag,) = [f for n in over["nodes"] for f in n["flags"] if f["code"] == "thick-over-margin"]
        self.assertEqual(flag["fix"]["values"], {"thick_up_mm": None})
        odd = pack(over["revision"], layer_mm=0.04)
        self.assertIn("not-a-multiple", [f["code"] for n in odd["nodes"] for f in n["flags"]])

    def test_what_a_person_put_off_the_plate_or_on_another_is_said_and_finds_its_place_again(self) -> None:
        plate = self.on_heron()
        ident = plate["id"]
        low, high = np.array(plate["bodies"][0]["box_mm"])
        x, y, _ = ((low + high) / 2).tolist()
        for at, code in (({"x_mm": 2.0, "y_mm": 30.0}, "off-plate"), ({"x_mm": x, "y_mm": y}, "in-one-another")):
            base = self.mira.get(f"/api/plates/{ident}").json()["revision"]
            places = {"b2": at} | (
                {"b1": {"x_mm": x, "y_mm": y, "turn_deg": plate["bodies"][0]["turn_deg"]}} if code != "off-plate" else {}
            )
            post(self.mira, f"/api/plates/{ident}/settings", {"base": base, "step": "pack", "values": {"places": places}})
            now = self.worked(ident)
            (flag,) = [f for n in now["nodes"] for f in n["flags"] if f["code"] == code][:1]
            self.assertEqual(flag["severity"], "stop")
            self.assertEqual(post(self.mira, "/api/bays/prints", {"plate": ident}).status_code, 409)
            fixed = post(
                self.mira, f"/api/plates/{ident}/settings", {"base": now["revision"], "step": "pack", "values": flag["fix"]["values"]}
            )
            self.assertEqual(fixed.status_code, 200, fixed.content)
            self.assertNotIn(code, [f["code"] for n in self.worked(ident)["nodes"] for f in n["flags"]])

    def test_a_doubt_that_a_part_of_a_step_found_keeps_it_back_until_a_person_has_accepted_it(self) -> None:
        path = f"/api/cases/{self.one.number}"

        def waits() -> set[str]:
            return {b["waits"] for b in self.mira.get("/api/plates/shelf").json() if b["case"] == self.one.number}

        def set_to(base: int, step: str, values: dict[str, Any]) -> None:
            asked = {"base": base, "step": step, "piece": "p1", "values": values}
            self.assertEqual(post(self.mira, f"{path}/settings", asked).status_code, 200)
            self.work(self.one)

        set_to(1, "clean", {"left": {"l1": {"kind": "hole", "at": [500.0, 0.0, 0.0]}}})
        self.assertEqual(self.states(self.one)["clean/p1"], "look")
        tray = next(t for t in self.mira.get("/api/cases").json() if t["number"] == self.one.number)
        self.assertEqual({s["step"]: s["state"] for s in tray["states"]}["trim"], "look")
        self.assertEqual(waits(), {"Trim needs a look"})
        accepted = yes(self.mira, self.one.number, 2, ["trim"])
        self.assertEqual(accepted.status_code, 200, accepted.content)
        self.assertEqual(waits(), {""})
        # Another finding than the one that was accepted.
        set_to(accepted.json()["revision"], "trim", {"holes_mm": 0.0})
        self.assertEqual(waits(), {"Trim needs a look"})

    def test_strips_of_the_house_are_printed_and_the_one_that_is_measured_in_its_own_size(self) -> None:
        ident = post(self.mira, "/api/plates", {"printer": "heron"}).json()["id"]
        sized = {"density_g_ml": 1.15, "size_x": 2.0, "size_y": 1.0, "size_z": -1.0}
        kept = post(client("tove"), "/api/house/shelves/resin", {"id": "plaster", "name": "Plaster grey", "data": sized, "steps": {}})
        self.assertEqual(kept.status_code, 200, kept.content)
        # A plate keeps the resin it was begun with until a person takes it as it is now.
        self.assertEqual(self.mira.get(f"/api/plates/{ident}").json()["newer"], {"pack.resin": "Plaster grey"})
        taken = post(self.mira, f"/api/plates/{ident}/records", {"base": 1}).json()
        self.assertEqual((taken["newer"], taken["undo"]), ({}, "As the shelf has it now: Plaster grey"))
        strips = {"base": 2, "case": "", "addresses": ["size-strip", "fit-strip"]}
        unknown = post(self.mira, f"/api/plates/{ident}/bodies", strips | {"addresses": ["bed"]})
        self.assertEqual((unknown.status_code, unknown.json()["code"]), (404, "no-body"))
        post(self.mira, f"/api/plates/{ident}/bodies", strips)
        plate = self.worked(ident)
        self.assertEqual([f["message"] for n in plate["nodes"] for f in n["flags"] if f["severity"] != "note"], [])
        for body in plate["bodies"]:
            self.assertTrue(view_path(settings.VIEW_ROOT, body["mesh"], "full").exists(), body["name"])
        sizes = {b["name"]: np.ptp(np.array(b["box_mm"]), axis=0) for b in plate["bodies"]}
        # Its lengths are 60, 60 and 30 mm, whatever the resin shrinks by; five sockets of 10 mm are 50 mm, and 9 deep.
        np.testing.assert_allclose(sizes["Size strip"], [60, 60, 30], atol=1e-5)
        wide, deep = sizes["Fit strip"][:2]
        turned = plate["bodies"][1]["turn_deg"] % 180 != 0
        np.testing.assert_allclose([wide, deep], [9 * 1.02, 50 * 1.01] if turned else [50 * 1.02, 9 * 1.01], atol=1e-5)
        self.assertEqual(sorted(sizes), ["Fit strip", "Peg", "Size strip"])
        self.assertEqual((plate["waits"], self.mira.get("/api/plates").json()[0]["cases"]), ({}, []))
        # A second strip and its peg have places of their own, and are not laid where the first ones are.
        plate = post(self.mira, f"/api/plates/{ident}/bodies", strips | {"addresses": ["fit-strip"]}).json()
        self.assertEqual([b["kit"] for b in plate["bodies"]], ["", "fit-strip", "fit-strip", "", ""])

        def apart() -> float:
            boxes = [shapely.box(*b["box_mm"][0][:2], *b["box_mm"][1][:2]) for b in self.worked(ident)["bodies"][1:]]
            return min(one.distance(two) for k, one in enumerate(boxes) for two in boxes[k + 1 :])

        self.assertGreater(apart(), 2.5)
        row = Plate.objects.get(pk=ident)
        for body in row.document["bodies"][3:]:
            body["kit"] = "fit-strip"
        Plate.objects.filter(pk=ident).update(document=row.document, needs_work=True)
        self.assertGreater(apart(), 2.5)
        places = {"b1": {"x_mm": 100.0, "y_mm": 60.0, "turn_deg": 90.0}}
        post(self.mira, f"/api/plates/{ident}/settings", {"base": plate["revision"], "step": "pack", "values": {"places": places}})
        found = [f for n in self.worked(ident)["nodes"] for f in n["flags"] if f["code"] == "across"]
        self.assertEqual(found[0]["message"], "Size strip is turned: its lengths are not along the plate.")

    def test_copies_the_shelf_a_newer_body_and_a_plate_that_fills_itself(self) -> None:
        shelf = self.mira.get("/api/plates/shelf").json()
        self.assertEqual(
            [(b["case"], b["address"], b["plate"]) for b in shelf],
            [*((c.number, p, None) for c in (self.one, self.two) for p in ("p1", "p2")), ("", "size-strip", None), ("", "fit-strip", None)],
        )
        plate = post(self.mira, "/api/plates", {"printer": "heron"}).json()
        ident = plate["id"]
        post(self.mira, f"/api/plates/{ident}/bodies", {"base": 1, "case": self.one.number, "addresses": ["p1"]})
        copied = post(self.mira, f"/api/plates/{ident}/bodies/b1/copies", {"base": 2, "count": 2}).json()
        self.assertEqual([b["id"] for b in copied["bodies"]], ["b1", "b2", "b3"])
        self.assertEqual(len({b["mesh"] for b in copied["bodies"]}), 1)
        lies = [b["plate"] for b in self.mira.get("/api/plates/shelf").json() if b["case"]]
        self.assertEqual(lies, [ident, None, None, None])
        post(self.mira, f"/api/cases/{self.one.number}/settings", {"base": 1, "step": "base", "values": {"thickness_mm": 6.0}})
        self.work(Case.objects.get(pk=self.one.pk))
        now = self.mira.get(f"/api/plates/{ident}").json()
        self.assertEqual([b["newer"] for b in now["bodies"]], [True] * 3)
        fresh = post(self.mira, f"/api/plates/{ident}/bodies/b1/renew", {"base": now["revision"]}).json()
        self.assertEqual([b["newer"] for b in fresh["bodies"]], [False] * 3)
        self.assertNotEqual(fresh["bodies"][0]["mesh"], now["bodies"][0]["mesh"])
        self.assertEqual(post(self.mira, f"/api/plates/{ident}/undo").json()["bodies"], now["bodies"])
        refused = post(self.mira, "/api/plates", {"printer": "heron", "filled": True})
        self.assertEqual((refused.status_code, refused.json()["code"], Plate.objects.count()), (409, "nothing-ready", 1))
        for case in (self.one, self.two):
            # A fold of the lower could not be mended.
            revision = Case.objects.get(pk=case.pk).revision
            yes(self.mira, case.number, revision, ["trim"])
        full = post(self.mira, "/api/plates", {"printer": "heron", "filled": True})
        other = full.json()
        names = {(b["case"], b["address"]) for b in full.json()["bodies"]}
        # What lies on the first plate does not come again; what has doubts left is not taken either.
        self.assertNotIn((self.one.number, "p1"), names)
        self.assertTrue(names)
        again = post(self.mira, f"/api/plates/{other['id']}/fill", {"base": other["revision"]})
        self.assertEqual((again.status_code, again.json()["code"]), (409, "nothing-ready"))
        self.assertEqual(post(self.mira, f"/api/plates/{other['id']}/undo").json()["bodies"], [])
        self.assertEqual(post(self.mira, f"/api/plates/{other['id']}/fill", {"base": other["revision"] + 1}).status_code, 200)
