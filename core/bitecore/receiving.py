"""Files as they come in: opened, judged and laid ready under their SHA-256. What is refused leaves nothing behind."""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from .apart import allow, apart
from .errors import UnreadableFile
from .files import Limits, SourceFile, read_mesh, unpack


@dataclass(frozen=True)
class Scan:
    """A scan that can be used. path : where its bytes lie ready."""

    name: str
    sha256: str
    path: Path


@dataclass
class Received:
    """refused : {file, code, message} of each that cannot be used, and of what else lay in a ZIP."""

    scans: list[Scan] = field(default_factory=list)
    refused: list[dict[str, str]] = field(default_factory=list)


def receive(name: str, path: Path, ready: Path, limits: Limits, *, shown: str = "") -> Received:
    """Read a file or the scans of a ZIP in a child process. ready : an existing folder that takes what can be used;
    shown : what sentences call the file instead of its name."""
    called = shown or name
    try:
        with path.open("rb") as start:
            times = limits.files if start.read(2) == b"PK" else 1
        return apart(called, _received, name, path, ready, limits, shown, limits=limits, times=times)
    except UnreadableFile as error:
        return Received(refused=[{"file": called, "code": error.code, "message": error.message}])


def _received(name: str, path: Path, ready: Path, limits: Limits, shown: str) -> Received:
    out, ignored = Received(), list[str]()
    sources = unpack(shown or name, path.read_bytes(), limits, ignored=ignored)
    for number, source in enumerate(_counted(sources, limits), 1):
        of_zip = source.name != (shown or name)
        called = source.name if not shown else f"scan {number} of {shown}" if of_zip else shown
        try:
            read_mesh(called, source.data, limits)
        except UnreadableFile as error:
            out.refused.append({"file": called, "code": error.code, "message": error.message})
            continue
        target = ready / source.sha256
        if not target.exists():
            _write(target, source.data)
        out.scans.append(Scan(source.name if of_zip else name, source.sha256, target))
    if ignored:
        out.refused.append({"file": shown or name, "code": "ignored", "message": _ignored_words(shown or name, ignored, hide=bool(shown))})
    return out


def _counted(sources: Iterator[SourceFile], limits: Limits) -> Iterator[SourceFile]:
    """Each with a processor's time of its own."""
    for source in sources:
        yield source
        allow(limits.read_seconds)


def _write(path: Path, data: bytes) -> None:
    with path.open("wb") as out:
        out.write(data)
        out.flush()
        os.fsync(out.fileno())


def _ignored_words(name: str, ignored: list[str], *, hide: bool) -> str:
    if hide:
        return f"“{name}” also holds {len(ignored)} file{'s' * (len(ignored) != 1)} that are no scans: left aside."
    more = f" and {len(ignored) - 3} more" if len(ignored) > 3 else ""
    return f"“{name}” also holds {', '.join(ignored[:3])}{more}: no scans, so left aside."
