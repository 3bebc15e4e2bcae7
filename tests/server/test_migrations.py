"""Data folders of versions before come along: with owners and names as tokens, and with an engine of its own."""

from __future__ import annotations

import json
import threading
from pathlib import Path

from django.conf import settings
from django.contrib.auth.models import User
from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.test import TransactionTestCase

from bitecore.blobs import FolderBlobs
from tests.server.common import clear_state, client, people, post, scan
from tests.shapes import jaws, turn

BEFORE = [("cases", "0003_prints"), ("runs", "0001_initial")]


class OwnersTest(TransactionTestCase):
    def tearDown(self) -> None:
        executor = MigrationExecutor(connection)
        executor.migrate(executor.loader.graph.leaf_nodes())

    def test_cases_of_the_version_before(self) -> None:
        executor = MigrationExecutor(connection)
        executor.migrate(BEFORE)
        old = executor.loader.project_state(BEFORE).apps
        Case, Revision = old.get_model("cases", "Case"), old.get_model("cases", "Revision")
        case = Case.objects.create(number="2611-01", revision=3, last_good={"base/p1": "k" * 64})
        pieces = [{"id": "p1", "file": "Ek Bo, upper.stl", "sha256": "a" * 64}, {"id": "p2", "file": "b.stl", "sha256": "b" * 64}]
        for number, what in enumerate(
            ("Case opened with Ek Bo, upper.stl, b.stl", "Base: Under the lowest point", "Took back: Put aside: Ek Bo, upper.stl"), 1
        ):
            Revision.objects.create(case=case, number=number, document={"number": "2611-01", "pieces": pieces}, what=what)
        values = {"body": {"mesh": "c" * 64}, "place": {"by_piece": {"p1": {"json": 1}, "p2": {"mesh": "d" * 64}}}}
        manifest = {"step": "base", "piece": "p1", "values": values}
        old.get_model("runs", "Result").objects.create(key="k" * 64, step="base", manifest=manifest)
        broken = {**manifest, "flags": [{"code": "memory", "severity": "stop", "message": "x"}]}
        old.get_model("runs", "Result").objects.create(key="m" * 64, step="trim", manifest=broken)
        old.get_model("cases", "Blob").objects.create(sha256="a" * 64, size=1)

        executor = MigrationExecutor(connection)
        executor.migrate(executor.loader.graph.leaf_nodes())
        from cases.models import Case as NewCase
        from runs.models import Result, ResultBlob
        from runs.services import count_uses

        new = NewCase.objects.get()
        self.assertEqual(set(new.owner.files.values_list("sha256", flat=True)), {"a" * 64, "b" * 64})
        self.assertEqual(set(ResultBlob.objects.values_list("sha256", flat=True)), {"c" * 64, "d" * 64})
        self.assertFalse(new.owner.counted)
        told = list(new.revisions.order_by("number").values_list("what", flat=True))
        self.assertEqual(told, ["Case opened with ⟦p1⟧, ⟦p2⟧", "Base: Under the lowest point", "Took back: Put aside: ⟦p1⟧"])
        self.assertEqual(list(Result.objects.values_list("key", flat=True)), ["k" * 64])
        count_uses(new)
        self.assertEqual(list(new.owner.results.values_list("result_id", flat=True)), ["k" * 64])


# Written by the version before there were sheets, layers and entries: a house with a rule, one case that was worked on by two
# people, accepted in part and taken back, and a closed one.
DUMP = Path(__file__).with_name("old_installation.json")
THEN = [("cases", "0006_summary"), ("runs", "0003_used"), ("house", "0003_general")]


