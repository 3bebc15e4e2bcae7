"""Results by key, the blobs they name, and whom both are kept for. Meshes and files are blobs, never rows."""

from __future__ import annotations

from django.db import models
from django.utils import timezone


class Owner(models.Model):
    """What results and blobs are kept for: a case. counted : its uses are all written down; one from before there were
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
