"""Files and options of the command line as a case document."""

from __future__ import annotations

import argparse
import json
import os
from pathlib import Path, PurePosixPath
from typing import Any

from bitecore.errors import BadSetting, UnreadableFile
from bitecore.limits import Limits
from bitecore.receiving import Scan, receive
from bitecore.runsheet import CaseDocument, PieceEntry, Registry, ResultStore


def load(paths: list[Path], ready: Path, limits: Limits | None = None) -> list[Scan]:
    """Every scan in the files, laid into the folder `ready`. Raises UnreadableFile for the first that cannot be used."""
    limits = limits or Limits.of(os.environ)
    found: list[Scan] = []
    total = 0
    for path in paths:
        if not path.is_file():
            raise UnreadableFile(f"There is no file “{path}”.", code="no-file")
        total += path.stat().st_size
        if total > limits.drop_bytes:
            raise UnreadableFile(
                f"The files are more than {limits.drop_bytes // 1_000_000} MB together. Run fewer at once.", code="too-large"
            )
        received = receive(path.name, path, ready, limits)
        for refusal in received.refused:
            if refusal["code"] != "ignored":
                raise UnreadableFile(refusal["message"], code=refusal["code"])
        found += received.scans
    return found


def document_of(sources: list[Scan], store: ResultStore, registry: Registry, args: argparse.Namespace) -> CaseDocument:
    """Pieces p1, p2, … in the order given. Raises BadSetting for an option that fits nothing."""
    pieces = [
        PieceEntry(id=f"p{number}", file=source.name, sha256=store.blobs.write(source.path.read_bytes()))
        for number, source in enumerate(sources, 1)
    ]
    settings: dict[str, dict[str, dict[str, Any]]] = {}
    for text in args.jaw:
        name, _, jaw = text.rpartition("=")
        if jaw not in ("upper", "lower") or not name:
            raise BadSetting(f"--jaw takes FILE=upper or FILE=lower, not “{text}”.")
        for piece in _named(pieces, name):
            settings.setdefault("intake", {}).setdefault(piece, {}).update(jaw=jaw, kind="jaw")
    for text in args.set:
        key, sign, value = text.partition("=")
        step, dot, name = key.rpartition(".")
        if not sign or not dot:
            raise BadSetting(f"--set takes STEP.KEY=VALUE, not “{text}”.")
        registry[step]
        settings.setdefault(step, {}).setdefault("*", {})[name] = _value(value)
    if args.frame:
        settings.setdefault("hand-off", {}).setdefault("*", {})["frame"] = args.frame
    document = CaseDocument(number=_number(sources), pieces=pieces, settings=settings)
    for one in registry.steps:
        document.settings_for(one)  # a wrong setting is said before anything is computed
    return document


def _named(pieces: list[PieceEntry], name: str) -> list[str]:
    hits = [p.id for p in pieces if name in (p.file, PurePosixPath(p.file).name) or Path(name).name == p.file]
    if not hits:
        raise BadSetting(f"--jaw names “{name}”, which is not among the files.")
    return hits


def _value(text: str) -> Any:
    try:
        return json.loads(text)
    except ValueError:
        return text


def _number(sources: list[Scan]) -> str:
    return PurePosixPath(sources[0].name).stem if len(sources) == 1 else "case"