class SheetsTest(TransactionTestCase):
    def tearDown(self) -> None:
        executor = MigrationExecutor(connection)
        executor.migrate(executor.loader.graph.leaf_nodes())

    def test_an_installation_of_the_version_before_opens_with_everything_in_its_place(self) -> None:
        dump = json.loads(DUMP.read_text())
        clear_state()
        # The plates of today are none of then.
        executor = MigrationExecutor(connection)
        executor.migrate([*THEN, ("plates", None)])
        people()
        who = {person["id"]: User.objects.get(username=person["username"]).pk for person in dump["people"]}
        for table in dump:
            for row in dump[table] if table.startswith(("cases_", "house_")) else ():
                row |= {key: who.get(row[key]) for key in ("author_id", "user_id") if key in row}
        with connection.cursor() as cursor:
            for table in (name for name in dump if name.startswith(("runs_", "cases_", "house_"))):
                cursor.execute(f"INSERT INTO {table} SELECT * FROM json_populate_recordset(null::{table}, %s)", [json.dumps(dump[table])])
                cursor.execute("SELECT column_name FROM information_schema.columns WHERE table_name = %s AND column_name = 'id'", [table])
                if cursor.fetchone():
                    cursor.execute(f"SELECT setval(pg_get_serial_sequence('{table}', 'id'), (SELECT coalesce(max(id), 1) FROM {table}))")
        executor = MigrationExecutor(connection)
        executor.migrate(executor.loader.graph.leaf_nodes())
        upper, lower = jaws(3)
        for mesh in (upper, lower, lower.moved(turn(7))):
            FolderBlobs(settings.BLOB_ROOT).write(scan(mesh))
        self.opens(dump["shown"])

    def opens(self, then: dict) -> None:
        from cases.models import AuditLine, Case
        from house.services import newest
        from house.shelves import named
        from runs.services import steps_left
        from runs.work import work

        mira = client("mira")
        case, closed = Case.objects.order_by("pk")
        shown = mira.get(f"/api/cases/{case.number}?step=bite").json()
        # Details, acceptance and every line of the history, with who and when.
        self.assertEqual(shown["details"], then["details"])
        self.assertEqual(shown["accepted"], {step: [] for step in then["accepted"]})
        self.assertEqual(mira.get(f"/api/cases/{case.number}/history").json(), then["history"])
        self.assertEqual(mira.get("/api/cases", {"closed": "true"}).json()[0]["number"], closed.number)
        # What the house says is the farthest layer; what was typed is on the shelf.
        self.assertEqual(case.document["layers"]["house"]["steps"], {"base": {"thickness_mm": 3.0}})
        self.assertEqual(newest().steps, {"base": {"thickness_mm": 3.0}})
        self.assertEqual([named(*x).name for x in (("practice", "fen lane"), ("purpose", "splint"))], ["Fen Lane", "Splint"])  # type: ignore[union-attr]
        # Settings of one jaw, strokes and marks with ids.
        own = case.document["settings"]
        self.assertEqual(own["trim"]["p1"], {"bottom_mm": 14.0})
        self.assertEqual({k: v["adds"] for k, v in own["follow"]["p3"]["swab"].items()}, {"s1": True, "s2": False})
        self.assertEqual(set(own["fit"]["*"]["marks"]["p9"]), {"m1"})
        # What steps of today make of it is worked out as a worker starts; what was set and accepted stays.
        self.assertTrue(steps_left(case))
        Case.objects.filter(pk=case.pk).update(needs_work=True)
        work("case", case.pk, 0, threading.Event())
        shown = mira.get(f"/api/cases/{case.number}?step=bite").json()
        self.assertEqual(shown["accepted"], {step: [] for step in then["accepted"]})
        states = {n["id"]: n["state"] for n in shown["nodes"]}
        for node in ("intake/p1", "intake/p2", "intake/p3", "trim/p1", "trim/p2", "base/p1", "base/p2", "assemble/p1", "bite/*", "level/*"):
            self.assertIn(states[node], ("done", "look"), node)
        self.assertEqual(states["intake/p1"], "done")
        # The history goes on: what was taken back is done again, and undone to the very first.
        self.assertEqual(post(mira, f"/api/cases/{case.number}/redo").status_code, 200)
        case.refresh_from_db()
        self.assertEqual(case.document["settings"]["base"]["*"], {"thickness_mm": 4.0})
        self.assertTrue(AuditLine.objects.filter(case_number=case.number).count() > len(then["history"]) - 2)
        for _ in range(3):
            self.assertEqual(post(mira, f"/api/cases/{case.number}/undo").status_code, 200)
        packed = mira.get(f"/api/cases/{case.number}/case.zip")
        self.assertEqual(packed.status_code, 200)
