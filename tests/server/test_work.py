"""The worker's side: a case is worked out, changes overtake, views are made, and what was lost is taken up again."""

from __future__ import annotations

import asyncio
import contextlib
import io
import threading
import time
import zipfile

import trimesh
from django.test import AsyncClient, TransactionTestCase
from django.utils import timezone

from bitecore.runsheet import standard
from cases.models import Case
from runs.models import Result
from runs.services import look
from runs.work import MOST_ATTEMPTS, work
from tests.known import remembered
from tests.server.common import clear_state, client, drop, pair, people, post, scan, yes
from tests.shapes import light_jaws as jaws

STEPS = [step.name for step in standard().shown if not step.on_demand]


class WorkCase(TransactionTestCase):
    """remembers : what another test has worked out is known (see tests/known.py)."""

    remembers = True

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        if cls.remembers:
            cls.enterClassContext(remembered())

    def setUp(self) -> None:
        clear_state()
        people()
        self.mira = client("mira")

    def opened(self, *files: tuple[str, bytes]) -> Case:
        return Case.objects.get(number=drop(self.mira, *(files or pair())).json()["number"])

    def work(self, case: Case, attempts: int = 0) -> Case:
        work("case", case.pk, attempts, threading.Event())
        case.refresh_from_db()
        return case

    def states(self, case: Case) -> dict[str, str]:
        return {n["id"]: n["state"] for n in self.mira.get(f"/api/cases/{case.number}").json()["nodes"]}


