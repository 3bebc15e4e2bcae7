"""Files at the door: unpacked, judged, stored by SHA-256. Nothing is stored of a file that is refused."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.files.base import ContentFile
from django.core.files.storage import Storage, default_storage

from bitecore.errors import UnreadableFile
from bitecore.files import Limits, SourceFile, read_mesh, unpack
from bitecore.runsheet.store import FolderBlobs

from .models import Blob


@dataclass(frozen=True)
class Accepted:
    name: str
    sha256: str


def limits() -> Limits:
    return Limits(triangles=settings.BENCH_TRIANGLES, drop_bytes=settings.BENCH_DROP_BYTES)


def folder() -> FolderBlobs:
    """The blobs as the computing processes see them: the same folder the storage writes to."""
    return FolderBlobs(Path(settings.BLOB_ROOT))


def judge(uploads: Iterable[Any]) -> tuple[list[Accepted], list[dict]]:
    """(accepted and stored, refused as {file, code, message}) of uploaded files; ZIPs are opened."""
    accepted: list[Accepted] = []
    refused: list[dict] = []
    total, bound = 0, limits()
    for upload in uploads:
        total += upload.size
        try:
            if total > bound.drop_bytes:
                raise UnreadableFile(
                    f"A drop takes up to {bound.drop_bytes // 1_000_000} MB; “{upload.name}” goes beyond. Drop fewer at once.",
                    code="too-large",
                )
            ignored: list[str] = []
            for source in unpack(upload.name, upload.read(), bound, ignored=ignored):
                _take(source, bound, accepted, refused)
            if ignored:
                refused.append({"file": upload.name, "code": "ignored", "message": ignored_words(upload.name, ignored)})
        except UnreadableFile as error:
            refused.append({"file": upload.name, "code": error.code, "message": error.message})
    return accepted, refused


def ignored_words(name: str, ignored: list[str]) -> str:
    more = f" and {len(ignored) - 3} more" if len(ignored) > 3 else ""
    return f"“{name}” also holds {', '.join(ignored[:3])}{more}: no scans, so left aside."


def _take(source: SourceFile, bound: Limits, accepted: list[Accepted], refused: list[dict]) -> None:
    try:
        read_mesh(source.name, source.data, bound)
    except UnreadableFile as error:
        refused.append({"file": source.name, "code": error.code, "message": error.message})
        return
    if any(a.sha256 == source.sha256 for a in accepted):
        first = next(a.name for a in accepted if a.sha256 == source.sha256)
        text = f"“{source.name}” is the same file as “{first}”, byte for byte. It is taken once."
        refused.append({"file": source.name, "code": "same-file", "message": text})
        return
    keep(source.data, default_storage, source.sha256)
    accepted.append(Accepted(source.name[-300:], source.sha256))


def keep(data: bytes, storage: Storage, digest: str | None = None) -> str:
    """Store bytes under their SHA-256; the storage writes to a temporary name and renames."""
    digest = digest or hashlib.sha256(data).hexdigest()
    name = f"{digest[:2]}/{digest}"
    if not storage.exists(name):
        if storage is default_storage and hasattr(storage, "location"):
            folder().write(data, digest)
        else:
            storage.save(name, ContentFile(data))
    Blob.objects.get_or_create(sha256=digest, defaults={"size": len(data)})
    return digest
