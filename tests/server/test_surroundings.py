"""The surroundings fail: full disk, no memory, killed children, a missing library. It is said, nothing is half, and it is
tried again by itself; no such failure is kept as a result."""

from __future__ import annotations

import errno
import os
import signal
import threading
import time
from datetime import timedelta
from multiprocessing import forkserver
from pathlib import Path
from typing import Any
from unittest import TestCase
from unittest.mock import patch

from django.conf import settings
from django.db import OperationalError
from django.test import Client, override_settings
from django.utils import timezone

from bitecore.engine.task import Task, perform
from bitecore.errors import StepFailed
from bitecore.files import stl
from bitecore.runsheet import CASE, CaseDocument, MemoryStore, PieceEntry, evaluate, standard
from cases.models import Case
from ground.disk import is_full
from ground.errors import said
from runs.management.commands.bench_worker import _sweep
from runs.models import Result
from runs.turns import Desk
from tests.server.common import drop, pair, post
from tests.server.test_cases import ServerCase
from tests.server.test_owning import on_disk
from tests.server.test_work import WorkCase
from tests.shapes import light_jaws as jaws


class Full:
    """Blobs on a full disk."""

    def __init__(self, blobs: Any) -> None:
        self.read = blobs.read

    def write(self, data: bytes) -> str:
        raise OSError(errno.ENOSPC, "No space left on device")


class PerformTest(TestCase):
    def setUp(self) -> None:
        self.store = MemoryStore()
        digest = self.store.blobs.write(stl.write_binary(jaws(21)[1]))
        self.document = CaseDocument(pieces=[PieceEntry(id="p1", file="a.stl", sha256=digest)])

    def test_a_full_disk_is_no_result(self) -> None:
        good, self.store.blobs = self.store.blobs, Full(self.store.blobs)
        found = evaluate(self.document, CASE, self.store, until="base")
        self.assertEqual([(m.step, m.flags[0]["code"]) for m in found.passing], [("intake", "disk-full")])
        self.assertEqual(found.graph.node("intake", "p1").state, "failed")  # type: ignore[union-attr]
        self.store.blobs = good
        found = evaluate(self.document, CASE, self.store, until="base")
        self.assertEqual((found.passing, found.graph.node("base", "p1").state), ([], "done"))  # type: ignore[union-attr]

    def test_which_failures_are_the_scans_own(self) -> None:
        task = Task("k", "bitecore.runsheet.sheet", "intake", "p1", {"piece": "p1"}, {}, {"file": {"file": self.document.pieces[0].sha256}})
        for error, passing in (
            (MemoryError(), True), (OSError(errno.ENOSPC, ""), True), (OSError(errno.EIO, ""), True), (ImportError("libgomp"), True),
            (StepFailed("This border cannot be closed."), False),
        ):  # fmt: skip
            with patch("bitecore.engine.task._apply", side_effect=error):
                self.assertEqual(perform(task, standard(), self.store.blobs, None).passing, passing, repr(error))  # type: ignore[arg-type]


class RetryTest(WorkCase):
    def failing(self, step: str) -> Any:
        """The next result of a step is a failure of its surroundings."""
        from bitecore.engine.task import surroundings

        wait = Desk.wait

        def waits(desk: Desk, run: Any) -> Any:
            task, manifest = wait(desk, run)
            return task, surroundings(task, "disk-full", "The disk of the server is full.") if task.step == step else manifest

        return patch.object(Desk, "wait", waits)

    def test_it_is_said_not_kept_and_tried_again_by_itself(self) -> None:
        with self.failing("trim"):
            case = self.work(self.opened())
        self.assertEqual((case.needs_work, case.trouble, case.retries), (False, "Trim: The disk of the server is full.", 1))
        self.assertFalse(Result.objects.filter(step="trim").exists())
        shown = self.mira.get("/api/cases").json()[0]
        self.assertEqual((shown["waits"], shown["tone"]), (case.trouble, "look"))
        _sweep()
        case.refresh_from_db()
        self.assertFalse(case.needs_work, "not before its time")
        Case.objects.update(retry=timezone.now() - timedelta(seconds=1))
        _sweep()
        case = self.work(case)
        self.assertEqual((self.states(case)["plate/*"], case.trouble, case.retries), ("done", "", 0))

    def test_waits_grow_and_end_and_go_on_begins_anew(self) -> None:
        case, waits = self.opened(), []
        with self.failing("trim"):
            for retries in (0, 1, 5, 6, 7, 8):
                Case.objects.update(needs_work=True, retries=retries)
                case = self.work(case)
                waits.append(round((case.retry - timezone.now()).total_seconds()) if case.retry else None)
        self.assertEqual(waits, [15, 30, 480, 600, 600, None])
        post(self.mira, f"/api/cases/{case.number}/hold", {"held": False})
        self.assertEqual(self.states(self.work(case))["plate/*"], "done")

    def test_another_case_with_the_same_scan_does_not_inherit_it(self) -> None:
        with self.failing("trim"):
            self.work(self.opened())
        self.assertEqual(self.states(self.work(self.opened()))["plate/*"], "done")