class WorkTest(WorkCase):
    remembers = False

    def test_from_the_drop_to_the_files(self) -> None:
        case = self.work(self.opened())
        self.assertFalse(case.needs_work)
        states = self.states(case)
        self.assertEqual((states.pop("hand-off/*"), states.pop("measured/*")), ("todo", "todo"))
        off = {name.split("/")[0] for name, state in states.items() if state == "off"}
        self.assertEqual(off, {"touch", "marked", "reduce", "hollow", "label", "articulate", "dies", "join", "attach"})
        self.assertLessEqual(set(states.values()), {"done", "look", "off"})
        # Every step once, those of the jaws and their bodies twice.
        self.assertEqual(
            len(states), len({s.name for s in standard().steps} - {"again", "follow", "returned", "hand-off", "measured"}) + 24
        )
        data = yes(self.mira, case.number, 1, STEPS).json()
        self.assertEqual(data["accepted"], {step: [] for step in STEPS})
        data = post(self.mira, f"/api/cases/{case.number}/accept", {"base": 2, "steps": ["trim"], "accepted": False}).json()
        self.assertNotIn("trim", data["accepted"])
        self.assertEqual(post(self.mira, f"/api/cases/{case.number}/hand-off").json()["missing"], ["Trim"])
        yes(self.mira, case.number, 3, ["trim"])
        self.assertEqual(post(self.mira, f"/api/cases/{case.number}/hand-off").status_code, 200)
        self.work(case)
        answer = self.mira.get(f"/api/cases/{case.number}/files.zip")
        with zipfile.ZipFile(io.BytesIO(answer.content)) as archive:
            names = sorted(archive.namelist())
            self.assertEqual(names, [f"{case.number}_all.3mf", f"{case.number}_lower.stl", f"{case.number}_upper.stl"])
            for name in names[1:]:
                self.assertTrue(trimesh.load(io.BytesIO(archive.read(name)), file_type="stl").is_watertight)
        one = self.mira.get(f"/api/cases/{case.number}/files/{names[1]}")
        base = self.mira.get(f"/api/cases/{case.number}").json()["revision"]
        values = {"folder": "{date}/{number}"}
        post(self.mira, f"/api/cases/{case.number}/settings", {"base": base, "step": "hand-off", "piece": "*", "values": values})
        self.work(Case.objects.get(pk=case.pk))
        with zipfile.ZipFile(io.BytesIO(self.mira.get(f"/api/cases/{case.number}/files.zip").content)) as archive:
            today = timezone.localdate().isoformat()
            self.assertIn(f"{today}/{case.number}/{names[1]}", archive.namelist())
        self.assertIn(f'filename="{names[1]}"', one["Content-Disposition"])
        missing = self.mira.get(f"/api/cases/{case.number}/files/..%2F..%2Fetc%2Fpasswd")
        self.assertEqual(missing.status_code, 404)
        tray = self.mira.get("/api/cases").json()[0]
        self.assertEqual((tray["waits"], tray["tone"]), ("Files are made", "calm"))
        self.assertEqual(self.mira.get(f"/api/pictures/{tray['picture']}.png").status_code, 200)

    def test_undo_needs_no_work(self) -> None:
        case = self.work(self.opened())
        post(self.mira, f"/api/cases/{case.number}/settings", {"base": 1, "step": "base", "values": {"thickness_mm": 4.0}})
        case.refresh_from_db()
        self.assertTrue(case.needs_work)
        states = self.states(case)
        self.assertEqual((states["base/p1"], states["trim/p1"]), ("stale", "done"))  # the last good body stays on the stage
        good = next(n for n in self.mira.get(f"/api/cases/{case.number}").json()["nodes"] if n["id"] == "base/p1")["good"]
        self.assertRegex(good["body"], "^[0-9a-f]{64}$")
        self.work(case)
        count = Result.objects.count()
        post(self.mira, f"/api/cases/{case.number}/undo")
        case.refresh_from_db()
        self.assertFalse(case.needs_work)
        self.assertEqual((set(self.states(case).values()) & {"stale", "working"}, Result.objects.count()), (set(), count))

    def test_a_change_in_the_middle_overtakes(self) -> None:
        case = self.opened()
        worker = threading.Thread(target=work, args=("case", case.pk, 0, threading.Event()))
        worker.start()
        end = time.monotonic() + 180
        while time.monotonic() < end and not Result.objects.filter(step="level").exists():
            time.sleep(0.02)
        post(self.mira, f"/api/cases/{case.number}/settings", {"base": 1, "step": "trim", "values": {"ease_mm": 1.7}})
        worker.join(90)
        self.assertFalse(worker.is_alive())
        case.refresh_from_db()
        node = look(case).node("trim", "p1")
        self.assertEqual((case.needs_work, node.state, node.task.settings["ease_mm"]), (False, "done", 1.7))

    def test_cancel_and_go_on(self) -> None:
        case = self.opened()
        post(self.mira, f"/api/cases/{case.number}/hold", {"held": True})
        self.work(case)
        self.assertEqual(Result.objects.count(), 0)
        self.assertEqual(self.mira.get("/api/cases").json()[0]["waits"], "Stopped by hand: go on when you like")
        post(self.mira, f"/api/cases/{case.number}/hold", {"held": False})
        self.assertEqual(self.states(self.work(case))["plate/*"], "done")

    def test_a_job_that_keeps_dying_is_given_up_in_words(self) -> None:
        case = self.work(self.opened(), attempts=MOST_ATTEMPTS)
        data = self.mira.get(f"/api/cases/{case.number}").json()
        self.assertIn("ended several times", data["trouble"])
        post(self.mira, f"/api/cases/{case.number}/hold", {"held": False})
        self.assertEqual(self.states(self.work(case))["plate/*"], "done")
        self.assertEqual(self.mira.get(f"/api/cases/{case.number}").json()["trouble"], "")

    def test_every_need_has_a_job(self) -> None:
        from procrastinate.contrib.django.models import ProcrastinateJob

        from runs.management.commands.bench_worker import _sweep

        case = self.opened(("s.stl", scan(jaws(21)[1])))
        self.assertEqual(ProcrastinateJob.objects.filter(lock=f"case-{case.pk}", status="todo").count(), 1)
        post(self.mira, f"/api/cases/{case.number}/settings", {"base": 1, "step": "base", "values": {"thickness_mm": 4.0}})
        self.assertEqual(ProcrastinateJob.objects.filter(lock=f"case-{case.pk}", status="todo").count(), 1)
        ProcrastinateJob.objects.all()._raw_delete("default")
        _sweep()
        self.assertEqual(ProcrastinateJob.objects.filter(lock=f"case-{case.pk}", status="todo").count(), 1)


class DeadWorkerTest(WorkCase):
    remembers = False

    def after(self, doing: str) -> list[tuple[str, str]]:
        """(lock, status) of the jobs after the watch has looked at a job that was being done, beside one that waits."""
        from django.db import connection
        from procrastinate.contrib.django import app
        from procrastinate.contrib.django.models import ProcrastinateJob

        from runs.management.commands import bench_worker
        from runs.tasks import STARTED

        case = self.opened(("s.stl", scan(jaws(21)[1])))
        with connection.cursor() as cursor:
            cursor.execute("UPDATE procrastinate_jobs SET status = 'doing', worker_id = NULL RETURNING id")
            number = cursor.fetchone()[0]
            if doing == "dead":
                cursor.execute("INSERT INTO procrastinate_workers (last_heartbeat) VALUES (now() - interval '1 hour') RETURNING id")
                cursor.execute("UPDATE procrastinate_jobs SET worker_id = %s", [cursor.fetchone()[0]])
        if doing == "lost":
            STARTED.add(number)
            self.addCleanup(STARTED.discard, number)
        post(self.mira, f"/api/cases/{case.number}/settings", {"base": 1, "step": "base", "values": {"thickness_mm": 3.0}})

        async def watch() -> None:
            worker_app = app.with_connector(app.connector.get_worker_connector())
            async with worker_app.open_async():
                task = asyncio.create_task(bench_worker._watch(worker_app))
                await asyncio.sleep(6.5)
                task.cancel()

        asyncio.run(watch())
        return sorted(ProcrastinateJob.objects.filter(lock=f"case-{case.pk}").values_list("lock", "status"))

    def test_a_dead_workers_job_beside_one_that_waits(self) -> None:
        """Taken up it would stand there twice; left alone it would hold the case for ever."""
        self.assertEqual([status for _, status in self.after("dead")], ["todo"])

    def test_a_job_that_ended_while_the_database_was_away(self) -> None:
        self.assertEqual([status for _, status in self.after("lost")], ["todo"])


