"""House settings: one row per revision, the newest counts."""

from __future__ import annotations

from django.conf import settings
from django.db import models


class HouseRevision(models.Model):
    """steps : {step: {key: value}} where the house differs from the steps' own defaults; versions : {step: version}
    of the steps when these were saved; general : what is no step's."""

    number = models.PositiveIntegerField(unique=True)
    steps = models.JSONField(default=dict)
    versions = models.JSONField(default=dict)
    general = models.JSONField(default=dict)
    created = models.DateTimeField(auto_now_add=True)
    author = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)

    class Meta:
        ordering = ("-number",)
