"""Closing, finding again, keeping for years, deleting before that, and carrying a case to another installation."""

from __future__ import annotations

import hashlib
import io
import json
import zipfile
from datetime import date, timedelta
from typing import Any

from django.core.files.storage import default_storage
from django.db import IntegrityError, transaction
from django.utils import timezone
from pydantic import ValidationError

from accounts.services import is_lead, label
from bitecore.errors import UnreadableFile
from bitecore.files import Limits, read_mesh
from bitecore.runsheet import CaseDocument, Manifest, standard
from config.errors import Refused
from house.services import retention_years
from runs.models import Result
from runs.services import announce, ask_for_work, look
from runs.store import ServerStore

from .blobs import folder, keep, limits
from .documents import document_of
from .models import AuditLine, Blob, Case, Revision
from .services import next_number, visible

FORMAT = 1
MARK = "bite-bench-case.json"
_FIXED_TIME = (2020, 1, 1, 0, 0, 0)
_MOST_MEMBERS = 4000
# What a file that only looks like a case makes happen somewhere inside.
_WRONG = (
    zipfile.BadZipFile, ValueError, KeyError, TypeError, AttributeError, OSError, ValidationError, IntegrityError, RuntimeError,
)  # fmt: skip


def close(user: Any, number: str) -> Case:
    """Put a case away. It is kept for the years the house says, and opened again whenever somebody likes."""
    with transaction.atomic():
        case = _locked(user, number)
        if case.closed is None:
            case.closed = timezone.now()
            case.keep_until = _years_on(date.today(), retention_years())
            case.save(update_fields=["closed", "keep_until", "touched"])
            _line(user, number, "close", {"keep_until": case.keep_until.isoformat()})
            announce({"case": number, "kind": "state"})
        return case


def reopen(user: Any, number: str) -> Case:
    with transaction.atomic():
        case = _locked(user, number)
        if case.closed is not None:
            case.closed = case.keep_until = None
            case.save(update_fields=["closed", "keep_until", "touched"])
            _line(user, number, "reopen", {})
            ask_for_work(case)
        return case


def delete(user: Any, number: str) -> None:
    """Gone with its files, as far as no other case has them too. Before its time only a lead may; one line stays."""
    with transaction.atomic():
        case = _locked(user, number)
        early = case.keep_until is None or case.keep_until > date.today()
        if early and not is_lead(user):
            until = f" (until {case.keep_until.isoformat()})" if case.keep_until else ""
            raise Refused(f"This case is still to be kept{until}. Only a lead deletes it before that.", code="lead-only", status=403)
        digests, keys = _sources(case), _result_keys(case)
        # The names go with the case; who deleted it and when stays.
        AuditLine.objects.filter(case_number=number).delete()
        case.delete()
        _line(user, number, "delete", {"before_its_time": early})
        gone = _unused(digests, keys)
        announce({"case": number, "kind": "gone"})
    for digest in gone:
        folder().path(digest).unlink(missing_ok=True)


def _years_on(day: date, years: int) -> date:
    try:
        return day.replace(year=day.year + years)
    except ValueError:  # the 29th of February
        return (day + timedelta(days=1)).replace(year=day.year + years)


def _locked(user: Any, number: str) -> Case:
    visible(user, number)
    return Case.objects.select_for_update().get(number=number)


def _line(user: Any, number: str, action: str, detail: dict) -> None:
    AuditLine.objects.create(user=user, case_number=number, action=action, detail=detail)


def _sources(case: Case) -> set[str]:
    """The scans of every revision: undo may ask for any of them."""
    return {piece["sha256"] for row in case.revisions.all() for piece in row.document.get("pieces", [])}


def _result_keys(case: Case) -> set[str]:
    found = look(case)
    now = {node.manifest.key for node in found.nodes.values() if node.manifest}
    return now | set(case.last_good.values())


def digests_of(manifest: Manifest) -> set[str]:
    """Every blob a result names."""
    out: set[str] = set()

    def walk(ref: Any) -> None:
        if isinstance(ref, dict):
            for kind in ("mesh", "file"):
                if isinstance(ref.get(kind), str) and len(ref[kind]) == 64:
                    out.add(ref[kind])
            for part in (ref.get("by_piece") or {}).values():
                walk(part)

    for ref in manifest.values.values():
        walk(ref)
    return out


def _unused(digests: set[str], keys: set[str]) -> list[str]:
    """Forget results and files that no case left needs; returns the digests whose files may go."""
    still_sources: set[str] = set()
    still_keys: set[str] = set()
    for other in Case.objects.all().iterator():
        still_sources |= _sources(other)
        still_keys |= _result_keys(other)
    store = ServerStore()
    results = store.known(keys - still_keys)
    blobs = set(digests)
    for manifest in results.values():
        blobs |= digests_of(manifest)
    needed = set(still_sources)
    for manifest in store.known(still_keys).values():
        needed |= digests_of(manifest)
    gone = sorted(blobs - needed)
    Result.objects.filter(key__in=list(results)).delete()
    Blob.objects.filter(sha256__in=gone).delete()
    return gone


