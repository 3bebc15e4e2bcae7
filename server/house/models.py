"""House settings: one row per revision, the newest counts."""

from __future__ import annotations

from django.conf import settings
from django.db import models


class HouseRevision(models.Model):
    """The house's settings, one row a change.

    steps    : {step: {key: value}} where the house differs from the steps' own defaults
    versions : {step: version} of the steps when these were saved
    general  : what is no step's
    """

    number = models.PositiveIntegerField(unique=True)
    steps = models.JSONField(default=dict)
    versions = models.JSONField(default=dict)
    general = models.JSONField(default=dict)
    created = models.DateTimeField(auto_now_add=True)
    author = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)

    class Meta:
        ordering = ("-number",)


class ShelfRecord(models.Model):
    """A record on a shelf of the house, one row a change; the newest of an id counts. gone : taken off."""

    shelf = models.CharField(max_length=20)
    ident = models.CharField(max_length=60)
    revision = models.PositiveIntegerField()
    name = models.CharField(max_length=120)
    steps = models.JSONField(default=dict)
    versions = models.JSONField(default=dict)
    data = models.JSONField(default=dict)
    gone = models.BooleanField(default=False)
    created = models.DateTimeField(auto_now_add=True)
    author = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)

    class Meta:
        constraints = [models.UniqueConstraint(fields=("shelf", "ident", "revision"), name="one_row_a_change")]
