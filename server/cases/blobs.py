"""Files at the door: judged in child processes, laid ready, and taken into a case by SHA-256. What is refused leaves nothing."""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from django.conf import settings

from bitecore.errors import UnreadableFile
from bitecore.limits import Limits
from bitecore.receiving import receive
from ground.disk import check_room
from house.services import limits

from .carried import Carried, opened
from .names import clean


@dataclass(frozen=True)
class Accepted:
    """ready : where the bytes lie until a case takes them."""

    name: str
    sha256: str
    ready: Path


@dataclass
class Drop:
    """What came of a drop.

    scans   : those that can be used
    carried : whole cases, from other installations
    refused : {file, code, message}
    """

    scans: list[Accepted] = field(default_factory=list)
    carried: list[Carried] = field(default_factory=list)
    refused: list[dict] = field(default_factory=list)

    def refuse(self, file: str, error: UnreadableFile) -> None:
        self.refused.append({"file": file, "code": error.code, "message": error.message})


@contextmanager
def dropped(uploads: Iterable[Any], *, veiled: bool = False, cases: bool = False) -> Iterator[Drop]:
    """Uploaded files, judged; ZIPs are opened. What lies ready is there until the block ends. veiled : sentences do without
    the files' names; cases : a case from another installation is taken too."""
    root = Path(settings.INCOMING_ROOT)
    root.mkdir(parents=True, exist_ok=True)
    ready = Path(tempfile.mkdtemp(dir=root))
    try:
        yield _judged(list(uploads), ready, limits(), veiled, cases)
    finally:
        shutil.rmtree(ready, ignore_errors=True)


def _judged(uploads: list[Any], ready: Path, bound: Limits, veiled: bool, cases: bool) -> Drop:
    out, total = Drop(), 0
    check_room(sum(upload.size for upload in uploads))
    for number, upload in enumerate(uploads, 1):
        name, shown = clean(upload.name or ""), f"file {number}" if veiled else ""
        total += upload.size
        try:
            if total > bound.drop_bytes:
                raise UnreadableFile(
                    f"A drop takes up to {bound.drop_bytes // 1_000_000} MB; “{shown or name}” goes beyond. Drop fewer at once.",
                    code="too-large",
                )
            _one(upload, name, shown, ready, bound, cases, out)
        except UnreadableFile as error:
            out.refuse(shown or name, error)
    return out


def _one(upload: Any, name: str, shown: str, ready: Path, bound: Limits, cases: bool, out: Drop) -> None:
    path = _on_disk(upload, ready)
    carried = opened(shown or name, path, ready, bound) if cases else None
    if carried is not None:
        out.carried.append(carried)
        return
    found = receive(name, path, ready, bound, shown=shown)
    out.refused += found.refused
    for scan in found.scans:
        first = next((a for a in out.scans if a.sha256 == scan.sha256), None)
        called = f"a scan of {shown}" if shown else scan.name
        if first is not None:
            other = "one before it" if shown else f"“{first.name}”"
            out.refuse(
                called, UnreadableFile(f"“{called}” is the same file as {other}, byte for byte. It is taken once.", code="same-file")
            )
        elif len(out.scans) >= bound.files:
            out.refuse(called, UnreadableFile(f"A drop takes up to {bound.files} scans; “{called}” is beyond.", code="too-many"))
        else:
            out.scans.append(Accepted(clean(scan.name), scan.sha256, scan.path))


def _on_disk(upload: Any, ready: Path) -> Path:
    """Where the upload lies; a small one that was kept in memory is written."""
    if hasattr(upload, "temporary_file_path"):
        return Path(upload.temporary_file_path())
    handle, name = tempfile.mkstemp(dir=ready)
    with os.fdopen(handle, "wb") as out:
        for part in upload.chunks():
            out.write(part)
    return Path(name)
