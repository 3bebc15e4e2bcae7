"""A plate is a document in numbered revisions, as a case is."""

from __future__ import annotations

from typing import Any

from django.db import models

from runs.models import Worked


class PlateQuery(models.QuerySet):
    def visible_to(self, user: Any) -> PlateQuery:
        """One house per installation: whoever is signed in sees its plates."""
        return self if user.is_authenticated else self.none()


class Plate(Worked):
    """Its name stands in the document."""

    objects = PlateQuery.as_manager()

    class Meta:
        ordering = ("-created", "-id")
