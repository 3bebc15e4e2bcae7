"""What a case owns: references promised with it, nothing left after deletion, nothing lost to somebody else's."""

from __future__ import annotations

import threading
from pathlib import Path
from unittest.mock import patch

from django.conf import settings
from django.contrib.auth.models import User
from django.db import connections
from django.test import AsyncClient

from bitecore.blobs import FolderBlobs
from bitecore.engine.store import Manifest
from cases import keeping, services
from cases.blobs import dropped
from cases.models import AuditLine, Case
from runs import owning
from runs.models import BlobUse, Owner, Result, ResultBlob, ResultUse
from tests.server.common import drop, pair, post, yes
from tests.server.test_work import STEPS, WorkCase


def on_disk() -> list[str]:
    """Every file of the installation that belongs to cases."""
    roots = (settings.BLOB_ROOT, settings.VIEW_ROOT, settings.INCOMING_ROOT)
    return sorted(str(p.relative_to(settings.STATE)) for root in roots for p in Path(root).rglob("*") if p.is_file())


class DeletionTest(WorkCase):
    def tove(self) -> User:
        return User.objects.get(username="tove")

    def test_nothing_of_a_deleted_case_is_left_or_served(self) -> None:
        case = self.work(self.opened())
        number = case.number
        # Handed off under one name and another, with a corrected setting in between.
        base = case.revision
        for name in ("Ilse Marrowby", "Bram Oxenhale"):
            base = post(self.mira, f"/api/cases/{number}/details", {"base": base, "values": {"patient": name}}).json()["revision"]
            base = yes(self.mira, number, base, STEPS).json()["revision"]
            post(self.mira, f"/api/cases/{number}/hand-off")
            self.work(case)
            values = {"thickness_mm": 3.0}
            base = post(self.mira, f"/api/cases/{number}/settings", {"base": base, "step": "base", "values": values}).json()["revision"]
            self.work(case)
        # A scan that was refused, one that came twice, one in inches that stands beside.
        drop(self.mira, ("bad.stl", b"?"), ("a.stl", pair()[0][1]), to=f"/api/cases/{number}/drop")
        self.assertGreater(len(on_disk()), 20)
        keeping.delete(self.tove(), number)
        self.assertEqual(on_disk(), [])
        self.assertFalse(Owner.objects.exists() or Result.objects.exists() or ResultBlob.objects.exists() or BlobUse.objects.exists())

    def test_what_another_case_needs_stays(self) -> None:
        one = self.work(self.opened())
        two = self.work(self.opened())
        before = {n["id"]: n["good"] for n in self.mira.get(f"/api/cases/{two.number}").json()["nodes"]}
        keeping.delete(self.tove(), one.number)
        after = self.mira.get(f"/api/cases/{two.number}").json()
        self.assertEqual({n["id"]: n["good"] for n in after["nodes"]}, before)
        for use in ResultUse.objects.filter(owner=two.owner_id):
            for blob in use.result.blobs.all():
                self.assertTrue(FolderBlobs(settings.BLOB_ROOT).path(blob.sha256).exists())
        keeping.delete(self.tove(), two.number)
        self.assertEqual(on_disk(), [])

    def test_a_drop_on_its_way_keeps_its_scan(self) -> None:
        """The other case with the same scan is deleted between judging and answering."""
        number = self.opened().number

        def takes(owner_id: int, files: object) -> None:
            keeping.delete(self.tove(), number)
            self.assertEqual([p for p in on_disk() if p.startswith("blobs")], [])
            owning.take_files(owner_id, files)  # type: ignore[arg-type]

        from django.core.files.base import ContentFile

        with dropped([ContentFile(data, name=name) for name, data in pair()]) as found, patch.object(services, "take_files", takes):
            case = services.open_case(self.tove(), found.scans)
        for piece in self.mira.get(f"/api/cases/{case.number}").json()["pieces"]:
            self.assertTrue(FolderBlobs(settings.BLOB_ROOT).path(piece["sha256"]).exists())

    def test_deletions_and_drops_of_the_same_scans_at_once(self) -> None:
        """By two threads for a while: every drop that was answered has its scans."""
        numbers: list[str] = []
        ended = threading.Event()

        def deleter() -> None:
            try:
                while not ended.is_set() or numbers[:-1]:
                    if len(numbers) > 1:
                        keeping.delete(self.tove(), numbers.pop(0))
            finally:
                connections.close_all()

        thread = threading.Thread(target=deleter)
        thread.start()
        try:
            for _ in range(12):
                numbers.append(drop(self.mira, *pair()).json()["number"])
                for piece in self.mira.get(f"/api/cases/{numbers[-1]}").json()["pieces"]:
                    self.assertTrue(FolderBlobs(settings.BLOB_ROOT).path(piece["sha256"]).exists())
        finally:
            ended.set()
            thread.join()
        self.assertEqual(Case.objects.count(), 1)

    def test_a_case_deleted_while_it_is_worked_on(self) -> None:
        case = self.opened()
        worker = threading.Thread(target=self.worked, args=(case.pk,))
        worker.start()
        while not Result.objects.exists():
            threading.Event().wait(0.02)
        keeping.delete(self.tove(), case.number)
        worker.join(60)
        self.assertFalse(worker.is_alive())
        owning.sweep_orphans(grace_s=0)
        self.assertEqual(on_disk(), [])

    def worked(self, pk: int) -> None:
        from runs.work import work

        try:
            work("case", pk, 0, threading.Event())
        finally:
            connections.close_all()

    def test_a_number_is_never_given_again(self) -> None:
        first = self.opened().number
        second = self.opened().number
        keeping.delete(self.tove(), second)
        third = self.opened().number
        self.assertEqual(len({first, second, third}), 3)
        self.assertEqual(AuditLine.objects.filter(case_number=second).count(), 1)