class KilledTest(WorkCase):
    remembers = False

    def test_children_killed_again_and_again(self) -> None:
        """Every child that works on the case is killed for a while, as the system does where memory is short."""
        case, ended = self.opened(), threading.Event()

        def killer() -> None:
            while not ended.is_set():
                for path in Path("/proc").glob("[0-9]*/stat"):
                    try:
                        fields = path.read_text().rsplit(")", 1)[1].split()
                    except OSError:
                        continue
                    # Children of our own fork server that stand back: the pool's.
                    if fields[16] == "15" and fields[1] == str(forkserver._forkserver._forkserver_pid):  # type: ignore[attr-defined]
                        os.kill(int(path.parent.name), signal.SIGKILL)
                time.sleep(0.02)

        thread = threading.Thread(target=killer)
        thread.start()
        try:
            case = self.work(case)
        finally:
            ended.set()
            thread.join()
        self.assertIn("ended unexpectedly", case.trouble)
        self.assertFalse(Result.objects.filter(manifest__figure="failed").exists())
        post(self.mira, f"/api/cases/{case.number}/hold", {"held": False})
        self.assertEqual(self.states(self.work(case))["plate/*"], "done")


class DropTest(ServerCase):
    def test_no_room_for_a_drop_is_said_before_anything_is_kept(self) -> None:
        usage = type("Usage", (), {"free": 150_000_000})()
        with patch("ground.disk.shutil.disk_usage", return_value=usage):
            answer = drop(self.mira, *pair())
            self.assertTrue(Client().get("/api/health").json()["disk_free_mb"] == 150)
        self.assertEqual((answer.status_code, answer.json()["code"]), (507, "disk-full"))
        self.assertIn("150 MB left", answer.json()["message"])
        self.assertEqual((Case.objects.count(), on_disk()), (0, []))

    def test_full_in_the_middle_of_a_drop(self) -> None:
        full = OSError(errno.ENOSPC, "No space left on device")
        for where in ("cases.blobs._on_disk", "runs.owning.os.link", "bitecore.apart._answer"):
            with self.subTest(where), patch(where, side_effect=full), patch("bitecore.blobs.FolderBlobs.write", side_effect=full):
                answer = drop(self.mira, *pair())
                self.assertEqual((answer.status_code, answer.json()["code"]), (507, "disk-full"))
                self.assertEqual((Case.objects.count(), on_disk()), (0, []))
        self.assertEqual(drop(self.mira, *pair()).status_code, 200)

    def test_a_disk_that_fills_up_is_said_from_a_threshold(self) -> None:
        for low, free in ((False, 6_000_000_000), (True, 4_000_000_000)):
            usage = type("Usage", (), {"free": free})()
            with patch("ground.disk.shutil.disk_usage", return_value=usage), override_settings(BENCH_DISK_LOW_BYTES=5_000_000_000):
                self.assertEqual(Client().get("/api/health").json()["disk_low"], low)

    def test_the_databases_own_full_disk(self) -> None:
        import psycopg

        try:
            try:
                raise psycopg.errors.DiskFull("could not extend file")
            except psycopg.Error as cause:
                raise OperationalError("could not extend file") from cause
        except OperationalError as error:
            self.assertTrue(is_full(error))
            self.assertEqual(said(error).status_code, 507)
        self.assertFalse(is_full(OperationalError("connection refused")))

    def test_no_name_gets_into_the_log(self) -> None:
        with (
            patch("cases.services.change_details", side_effect=RuntimeError("Key (patient)=(Corwin Pellathorn)")),
            self.assertLogs("bench") as caught,
        ):
            number = self.opened()
            answer = post(self.mira, f"/api/cases/{number}/details", {"base": 1, "values": {"patient": "Corwin Pellathorn"}})
        self.assertEqual(answer.status_code, 500)
        text = "\n".join(caught.output)
        self.assertIn("RuntimeError", text)
        self.assertIn("cases/api.py", text)
        self.assertNotIn("Pellathorn", text)


class RestartTest(WorkCase):
    remembers = False

    def test_connections_that_were_cut_are_not_felt(self) -> None:
        """As a restart of the database does: every connection but this one is ended."""
        from django.db import connection

        case = self.opened(pair()[0])
        with connection.cursor() as cursor:
            cursor.execute(
                "select pg_terminate_backend(pid) from pg_stat_activity where pid <> pg_backend_pid() and datname = current_database()"
            )
        connection.close()
        for _ in range(8):
            self.assertEqual(self.mira.get(f"/api/cases/{case.number}").status_code, 200)
        self.assertEqual(settings.DATABASES["default"]["CONN_HEALTH_CHECKS"], True)
