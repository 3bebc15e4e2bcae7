"""What is true of cases alone, for the engine that works them out."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from django.conf import settings
from django.db import models
from django.utils import timezone

from bitecore.engine.gives import unpack
from bitecore.engine.graph import Node
from bitecore.engine.store import Manifest
from bitecore.mesh.measures import surface_print
from bitecore.runsheet import CASE, CaseDocument
from bitecore.views import ViewJob, early_full, view_path
from runs.kinds import Kind
from runs.owning import folder

from .models import Case
from .pictures import picture_job, turn_job
from .prints import BODY, remember
from .trays import is_current, keep_summary, tray_or_trouble

# A browser that has a case open says so every eight seconds; a person waits for a change as long as it may take.
OPEN_FOR, WAITED_FOR = timedelta(seconds=25), timedelta(minutes=2)
# What somebody asked for is waited for, wherever they are now.
ASKED_FOR = timedelta(minutes=30)


class Cases(Kind[Case]):
    name, sheet, document, model = "case", CASE, CaseDocument, Case

    def visible_to(self, user: Any) -> models.QuerySet[Case]:
        return Case.objects.visible_to(user)

    def called(self, row: Case) -> str:
        return row.number

    def rank(self, row: Case) -> int:
        now = timezone.now()
        if row.demanded and row.wanted is not None and row.wanted > now - ASKED_FOR:
            # Somebody asked for its files, and may have gone on to another meanwhile.
            return 2
        if not row.presence_set.filter(seen__gt=now - OPEN_FOR).exists():
            return 0
        return 2 if row.wanted is not None and row.wanted > now - WAITED_FOR else 1

    def summarise(self, row: Case, document: Any, graph: Any) -> None:
        keep_summary(row, document, graph)

    def freshen(self, row: Case) -> None:
        if not is_current(row):
            tray_or_trouble(row, veiled=True)

    def learned(self, row: Case, node: Node, manifest: Manifest) -> None:
        if node.step.name == "intake" and "about" in manifest.values:
            remember(row, node.piece, manifest.values["about"]["json"]["print"])
        if node.step.name == "assemble" and "body" in manifest.values:
            # Dropped on the rack one day, it is known where it went out.
            remember(row, f"{node.piece}{BODY}", surface_print(unpack(manifest.values["body"], folder())))

    def early(self, row: Case, document: CaseDocument) -> list[ViewJob]:
        """Copies of every scan, straight from its file: there before Intake is through."""
        out = []
        for piece in document.pieces:
            light = view_path(settings.VIEW_ROOT, piece.sha256, "light")
            if not (light.exists() and early_full(light).exists()):
                out.append(ViewJob("early", ((piece.sha256, None),), str(light), True))
        return out

    def beside(self, row: Case, step: str, manifest: Manifest) -> list[ViewJob]:
        """Of a scan its tile that turns."""
        if step != "intake" or "mesh" not in manifest.values:
            return []
        turning = turn_job(row.owner_id, manifest.values["mesh"]["mesh"], manifest.values["about"]["json"])
        return [turning] if turning else []

    def picture(self, row: Case, graph: Any) -> ViewJob | None:
        return picture_job(row.owner_id, graph)

    def pictured(self, row: Case, job: ViewJob) -> None:
        Case.objects.filter(pk=row.pk).update(picture=job.to.rsplit("/", 1)[1].removesuffix(".png"))

    def at_rest(self, row: Case) -> bool:
        return row.closed is not None


CASES = Cases()
