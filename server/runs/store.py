"""The run sheet's result store behind the server: manifests in PostgreSQL, blobs in the storage's folder."""

from __future__ import annotations

from collections.abc import Iterable

from bitecore.runsheet.store import Blobs, Manifest
from cases.blobs import folder

from .models import Result


class ServerStore:
    """Remembers what it has read: one per request or job. A result, once there, never changes."""

    def __init__(self) -> None:
        self.blobs: Blobs = folder()
        self._known: dict[str, Manifest] = {}

    def get(self, key: str) -> Manifest | None:
        if key not in self._known:
            row = Result.objects.filter(key=key).first()
            if row is None:
                return None
            self._known[key] = Manifest(key=key, **row.manifest)
        return self._known[key]

    def get_many(self, keys: Iterable[str]) -> dict[str, Manifest]:
        return {row.key: Manifest(key=row.key, **row.manifest) for row in Result.objects.filter(key__in=list(keys))}

    def known(self, keys: Iterable[str]) -> dict[str, Manifest]:
        """Those of the results that are there, read in one go and remembered."""
        wanted = set(keys)
        self._known |= self.get_many(wanted - set(self._known))
        return {key: self._known[key] for key in wanted if key in self._known}

    def put(self, manifest: Manifest) -> None:
        body = manifest.as_json()
        body.pop("key")
        Result.objects.get_or_create(key=manifest.key, defaults={"step": manifest.step, "manifest": body})
        self._known[manifest.key] = manifest
