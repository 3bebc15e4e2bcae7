"""What is true of plates alone, for the engine that works them out."""

from __future__ import annotations

from typing import Any

from django.db import models

from bitecore.platesheet import PLATE, PlateDocument
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


PLATES = Plates()
