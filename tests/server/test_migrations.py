"""A data folder of the version before owners comes along: scans, results, history, with names as tokens."""

from __future__ import annotations

from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.test import TransactionTestCase

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