def packed(user: Any, number: str) -> bytes:
    """One ZIP: scans, settings, history, results and their files. The same case gives the same bytes."""
    case = visible(user, number)
    store = ServerStore()
    manifests = store.known(_result_keys(case))
    revisions = [
        {
            "number": r.number, "document": r.document, "changes": r.changes, "what": r.what, "kind": r.kind,
            "takes_back": r.takes_back, "who": label(r.author) if r.author else "", "at": r.created.isoformat(),
        }
        for r in case.revisions.select_related("author").order_by("number")
    ]  # fmt: skip
    files: dict[str, str] = {}
    document = document_of(case)
    for piece in document.pieces:
        # Under the day and the case's own number, whatever the scanner called it.
        files[f"scans/{document.opened or 'undated'}_{number}_{piece.id}_{piece.file.replace('/', '_')[-120:]}"] = piece.sha256
    blobs = sorted({d for m in manifests.values() for d in digests_of(m)} | _sources(case))
    index = {
        "format": FORMAT, "number": case.number, "accepted": document_of(case).accepted, "demanded": case.demanded,
        "revisions": revisions, "last_good": case.last_good, "scans": files,
        "results": {key: {k: v for k, v in m.as_json().items() if k != "key"} for key, m in sorted(manifests.items())},
    }  # fmt: skip
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:

        def add(name: str, data: bytes) -> None:
            archive.writestr(zipfile.ZipInfo(name, _FIXED_TIME), data)

        add(MARK, json.dumps(index, indent=1, sort_keys=True, ensure_ascii=False).encode())
        for name, digest in sorted(files.items()):
            add(name, folder().read(digest))
        for digest in blobs:
            if digest not in files.values() and folder().path(digest).exists():
                add(f"files/{digest}", folder().read(digest))
    return out.getvalue()


def is_packed(data: bytes) -> bool:
    """Is this a case of ours, carried here?"""
    if data[:4] != b"PK\x03\x04":
        return False
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            return MARK in archive.namelist()
    except Exception:  # a damaged archive is not one of ours; the ordinary way says what is wrong with it
        return False


def unpacked(user: Any, name: str, data: bytes) -> Case:
    """A carried case, under its own number where that is free. Raises UnreadableFile."""
    wrong = UnreadableFile(f"“{name}” is a case that is damaged or was changed. Export it again.", code="bad-case")
    try:
        index, blobs = _opened(name, data, limits())
        with transaction.atomic():
            return _restored(user, index, blobs)
    except UnreadableFile:
        raise
    except (
        zipfile.BadZipFile,
        ValueError,
        KeyError,
        TypeError,
        AttributeError,
        OSError,
        ValidationError,
        IntegrityError,
        RuntimeError,
    ) as error:
        raise wrong from error


def _opened(name: str, data: bytes, bound: Limits) -> tuple[dict, dict[str, bytes]]:
    """(index, bytes by digest); every file is what its digest says."""
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        members = archive.infolist()
        if len(members) > _MOST_MEMBERS or sum(m.file_size for m in members) > 10 * bound.drop_bytes:
            raise UnreadableFile(f"“{name}” is too large for a case.", code="too-large")
        index = json.loads(archive.read(MARK))
        if index["format"] != FORMAT:
            raise UnreadableFile(f"“{name}” was written by a newer Bite Bench. Bring this installation up to date.", code="newer")
        blobs = {}
        for member in members:
            if member.filename.startswith(("scans/", "files/")):
                content = archive.read(member)
                blobs[hashlib.sha256(content).hexdigest()] = content
    wanted = set(index["scans"].values()) | {p["sha256"] for r in index["revisions"] for p in r["document"]["pieces"]}
    if not wanted <= set(blobs):
        raise ValueError("a scan is missing or was changed")
    for digest in index["scans"].values():
        read_mesh(name, blobs[digest], bound)
    return index, blobs


def _restored(user: Any, index: dict, blobs: dict[str, bytes]) -> Case:
    number = str(index["number"])[:20]
    if Case.objects.filter(number=number).exists():
        number = next_number()
    for digest, content in blobs.items():
        keep(content, default_storage, digest)
    known = {s.name for s in standard().steps}
    for key, body in index["results"].items():
        manifest = Manifest(key=key, **body)
        # A result counts only with all its files, and only for a step that is known here.
        if manifest.step in known and digests_of(manifest) <= set(blobs):
            Result.objects.get_or_create(key=key, defaults={"step": manifest.step, "manifest": body})
    case = Case.objects.create(number=number, last_good=dict(index["last_good"]), demanded=list(index["demanded"]))
    for row in index["revisions"]:
        document = CaseDocument.model_validate({**row["document"], "number": row["document"].get("number") or number})
        Revision.objects.create(
            case=case, number=int(row["number"]), document=document.model_dump(mode="json"), changes=list(row["changes"]),
            what=f"{row['what']} ({row['who']}, {row['at'][:10]})"[:300] if row["who"] else str(row["what"])[:300],
            kind=str(row["kind"]), takes_back=row["takes_back"], author=None,
        )  # fmt: skip
        case.revision = int(row["number"])
    case.needs_work = True
    case.save()
    _line(user, number, "brought-in", {"from": index["number"]})
    ask_for_work(case)
    return case
