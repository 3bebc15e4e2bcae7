"""What a first start shows: the demo's accounts and cases."""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory
from unittest.mock import patch

from django.contrib.auth.models import User
from django.core.management import call_command

from cases.models import Case
from demo import scenario
from tests.server.common import pair
from tests.server.test_cases import ServerCase


class FirstStartTest(ServerCase):
    def test_every_case_of_the_demo_is_opened_with_its_settings_and_what_was_accepted(self) -> None:
        with (
            TemporaryDirectory() as folder,
            patch.object(scenario, "written", _Light(Path(folder))),
            patch("cases.management.commands.bench_demo.ProcessPoolExecutor", _Here),
        ):
            call_command("bench_demo")
            call_command("bench_demo")
        self.assertEqual(Case.objects.count(), len(scenario.CASES), "the second time nothing is added")
        self.assertEqual({p[0] for p in scenario.PEOPLE} - set(User.objects.values_list("username", flat=True)), set())
        for plan, case in zip(reversed(scenario.CASES), Case.objects.order_by("pk"), strict=True):
            self.assertEqual(set(case.document["accepted"]), set(plan.accept))
            self.assertEqual(case.document["patient"], plan.patient)


class _Here:
    """In this process, so that what is put in its place counts."""

    def __init__(self, workers: int) -> None:
        pass

    def __enter__(self) -> _Here:
        return self

    def __exit__(self, *of: object) -> None:
        pass

    map = staticmethod(map)


class _Light:
    """Light jaws for every case: this is about what is done with them."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def __call__(self, case: scenario.DemoCase, _: Path) -> list[Path]:
        paths = []
        for name, data in pair():
            paths.append(self.folder / name)
            paths[-1].write_bytes(data)
        return paths
