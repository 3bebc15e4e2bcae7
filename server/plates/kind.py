"""What is true of plates alone, for the engine that works them out."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.db import models

from bitecore.platesheet import PLATE, PlateDocument
from bitecore.views import ViewJob, view_path
from runs.kinds import Kind

from .models import Plate


class Plates(Kind[Plate]):
    name, sheet, document, model = "plate", PLATE, PlateDocument, Plate

    def visible_to(self, user: Any) -> models.QuerySet[Plate]:
        return Plate.objects.visible_to(user)

    def called(self, row: Plate) -> str:
        return str(row.pk)

    def rank(self, row: Plate) -> int:
        """A plate is changed by somebody who looks at it."""
        return 1

    def early(self, row: Plate, document: PlateDocument) -> list[ViewJob]:
        """Copies of the house's strips, which are no step's result; those of other bodies are made with their cases."""
        strips = {body.mesh for body in document.bodies if not body.case}
        paths = {mesh: view_path(settings.VIEW_ROOT, mesh, "full") for mesh in sorted(strips)}
        return [ViewJob("full", ((mesh, None),), str(path)) for mesh, path in paths.items() if not path.exists()]


PLATES = Plates()
