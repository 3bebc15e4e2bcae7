"""The run sheet's result store behind the server: manifests in PostgreSQL, blobs in the storage's folder."""

from __future__ import annotations

from collections.abc import Iterable

from bitecore.blobs import Blobs
from bitecore.engine.store import Manifest

from .models import Result
from .owning import BlobsGone, folder, take_result


class ServerStore:
    """Remembers what it has read: one per request or job. A result, once there, never changes. owner_id : whom what is put
    is kept for; without one nothing can be put."""

    def __init__(self, owner_id: int | None = None) -> None:
        self.blobs: Blobs = folder()
        self._owner = owner_id
        self._known: dict[str, Manifest] = {}

    def get(self, key: str) -> Manifest | None:
        if key not in self._known:
            row = Result.objects.filter(key=key).first()
            if row is None:
                return None
            self._known[key] = Manifest(key=key, **row.manifest)
        return self._known[key]

    def has(self, key: str) -> bool:
        """Was it read or kept here?"""
        return key in self._known

    def get_many(self, keys: Iterable[str]) -> dict[str, Manifest]:
        return {row.key: Manifest(key=row.key, **row.manifest) for row in Result.objects.filter(key__in=list(keys))}

    def known(self, keys: Iterable[str]) -> dict[str, Manifest]:
        """Those of the results that are there, read in one go and remembered."""
        wanted = set(keys)
        self._known |= self.get_many(wanted - set(self._known))
        return {key: self._known[key] for key in wanted if key in self._known}

    def put(self, manifest: Manifest) -> None:
        """Raises OwnerGone. A result whose blobs were dropped meanwhile is not kept: it is worked out again."""
        assert self._owner is not None, "a store that only reads"
        try:
            take_result(self._owner, manifest)
        except BlobsGone:
            return
        self._known[manifest.key] = manifest
