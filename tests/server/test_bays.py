"""Plates on their way to a printer: a stand-in over its real HTTP interface, with every fault it can have."""

from __future__ import annotations

import hashlib
import io
import json
import threading
import zipfile
from typing import Any
from unittest import mock

import numpy as np
from django.test import override_settings
from django.utils import timezone
from PIL import Image
from procrastinate.contrib.django.models import ProcrastinateJob

from bays import printers, sending
from bays.following import follow
from bays.models import Bay, Print
from bays.sending import deliver
from cases.models import AuditLine, Case
from house.shelves import on
from runs.models import BlobUse
from runs.owning import sweep_orphans
from runs.work import work
from tests.printer import Printer
from tests.server.common import client, delete, post, yes
from tests.server.test_work import STEPS, WorkCase


class BayCase(WorkCase):
    """With one stand-in connected, as the Wren."""

    def setUp(self) -> None:
        super().setUp()
        self.printer = Printer()
        self.addCleanup(self.printer.close)
        connected = override_settings(BENCH_PRINTERS={"wren": self.printer.url})
        connected.enable()
        self.addCleanup(connected.disable)
        waits = mock.patch.object(sending, "_WAITS_S", (0.01, 0.01))
        waits.start()
        self.addCleanup(ProcrastinateJob.objects.all().delete)
        self.addCleanup(waits.stop)

    def ready(self) -> Case:
        case = self.work(self.opened())
        self.assertEqual(yes(self.mira, case.number, 1, STEPS).status_code, 200)
        return case

    def sent(self, case: Case) -> Print:
        answer = post(self.mira, "/api/bays/prints", {"case": case.number})
        self.assertEqual(answer.status_code, 200, answer.content)
        return Print.objects.get(pk=answer.json()["id"])

    def told(self, row: Print) -> dict[str, Any]:
        follow()
        return next(p for p in self.mira.get(f"/api/bays/prints?case={row.case.number}").json() if p["id"] == row.pk)