class CutOffTest(TransactionTestCase):
    def test_takers_cut_off_in_the_middle_of_a_question_begin_anew(self) -> None:
        from django.db import connection
        from procrastinate.contrib.django import app
        from procrastinate.contrib.django.models import ProcrastinateJob

        from runs.management.commands.bench_worker import take
        from runs.services import FRONT, VIEW_TASK

        with connection.cursor() as cursor:
            cursor.execute("SELECT pid FROM pg_stat_activity WHERE datname = current_database()")
            ours = ", ".join(str(pid) for (pid,) in cursor.fetchall())

        def cut() -> None:
            with contextlib.closing(connection), connection.cursor() as cursor:
                # Within one call of the server, so that every question of the takers is met somewhere.
                cursor.execute(
                    "DO $$ BEGIN FOR k IN 1..800 LOOP PERFORM pg_terminate_backend(pid) FROM pg_stat_activity"
                    f" WHERE datname = current_database() AND pid NOT IN (pg_backend_pid(), {ours});"
                    " PERFORM pg_sleep(0.005); END LOOP; END $$"
                )

        def waits(job: int) -> bool:
            with contextlib.closing(connection):
                return ProcrastinateJob.objects.filter(id=job, status="todo").exists()

        async def serve() -> bool:
            worker_app = app.with_connector(app.connector.get_worker_connector())
            async with worker_app.open_async():
                taker = asyncio.create_task(take(worker_app, FRONT, 1, pause=0.1))
                await asyncio.to_thread(cut)
                job = await worker_app.configure_task(VIEW_TASK, queue=FRONT).defer_async(digest="0" * 64)
                for _ in range(900):
                    await asyncio.sleep(0.1)
                    if not (left := await asyncio.to_thread(waits, job)):
                        break
                taker.cancel()
                await asyncio.gather(taker, return_exceptions=True)
            return left

        self.assertFalse(asyncio.run(serve()))


class MeshTest(TransactionTestCase):
    """HTTP facts: RFC 9110, sections 8.8.3 (ETag), 13.1.2 (If-None-Match) and 14 (Range)."""

    async def test_streamed_with_etag_and_range(self) -> None:
        from asgiref.sync import sync_to_async

        def prepare() -> tuple[str, str]:
            clear_state()
            people()
            mira = client("mira")
            number = drop(mira, ("s.stl", scan(jaws(21)[1]))).json()["number"]
            work("case", Case.objects.get(number=number).pk, 0, threading.Event())
            node = next(n for n in mira.get(f"/api/cases/{number}").json()["nodes"] if n["id"] == "intake/p1")
            return node["good"]["mesh"], mira.cookies["sessionid"].value

        digest, session = await sync_to_async(prepare, thread_sensitive=True)()
        web = AsyncClient()
        web.cookies["sessionid"] = session

        async def get(path: str, **headers: str) -> tuple:
            answer = await web.get(path, headers=headers)
            body = b"".join([part async for part in answer]) if answer.streaming else answer.content
            return answer, body

        whole, body = await get(f"/api/meshes/{digest}/full.glb")
        self.assertEqual((whole.status_code, body[:4], whole["Content-Length"]), (200, b"glTF", str(len(body))))
        again, _ = await get(f"/api/meshes/{digest}/full.glb", **{"If-None-Match": whole["ETag"]})
        self.assertEqual(again.status_code, 304)
        part, some = await get(f"/api/meshes/{digest}/full.glb", Range="bytes=100-199")
        self.assertEqual((part.status_code, some, part["Content-Range"]), (206, body[100:200], f"bytes 100-199/{len(body)}"))
        _light, small = await get(f"/api/meshes/{digest}/light.glb")
        self.assertLess(len(small), len(body))
        for path in (f"/api/meshes/{'0' * 64}/full.glb", f"/api/meshes/{digest}/huge.glb", "/api/meshes/..%2f..%2fx/full.glb"):
            answer, _ = await get(path)
            self.assertEqual(answer.status_code, 404, path)
