"""Fill an empty rack with the demo cases and accounts. Does nothing where there are cases already."""

from __future__ import annotations

from concurrent.futures import ProcessPoolExecutor
from datetime import date, timedelta
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand


class Command(BaseCommand):
    help = "Load the demo accounts and cases."

    def handle(self, *args: Any, **options: Any) -> None:
        from accounts.services import ensure_people
        from cases.models import Case
        from demo.scenario import CASES, PEOPLE, written

        ensure_people(PEOPLE)
        if Case.objects.exists():
            return
        folder = Path(settings.STATE) / "demo-scans"
        with ProcessPoolExecutor(2) as pool:
            files = list(pool.map(written, CASES, [folder] * len(CASES)))
        for case, paths in reversed(list(zip(CASES, files, strict=True))):
            _open(case, paths)


def _open(case: Any, paths: list[Path]) -> None:
    from django.contrib.auth.models import User
    from django.core.files.base import ContentFile

    from cases.blobs import dropped
    from cases.services import change_settings, open_case
    from house import shelves

    mira = User.objects.get(username="mira")
    tove = User.objects.get(username="tove")
    if shelves.named("purpose", case.purpose) is None:
        shelves.put(tove, "purpose", "", case.purpose, {}, {})
    due = (date.today() + timedelta(days=case.due_in_days)).isoformat()
    with dropped([ContentFile(p.read_bytes(), name=p.name) for p in paths]) as found:
        made = open_case(mira, found.scans, patient=case.patient, practice=case.practice, purpose=case.purpose, due=due, notes=case.notes)
    for step, values in case.settings.items():
        made = change_settings(mira, made.number, made.revision, step, "*", values)
    if case.accept:
        _accepted(mira, made.number, case.accept)


def _accepted(user: Any, number: str, steps: tuple[str, ...]) -> None:
    """As if somebody had said yes before: nothing is worked out yet, so what was seen is not known."""
    from django.db import transaction

    from bitecore.engine.document import Accepted
    from bitecore.runsheet import standard
    from cases.services import change, locked

    with transaction.atomic():
        case = locked(user, number)
        said = [(["accepted", step], Accepted(seen={}).model_dump(mode="json")) for step in steps]
        change(case, user, case.revision, said, f"Accepted: {', '.join(standard()[step].title for step in steps)}")
