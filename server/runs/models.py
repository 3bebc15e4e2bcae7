"""Results by key. The meshes they name are blobs."""

from __future__ import annotations

from django.db import models


class Result(models.Model):
    """manifest : what bitecore.runsheet.store.Manifest holds, without the key."""

    key = models.CharField(max_length=64, primary_key=True)
    step = models.CharField(max_length=40)
    manifest = models.JSONField()
    created = models.DateTimeField(auto_now_add=True)
