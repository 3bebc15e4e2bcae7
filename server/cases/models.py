"""A case is a document in numbered revisions. Meshes and files are blobs, never rows."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.db import models

from runs.models import Owner, Worked


class CaseQuery(models.QuerySet):
    def visible_to(self, user: Any) -> CaseQuery:
        """One house per installation: whoever is signed in sees its cases."""
        return self if user.is_authenticated else self.none()


class Case(Worked):
    """A case on the rack.

    summary : what the rack shows of it (see trays.py)
    picture : name of its still picture
    closed  : put away then, to be kept until keep_until
    """

    number = models.CharField(max_length=20, unique=True)
    summary = models.JSONField(default=dict)
    picture = models.CharField(max_length=80, default="")
    closed = models.DateTimeField(null=True)
    keep_until = models.DateField(null=True)

    objects = CaseQuery.as_manager()

    class Meta:
        ordering = ("-created", "-id")


class HousePart(models.Model):
    """A closed body of the house's own on its shelf, from where cases take it up.

    owner          : its file is kept for it
    name, file     : what it is called, and what it came as
    face, turn_deg : how it stands where a case puts it (see steps/attach.py), unless it is said otherwise there
    """

    owner = models.OneToOneField(Owner, on_delete=models.PROTECT, related_name="+")
    sha256 = models.CharField(max_length=64, unique=True)
    name = models.CharField(max_length=120)
    file = models.CharField(max_length=200)
    face = models.PositiveSmallIntegerField(default=1)
    turn_deg = models.FloatField(default=0.0)
    created = models.DateTimeField(auto_now_add=True)
    by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)

    class Meta:
        ordering = ("name", "id")


class ScanPrint(models.Model):
    """What stays the same of a scan's surface wherever it lies, to find it again in any case: mm and mm²."""

    case = models.ForeignKey(Case, on_delete=models.CASCADE, related_name="prints")
    piece = models.CharField(max_length=20)
    area = models.FloatField(db_index=True)
    spread = models.JSONField()
    middle = models.JSONField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=("case", "piece"), name="one_print_a_piece")]


class Presence(models.Model):
    """Who has a case open now."""

    case = models.ForeignKey(Case, on_delete=models.CASCADE)
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE)
    seen = models.DateTimeField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=("case", "user"), name="one_presence")]


class AuditLine(models.Model):
    """Every change: who, when, what. Only ever added to. revision : the one it made, which holds what changed."""

    at = models.DateTimeField(auto_now_add=True)
    user = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)
    case_number = models.CharField(max_length=20, default="", db_index=True)
    action = models.CharField(max_length=60)
    revision = models.PositiveIntegerField(null=True)
    detail = models.JSONField(default=dict)

    class Meta:
        ordering = ("-id",)