class BayTest(BayCase):
    def test_from_the_plate_to_the_finished_print(self) -> None:
        case = self.ready()
        row = self.sent(case)
        self.assertEqual((row.state, row.name), ("waiting", f"{case.number}_1"))
        self.assertTrue(ProcrastinateJob.objects.filter(queueing_lock=f"print-{row.pk}").exists())
        deliver(row.pk)
        row.refresh_from_db()
        arrived = (self.printer.folder / f"{row.name}.zip").read_bytes()
        self.assertEqual((row.state, row.sha256), ("printing", hashlib.sha256(arrived).hexdigest()))
        # Byte for byte what the case gives as layers.zip, and no person's name is in it.
        self.assertEqual(arrived, self.mira.get(f"/api/cases/{case.number}/layers.zip").content)
        with zipfile.ZipFile(io.BytesIO(arrived)) as archive:
            count = len(archive.namelist()) - 1
        now = self.told(row)
        self.assertEqual((now["layer"], now["layers"], now["takes_s"]), (0, count, now["seconds_left"]))
        # By this the page tells whether the plate is still the one that was sent.
        nodes = self.mira.get(f"/api/cases/{case.number}").json()["nodes"]
        self.assertEqual([n["good"]["sha256"] for n in nodes if n["step"] == "layers"], now["sent"])
        self.printer.let_pass(now["seconds_left"] / 2)
        half = self.told(row)
        self.assertTrue(0.3 * count < half["layer"] < 0.7 * count)
        self.printer.let_pass(half["seconds_left"] + 1)
        done = self.told(row)
        self.assertEqual((done["state"], done["layer"], done["says"]), ("done", count, ""))
        self.assertTrue(done["created"] <= done["began"] <= done["ended"])
        self.assertAlmostEqual(self.mira.get("/api/bays").json()[0]["resin_ml"], 1000 - done["resin_ml"], places=2)
        self.assertTrue(AuditLine.objects.filter(case_number=case.number, action="print").exists())

    def test_it_waits_for_every_yes_and_for_the_layers(self) -> None:
        case = self.work(self.opened())
        answer = post(self.mira, "/api/bays/prints", {"case": case.number})
        self.assertEqual((answer.status_code, answer.json()["code"]), (409, "not-accepted"))
        self.assertIn("Plate", answer.json()["message"])
        self.assertEqual(post(self.mira, "/api/bays/prints", {"case": "9999-99"}).status_code, 404)

    def test_a_broken_connection_is_tried_again_and_nothing_comes_twice(self) -> None:
        row = self.sent(self.ready())
        self.printer.break_after(5000)
        with mock.patch.object(printers, "_asked", wraps=printers._asked) as asked:
            deliver(row.pk)
        now = self.told(row)
        self.assertEqual(now["state"], "printing")
        # The second time only what had not arrived.
        sent = [call.args[4] for call in asked.call_args_list if call.args[1] == "PUT"]
        self.assertEqual([h.get("Content-Range") for h in sent], [None, f"bytes 5000-{now['bytes'] - 1}/{now['bytes']}"])
        self.assertEqual(self.printer.machine.jobs[row.name].sha256, now["sha256"])
        self.assertEqual(len(list(self.printer.folder.glob("*.zip"))), 1)
        self.assertEqual(list(self.printer.folder.glob("*.part")), [])

    def test_a_printer_that_stays_away_is_said_and_it_can_be_sent_again(self) -> None:
        row = self.sent(self.ready())
        with override_settings(BENCH_PRINTERS={"wren": "http://127.0.0.1:9"}):
            deliver(row.pk)
            now = self.told(row)
            self.assertEqual((now["state"], "broke 3 times" in now["says"]), ("failed", True))
            self.assertEqual(self.mira.get("/api/bays").json()[0]["state"], "silent")
        self.assertEqual(post(self.mira, f"/api/bays/prints/{row.pk}/again").json()["state"], "waiting")
        deliver(row.pk)
        self.assertEqual(self.told(row)["state"], "printing")

    def test_what_had_arrived_when_it_was_given_up_is_not_sent_again(self) -> None:
        row = self.sent(self.ready())
        with mock.patch.object(sending, "_WAITS_S", ()):
            self.printer.break_after(7000)
            deliver(row.pk)
        self.assertEqual(self.told(row)["state"], "failed")
        with mock.patch.object(printers, "_asked", wraps=printers._asked) as asked:
            post(self.mira, f"/api/bays/prints/{row.pk}/again")
            deliver(row.pk)
        self.assertEqual(self.told(row)["state"], "printing")
        sent = [call.args[4]["Content-Range"].split("-")[0] for call in asked.call_args_list if call.args[1] == "PUT"]
        self.assertEqual(sent, ["bytes 7000"])

    def test_it_is_paused_and_goes_on_at_its_layer(self) -> None:
        row = self.sent(self.ready())
        early = post(self.mira, f"/api/bays/prints/{row.pk}/pause")
        self.assertEqual((early.status_code, early.json()["code"]), (409, "not-printing"))
        deliver(row.pk)
        self.printer.let_pass(100)
        before = self.told(row)
        self.assertEqual(post(self.mira, f"/api/bays/prints/{row.pk}/pause").json()["state"], "paused")
        self.printer.let_pass(1000)
        now = self.told(row)
        self.assertEqual((now["state"], now["layer"], now["seconds_left"]), ("paused", before["layer"], before["seconds_left"]))
        self.assertEqual(self.mira.get("/api/bays").json()[0]["says"], "It is paused.")
        # Switched off meanwhile it is still paused.
        self.printer.switched_off_and_on()
        self.assertEqual(self.told(row)["state"], "paused")
        self.assertEqual(post(self.mira, f"/api/bays/prints/{row.pk}/resume").json()["state"], "printing")
        self.printer.let_pass(1e6)
        self.assertEqual(self.told(row)["state"], "done")
        late = post(self.mira, f"/api/bays/prints/{row.pk}/pause")
        self.assertEqual(late.json()["code"], "not-printing")
        with override_settings(BENCH_PRINTERS={"wren": "http://127.0.0.1:9"}):
            Print.objects.filter(pk=row.pk).update(state="printing")
            self.assertEqual(post(self.mira, f"/api/bays/prints/{row.pk}/pause").json()["code"], "bay-silent")

    def test_an_open_door_is_said_and_it_goes_on(self) -> None:
        row = self.sent(self.ready())
        deliver(row.pk)
        self.printer.let_pass(100)
        self.printer.machine.meet("door")
        now = self.told(row)
        self.assertEqual((now["state"], now["says"]), ("stopped", "The door is open."))
        self.printer.machine.meet("")
        self.assertEqual((self.told(row)["state"], self.told(row)["says"]), ("printing", ""))
        self.printer.machine.fill(0)
        self.assertEqual(self.told(row)["says"], "The bottle is empty.")

    def test_faults_are_practised_on_a_stand_in_and_the_print_goes_on_after_each(self) -> None:
        row = self.sent(self.ready())
        deliver(row.pk)
        self.assertEqual(self.told(row)["state"], "printing")

        def switch(kind: str) -> dict[str, Any]:
            answer = post(self.mira, "/api/bays/wren/fault", {"kind": kind})
            self.assertEqual(answer.status_code, 200, answer.content)
            found: dict[str, Any] = answer.json()
            return found

        for kind, words in (("door", "door"), ("cold", "too cold"), ("layer", "came off"), ("resin", "bottle is empty")):
            said = switch(kind)
            self.assertEqual((said["state"], said["fault"]), ("stopped", kind))
            before = self.told(row)
            self.printer.let_pass(50)
            now = self.told(row)
            self.assertEqual((now["state"], now["layer"]), ("stopped", before["layer"]), kind)
            self.assertIn(words, now["says"])
            switch("fill" if kind == "resin" else "none")
            self.printer.let_pass(50)
            self.assertGreater(self.told(row)["layer"], before["layer"])
        before = self.told(row)
        self.assertEqual(switch("power")["state"], "silent")
        self.printer.let_pass(500)
        self.assertEqual(self.told(row)["layer"], before["layer"])
        self.assertEqual(switch("none")["state"], "printing")
        self.printer.let_pass(1e6)
        self.assertEqual(self.told(row)["state"], "done")
        self.assertEqual(post(self.mira, "/api/bays/wren/fault", {"kind": "fire"}).status_code, 422)
        self.assertEqual(post(self.mira, "/api/bays/rook/fault", {"kind": "door"}).json()["code"], "no-stand-in")
        # What does not say of itself that it is a stand-in is left alone.
        Bay.objects.update(said={"state": "idle"})
        self.assertEqual(post(self.mira, "/api/bays/wren/fault", {"kind": "door"}).json()["code"], "no-stand-in")

    def test_it_is_called_by_the_pattern_of_the_house_and_by_nobodys_name(self) -> None:
        cases = [self.work(self.opened()) for _ in range(2)]
        for case in cases:
            body = {"base": 1, "step": "takes", "values": {"job": "{date} {printer}"}}
            self.assertEqual(post(self.mira, f"/api/cases/{case.number}/settings", body).status_code, 200)
            self.work(Case.objects.get(pk=case.pk))
            self.assertEqual(yes(self.mira, case.number, 2, STEPS).status_code, 200)
        today = timezone.localdate().isoformat()
        self.assertEqual([self.sent(case).name for case in cases], [f"{today}-Wren_1", f"{today}-Wren_2"])
        for wrong, said in (("{patient}", "does not leave"), ("{number", "brace"), ("", "")):
            body = {"base": 3, "step": "takes", "values": {"job": wrong}}
            answer = post(self.mira, f"/api/cases/{cases[0].number}/settings", body)
            self.assertEqual((answer.status_code, said in answer.json()["message"]), (422, True), answer.content)

    def test_a_queue_one_after_the_other(self) -> None:
        first, second = self.sent(self.ready()), self.sent(self.ready())
        deliver(first.pk)
        deliver(second.pk)
        self.assertEqual((self.told(first)["state"], self.told(second)["state"]), ("printing", "arrived"))
        self.printer.let_pass(1e6)
        self.told(first)
        self.assertEqual((self.told(first)["state"], self.told(second)["state"]), ("done", "printing"))

    def test_the_same_plate_is_not_sent_twice_and_can_be_taken_back(self) -> None:
        case = self.ready()
        row = self.sent(case)
        self.assertEqual(post(self.mira, "/api/bays/prints", {"case": case.number}).json()["code"], "sent-already")
        self.assertEqual(post(self.mira, f"/api/bays/prints/{row.pk}/cancel").json()["state"], "cancelled")
        deliver(row.pk)
        self.assertEqual(list(self.printer.folder.glob("*.zip")), [])
        again = self.sent(case)
        deliver(again.pk)
        self.assertEqual(post(self.mira, f"/api/bays/prints/{again.pk}/cancel").json()["state"], "cancelled")
        self.assertEqual(self.printer.machine.jobs[again.name].state, "cancelled")

    def test_what_was_sent_is_printed_though_its_plate_has_changed_meanwhile(self) -> None:
        case = self.ready()
        before = self.mira.get(f"/api/cases/{case.number}/layers.zip").content
        row = self.sent(case)
        case.refresh_from_db()
        change = {"base": case.revision, "step": "plate", "values": {"gap_mm": 8.0}}
        self.assertEqual(post(self.mira, f"/api/cases/{case.number}/settings", change).status_code, 200)
        self.work(case)
        sweep_orphans(grace_s=-1)
        deliver(row.pk)
        self.assertEqual((self.printer.folder / f"{row.name}.zip").read_bytes(), before)
        self.assertEqual(self.told(row)["state"], "printing")

    def test_what_is_not_kept_any_more_is_said(self) -> None:
        row = self.sent(self.ready())
        Print.objects.filter(pk=row.pk).update(spec={})
        deliver(row.pk)
        now = self.told(row)
        self.assertEqual((now["state"], "not kept any more" in now["says"]), ("failed", True))

    def test_a_dead_worker_and_a_printer_that_forgot(self) -> None:
        row = self.sent(self.ready())
        ProcrastinateJob.objects.all().delete()
        follow()
        self.assertTrue(ProcrastinateJob.objects.filter(queueing_lock=f"print-{row.pk}").exists())
        Print.objects.filter(pk=row.pk).update(state="sending")
        deliver(row.pk)
        self.assertEqual(self.told(row)["state"], "printing")
        self.printer.machine.cancel(row.name)
        self.printer.machine.forget(row.name)
        now = self.told(row)
        self.assertEqual((now["state"], "does not know" in now["says"]), ("failed", True))

    def test_strangers_and_printers_that_are_not_connected(self) -> None:
        case = self.ready()
        with override_settings(BENCH_PRINTERS={}):
            answer = post(self.mira, "/api/bays/prints", {"case": case.number}).json()
            self.assertEqual((answer["code"], "not connected" in answer["message"]), ("no-bay", True))
            self.assertEqual(self.mira.get("/api/bays").json(), [])
        self.assertEqual(post(self.mira, "/api/bays/prints/99999/again").status_code, 404)
        self.assertEqual(self.client.get("/api/bays").status_code, 401)
        self.assertEqual(self.client.get("/api/bays/prints").status_code, 401)
        # A colleague sees it, and goes on with it.
        row = self.sent(case)
        self.assertEqual(post(client("tove"), f"/api/bays/prints/{row.pk}/cancel").json()["state"], "cancelled")

    def test_a_plate_of_two_cases_is_printed_as_it_lies(self) -> None:
        one, two = self.ready(), self.work(self.opened())
        wren = on("printer")["wren"]
        changed = {"id": "wren", "name": wren.name, "steps": {}, "data": {**wren.data, "grey_parts": 4, "thick_layer_mm": 0.2}}
        self.assertEqual(post(client("tove"), "/api/house/shelves/printer", changed).status_code, 200)
        plate = post(self.mira, "/api/plates", {"printer": "wren"}).json()
        ident = plate["id"]
        for case in (one, two):
            plate = post(
                self.mira, f"/api/plates/{ident}/bodies", {"base": plate["revision"], "case": case.number, "addresses": ["p2"]}
            ).json()
        # In two heights, with grey edges: what is sent is made of more blobs then.
        values = {"layer_mm": 0.1, "thick_mm": "0.2", "edges": "grey"}
        plate = post(self.mira, f"/api/plates/{ident}/settings", {"base": plate["revision"], "step": "pack", "values": values}).json()
        work("plate", ident, 0, threading.Event())
        refused = post(self.mira, "/api/bays/prints", {"plate": ident})
        self.assertEqual((refused.status_code, refused.json()["code"]), (409, "not-accepted"))
        waits = {two.number: ["Intake", "Bite", "Level", "Trim", "Base"]}
        self.assertEqual(refused.json()["missing"], waits)
        said = f"Printing waits for a yes in {two.number} (Intake, Bite, Level, Trim, Base)."
        self.assertEqual(refused.json()["message"], said)
        self.assertEqual(self.mira.get(f"/api/plates/{ident}").json()["waits"], waits)
        yes(self.mira, two.number, 1, STEPS)
        self.assertEqual(self.mira.get(f"/api/plates/{ident}").json()["waits"], {})
        made = post(self.mira, "/api/bays/prints", {"plate": ident}).json()
        self.assertEqual((made["name"], made["plate"], made["case"]), (f"plate-{ident}_1", ident, ""))
        self.assertEqual(post(self.mira, "/api/bays/prints", {"plate": ident}).json()["code"], "sent-already")
        deliver(made["id"])
        arrived = (self.printer.folder / f"{made['name']}.zip").read_bytes()
        self.assertEqual(arrived, self.mira.get(f"/api/plates/{ident}/layers.zip").content)
        with zipfile.ZipFile(io.BytesIO(arrived)) as archive:
            first = np.asarray(Image.open(io.BytesIO(archive.read("00000.png"))))
            area = json.loads(archive.read("layers.json"))["layers"][0]["area_mm2"]
        # A printer that takes grey got it: pixels at edges are lit by their share.
        self.assertTrue(((first > 0) & (first < 255)).any())
        self.assertAlmostEqual(first.sum() / 255 * 0.05**2 / area, 1, places=3)
        ends = self.mira.get(f"/api/plates/{ident}/layers.json").json()["ends_mm"]
        self.assertGreater(ends[0], 0.19)
        follow()
        (row,) = self.mira.get(f"/api/bays/prints?plate={ident}").json()
        self.assertEqual((row["state"], row["sha256"]), ("printing", hashlib.sha256(arrived).hexdigest()))
        self.assertEqual({line.case_number for line in AuditLine.objects.filter(action="print")}, {one.number, two.number})
        post(self.mira, f"/api/bays/prints/{row['id']}/cancel")
        self.assertEqual(post(self.mira, f"/api/bays/prints/{row['id']}/again").json()["name"], f"plate-{ident}_2")
        self.assertEqual(delete(self.mira, f"/api/plates/{ident}").json()["code"], "was-printed")
        # Whatever becomes of the plate, what was sent is sent again to the byte: all it is made of is kept.
        row_sent = Print.objects.get(pk=row["id"])
        made_of = {word for each in row_sent.sent for word in each.split() if len(word) == 64}
        self.assertEqual(len(made_of), 8)
        self.assertEqual(made_of - set(BlobUse.objects.filter(owner=row_sent.of.owner).values_list("sha256", flat=True)), set())
        post(self.mira, f"/api/plates/{ident}/off", {"base": plate["revision"], "bodies": ["b1"]})
        work("plate", ident, 0, threading.Event())
        sweep_orphans(grace_s=-1)
        deliver(row["id"])
        follow()
        self.printer.let_pass(1e6)
        follow()
        done = Print.objects.get(pk=row["id"])
        self.assertEqual((done.state, done.sha256), ("done", row["sha256"]))
        more = post(self.mira, f"/api/bays/prints/{row['id']}/again").json()
        self.assertEqual((more["name"], more["state"]), (f"plate-{ident}_3", "waiting"))
        deliver(more["id"])
        self.assertEqual(Print.objects.get(pk=more["id"]).sha256, row["sha256"])