class OrphanTest(WorkCase):
    def test_what_nobody_needs_goes_after_its_grace(self) -> None:
        case = self.work(self.opened(pair()[0]))
        before = on_disk()
        stray = FolderBlobs(settings.BLOB_ROOT).write(b"left by a step that was taken back")
        (settings.INCOMING_ROOT / "broken-off").mkdir(parents=True)
        (settings.INCOMING_ROOT / "broken-off" / "scan").write_bytes(b"x")
        owning.sweep_orphans()
        self.assertTrue(FolderBlobs(settings.BLOB_ROOT).path(stray).exists(), "within its grace it may be somebody's")
        owning.sweep_orphans(grace_s=-1)
        self.assertEqual(on_disk(), before)
        self.assertEqual(self.work(case).needs_work, False)

    def test_above_the_limit_what_earlier_settings_gave_goes_first(self) -> None:
        case = self.opened(pair()[0])
        for revision in range(1, 4):
            self.work(case)
            values = {"base": revision, "step": "base", "values": {"thickness_mm": 2.0 + revision}}
            post(self.mira, f"/api/cases/{case.number}/settings", values)
        case = self.work(case)
        shown = {n["id"]: n["good"] for n in self.mira.get(f"/api/cases/{case.number}").json()["nodes"]}
        bodies, size = Result.objects.filter(step="base").count(), owning._kept_bytes()
        self.assertEqual(bodies, 4)
        self.assertEqual(owning.drop_unpinned(size - 1), 0, "within the hour nothing goes")
        self.assertGreater(owning.drop_unpinned(size - 1, grace_s=0), 0)
        self.assertLess(owning._kept_bytes(), size)
        owning.drop_unpinned(0, grace_s=0)
        # What stands on the run sheet stays, however low the limit.
        self.assertEqual(Result.objects.filter(step="base").count(), 1)
        after = self.mira.get(f"/api/cases/{case.number}").json()
        self.assertEqual({n["id"]: n["good"] for n in after["nodes"]}, shown)
        post(self.mira, f"/api/cases/{case.number}/undo")
        self.assertEqual(self.states(self.work(case))["base/p1"], "done")

    def test_uses_of_an_older_installation_are_counted_first(self) -> None:
        from runs.services import count_uses

        case = self.work(self.opened(pair()[0]))
        ResultUse.objects.all().delete()
        Owner.objects.update(counted=False)
        owning.sweep_orphans(grace_s=-1)
        self.assertTrue(Result.objects.exists())
        count_uses(case)
        before = Result.objects.count()
        owning.sweep_orphans(grace_s=-1)
        self.assertEqual(Result.objects.count(), before)

    def test_a_result_whose_blob_went_meanwhile_is_not_kept(self) -> None:
        case = self.opened(pair()[0])
        manifest = Manifest("k" * 64, "base", "p1", {"body": {"mesh": "0" * 64}})
        with self.assertRaises(owning.BlobsGone):
            owning.take_result(case.owner_id, manifest)
        with self.assertRaises(owning.OwnerGone):
            owning.take_result(10**9, Manifest("k" * 64, "base", "p1", {}))
        self.assertFalse(Result.objects.exists())


class ServingTest(WorkCase):
    async def test_only_what_a_case_uses_is_served(self) -> None:
        from asgiref.sync import sync_to_async

        def prepare() -> tuple[str, str, str, str]:
            case = self.work(self.opened(pair()[0]))
            shown = self.mira.get(f"/api/cases/{case.number}").json()
            node = next(n for n in shown["nodes"] if n["id"] == "intake/p1")
            return case.number, node["good"]["mesh"], shown["picture"], self.mira.cookies["sessionid"].value

        number, digest, picture, session = await sync_to_async(prepare, thread_sensitive=True)()
        web, nobody = AsyncClient(), AsyncClient()
        web.cookies["sessionid"] = session
        addresses = (f"/api/meshes/{digest}/full.glb", f"/api/pictures/{picture}.png")
        for address in addresses:
            self.assertEqual((await web.get(address)).status_code, 200, address)
            self.assertEqual((await nobody.get(address)).status_code, 401, address)
        kept = {p: (settings.STATE / p).read_bytes() for p in await sync_to_async(on_disk)()}
        await sync_to_async(lambda: keeping.delete(User.objects.get(username="tove"), number), thread_sensitive=True)()
        for path, data in kept.items():
            # Even were a file left behind, nobody is given it.
            (settings.STATE / path).parent.mkdir(parents=True, exist_ok=True)
            (settings.STATE / path).write_bytes(data)
        for address in addresses:
            self.assertEqual((await web.get(address)).status_code, 404, address)
