"""What is worked out, its history, results by key, the blobs they name, and whom all are kept for. Meshes and files are
blobs, never rows."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.db import models
from django.utils import timezone


class Owner(models.Model):
    """What results, blobs and history are kept for: a case, a plate. counted : its uses are all written down; one from before there were
    uses is counted by the worker, and until then no result is dropped."""

    counted = models.BooleanField(default=True)


class Result(models.Model):
    """manifest : what bitecore.runsheet.store.Manifest holds, without the key."""

    key = models.CharField(max_length=64, primary_key=True)
    step = models.CharField(max_length=40)
    manifest = models.JSONField()
    created = models.DateTimeField(auto_now_add=True)


class ResultBlob(models.Model):
    """A blob that a result names."""

    result = models.ForeignKey(Result, on_delete=models.CASCADE, related_name="blobs")
    sha256 = models.CharField(max_length=64, db_index=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=("result", "sha256"), name="one_result_blob")]


class ResultUse(models.Model):
    """An owner needs a result. used : when it last stood on its run sheet; all that stand there now have the same."""

    owner = models.ForeignKey(Owner, on_delete=models.CASCADE, related_name="results")
    result = models.ForeignKey(Result, on_delete=models.CASCADE, related_name="uses")
    used = models.DateTimeField(default=timezone.now, db_index=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=("owner", "result"), name="one_result_use")]


class BlobUse(models.Model):
    """An owner needs a file that came in."""

    owner = models.ForeignKey(Owner, on_delete=models.CASCADE, related_name="files")
    sha256 = models.CharField(max_length=64, db_index=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=("owner", "sha256"), name="one_blob_use")]


class Worked(models.Model):
    """Something that is worked out on a sheet: a case, a plate. Its kind (see kinds.py) knows what is true of it alone.

    owner      : what its results and blobs are kept for
    document   : the newest
    revision   : the number of that
    needs_work : something is still to be worked out
    held       : stopped by a person
    demanded   : steps on demand that a person asked for
    working    : what runs now, by node
    last_good  : the key of the newest good result, by node
    trouble    : what was in the way, as a sentence
    wanted     : when a person last changed it
    retry      : when it is tried again by itself; retries : how often it was, where the surroundings (disk, memory) were in
                 the way
    """

    owner = models.OneToOneField(Owner, on_delete=models.PROTECT)
    document = models.JSONField(default=dict)
    revision = models.PositiveIntegerField(default=0)
    needs_work = models.BooleanField(default=False)
    held = models.BooleanField(default=False)
    demanded = models.JSONField(default=list)
    working = models.JSONField(default=dict)
    last_good = models.JSONField(default=dict)
    trouble = models.TextField(default="")
    wanted = models.DateTimeField(null=True)
    retry = models.DateTimeField(null=True)
    retries = models.PositiveSmallIntegerField(default=0)
    created = models.DateTimeField(auto_now_add=True)
    touched = models.DateTimeField(auto_now=True)

    # (revision, graph) of the look that a change took: its answer is told from that one.
    looked: tuple[int, Any] | None = None

    class Meta:
        abstract = True

    @property
    def revisions(self) -> models.QuerySet[Revision]:
        """Its history, the newest first."""
        return Revision.objects.filter(owner_id=self.owner_id)


class Revision(models.Model):
    """One change of a document.

    document   : the whole of it, now and then; None: the one before it with these changes (see changes.py)
    changes    : [{path, before, after}]
    what       : in words; scans as tokens
    takes_back : the revision an undo (or redo) reverses
    """

    owner = models.ForeignKey(Owner, on_delete=models.CASCADE, related_name="revisions")
    number = models.PositiveIntegerField()
    document = models.JSONField(null=True)
    changes = models.JSONField(default=list)
    what = models.CharField(max_length=300)
    kind = models.CharField(max_length=10, default="change", choices=[(k, k) for k in ("change", "undo", "redo")])
    takes_back = models.PositiveIntegerField(null=True)
    author: Any = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-number",)
        constraints = [models.UniqueConstraint(fields=("owner", "number"), name="one_revision_a_number")]
