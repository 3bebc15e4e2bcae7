"""A case is a document in numbered revisions. Meshes and files are blobs, never rows."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.db import models

from runs.models import Owner


class CaseQuery(models.QuerySet):
    def visible_to(self, user: Any) -> CaseQuery:
        """One house per installation: whoever is signed in sees its cases."""
        return self if user.is_authenticated else self.none()


class Case(models.Model):
    """owner : what its results and blobs are kept for; revision : number of the newest; needs_work : something is still to be
    worked out; working : what runs now; summary : what the rack shows of it (see trays.py);
    wanted : when a person last changed it; retry, retries : when it is tried again by
    itself and how often it was, where the surroundings (disk, memory) were in the way; closed : put away then, to be kept
    until keep_until."""

    owner = models.OneToOneField(Owner, on_delete=models.PROTECT)
    number = models.CharField(max_length=20, unique=True)
    revision = models.PositiveIntegerField(default=0)
    needs_work = models.BooleanField(default=False)
    held = models.BooleanField(default=False)
    demanded = models.JSONField(default=list)
    working = models.JSONField(default=dict)
    last_good = models.JSONField(default=dict)
    summary = models.JSONField(default=dict)
    picture = models.CharField(max_length=80, default="")
    trouble = models.TextField(default="")
    wanted = models.DateTimeField(null=True)
    retry = models.DateTimeField(null=True)
    retries = models.PositiveSmallIntegerField(default=0)
    closed = models.DateTimeField(null=True)
    keep_until = models.DateField(null=True)
    created = models.DateTimeField(auto_now_add=True)
    touched = models.DateTimeField(auto_now=True)

    objects = CaseQuery.as_manager()

    class Meta:
        ordering = ("-created", "-id")


class Revision(models.Model):
    """what : in words, scans as tokens (see names.py); changes : [{path, before, after}]; takes_back : the revision
    an undo (or redo) reverses."""

    case = models.ForeignKey(Case, on_delete=models.CASCADE, related_name="revisions")
    number = models.PositiveIntegerField()
    document = models.JSONField()
    changes = models.JSONField(default=list)
    what = models.CharField(max_length=300)
    kind = models.CharField(max_length=10, default="change", choices=[(k, k) for k in ("change", "undo", "redo")])
    takes_back = models.PositiveIntegerField(null=True)
    author = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-number",)
        constraints = [models.UniqueConstraint(fields=("case", "number"), name="one_revision_per_number")]


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
    """Every change: who, when, what. Only ever added to."""

    at = models.DateTimeField(auto_now_add=True)
    user = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)
    case_number = models.CharField(max_length=20, default="", db_index=True)
    action = models.CharField(max_length=60)
    detail = models.JSONField(default=dict)

    class Meta:
        ordering = ("-id",)
