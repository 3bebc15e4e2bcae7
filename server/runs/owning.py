"""Whom blobs and results are kept for. A reference is taken in the transaction that promises it; what nothing refers to
any more goes, and never while somebody takes a reference to it."""

from __future__ import annotations

import logging
import os
import shutil
import time
from collections.abc import Iterable, Iterator, Mapping
from datetime import timedelta
from pathlib import Path

from django.conf import settings
from django.db import connection, transaction
from django.db.models import OuterRef, Subquery
from django.utils import timezone

from bitecore.blobs import FolderBlobs, is_digest
from bitecore.engine.gives import digests_in
from bitecore.engine.store import Manifest
from bitecore.views import views_of

from .models import BlobUse, Owner, Result, ResultBlob, ResultUse

log = logging.getLogger("bench.owning")
# A blob without a reference may be one that a step has just written; after this it is none (seconds).
GRACE_S = 900.0
# What an earlier setting gave is left alone for so long: undo is instant then, and nothing that is being worked out goes.
UNPINNED_S = 3600.0
_AT_ONCE = 50


class BlobsGone(Exception):
    """A blob that a result names was dropped while the result was on its way: it has to be worked out again."""


class OwnerGone(Exception):
    """What a result was worked out for is not there any more."""


def folder() -> FolderBlobs:
    """The blobs as the computing processes see them."""
    return FolderBlobs(Path(settings.BLOB_ROOT))


def pictures(owner_id: int) -> Path:
    """Where the still pictures of an owner lie; they go with it."""
    return Path(settings.VIEW_ROOT) / "pictures" / str(int(owner_id))


def _hold(digests: Iterable[str], *, shared: bool) -> None:
    """To the end of the transaction nobody drops these (shared), or takes a reference to them. In one order for all."""
    name = "pg_advisory_xact_lock_shared" if shared else "pg_advisory_xact_lock"
    with connection.cursor() as cursor:
        for digest in sorted(set(digests)):
            cursor.execute(f"SELECT {name}(hashtextextended(%s, 1))", [digest])


def take_files(owner_id: int, files: Iterable[tuple[str, Path]]) -> None:
    """The owner needs these files from now on: (digest, where its bytes lie ready). Within a transaction."""
    wanted = dict(files)
    _hold(wanted, shared=True)
    for digest, ready in wanted.items():
        target = folder().path(digest)
        if not target.exists():
            target.parent.mkdir(parents=True, exist_ok=True)
            try:
                os.link(ready, target)
            except FileExistsError:
                pass
            except OSError:
                # Another file system, or one without links.
                folder().write(ready.read_bytes(), digest)
    BlobUse.objects.bulk_create([BlobUse(owner_id=owner_id, sha256=d) for d in wanted], ignore_conflicts=True)


def take_bytes(owner_id: int, data: Mapping[str, bytes]) -> None:
    """The owner needs these bytes from now on, by digest. Within a transaction."""
    _hold(data, shared=True)
    for digest, content in data.items():
        folder().write(content, digest)
    BlobUse.objects.bulk_create([BlobUse(owner_id=owner_id, sha256=d) for d in data], ignore_conflicts=True)


def use_blobs(owner_id: int, digests: Iterable[str]) -> None:
    """The owner needs these blobs of another owner's from now on. Within a transaction. Raises BlobsGone."""
    wanted = set(digests)
    _hold(wanted, shared=True)
    if not all(folder().path(d).exists() for d in wanted):
        raise BlobsGone
    BlobUse.objects.bulk_create([BlobUse(owner_id=owner_id, sha256=d) for d in wanted], ignore_conflicts=True)


@transaction.atomic
def take_result(owner_id: int, manifest: Manifest) -> None:
    """Keep a result for an owner. Raises BlobsGone, OwnerGone."""
    digests = digests_of(manifest)
    if not Owner.objects.select_for_update(no_key=True, of=("self",)).filter(pk=owner_id).exists():
        raise OwnerGone
    _hold(digests, shared=True)
    if not all(folder().path(d).exists() for d in digests):
        raise BlobsGone
    body = manifest.as_json()
    body.pop("key")
    _, made = Result.objects.get_or_create(key=manifest.key, defaults={"step": manifest.step, "manifest": body})
    if made:
        ResultBlob.objects.bulk_create([ResultBlob(result_id=manifest.key, sha256=d) for d in sorted(digests)])
    ResultUse.objects.bulk_create([ResultUse(owner_id=owner_id, result_id=manifest.key)], ignore_conflicts=True)


@transaction.atomic
def use_results(owner_id: int, keys: Iterable[str], *, also: Iterable[str] = ()) -> bool:
    """The owner needs these results, which were there a moment ago. Is one gone meanwhile? also : where they are still there."""
    wanted, now = set(keys), timezone.now()
    uses = ResultUse.objects.filter(owner_id=owner_id, result_id__in=wanted | set(also))
    known = set(uses.values_list("result_id", flat=True))
    uses.update(used=now)
    if wanted - known:
        there = list(
            Result.objects.select_for_update(no_key=True).filter(key__in=wanted - known).order_by("key").values_list("key", flat=True)
        )
        fresh = [ResultUse(owner_id=owner_id, result_id=key, used=now) for key in there]
        ResultUse.objects.bulk_create(fresh, ignore_conflicts=True)
        return len(there) < len(wanted - known)
    return False


def digests_of(manifest: Manifest) -> set[str]:
    """Every blob a result names."""
    return set(digests_in(manifest.values))


def let_go(owner_id: int) -> set[str]:
    """Within the transaction that ends the owner: its uses and what they alone kept. Gives the digests to be swept when it
    is through."""
    owner = Owner.objects.select_for_update().get(pk=owner_id)
    keys = list(owner.results.values_list("result_id", flat=True))
    digests = set(owner.files.values_list("sha256", flat=True))
    owner.delete()
    return digests | drop_results(keys)


def drop_results(keys: Iterable[str]) -> set[str]:
    """Forget those of the results that nobody needs; the digests they named."""
    held = list(Result.objects.select_for_update().filter(key__in=list(keys)).order_by("key").values_list("key", flat=True))
    used = set(ResultUse.objects.filter(result_id__in=held).values_list("result_id", flat=True))
    loose = [key for key in held if key not in used]
    digests = set(ResultBlob.objects.filter(result_id__in=loose).values_list("sha256", flat=True))
    Result.objects.filter(key__in=loose).delete()
    return digests


def sweep(digests: Iterable[str]) -> int:
    """Remove those of the blobs, and what the stage shows of them, that nothing refers to. How many went."""
    gone = 0
    for digest in digests:
        with transaction.atomic():
            _hold([digest], shared=False)
            if _needed(digest):
                continue
            folder().path(digest).unlink(missing_ok=True)
            for path in views_of(settings.VIEW_ROOT, digest):
                # One copy may show a scan and the mesh read from it.
                if path.name.startswith(digest) or not _needed(path.name.split(".")[0]):
                    path.unlink(missing_ok=True)
            gone += 1
    return gone


def _needed(digest: str) -> bool:
    return BlobUse.objects.filter(sha256=digest).exists() or ResultBlob.objects.filter(sha256=digest).exists()


def drop_unpinned(limit_bytes: int, *, grace_s: float = UNPINNED_S) -> int:
    """Above the limit: forget results that stand on no run sheet any more, those longest unused first. Undo works them out
    again. How many uses were forgotten."""
    over, gone = _kept_bytes() - limit_bytes, 0
    while over > 0:
        # What stands on an owner's run sheet was used when it last changed; what an earlier setting gave, before that.
        newest = ResultUse.objects.filter(owner=OuterRef("owner")).order_by("-used").values("used")[:1]
        old = timezone.now() - timedelta(seconds=grace_s)
        loose = list(ResultUse.objects.filter(used__lt=Subquery(newest), used__lte=old).order_by("used", "pk")[:_AT_ONCE])
        if not loose:
            break
        with transaction.atomic():
            ResultUse.objects.filter(pk__in=[use.pk for use in loose]).delete()
            digests = drop_results({use.result_id for use in loose})
        over -= sum(_size(folder().path(digest)) for digest in digests)
        sweep(digests)
        gone += len(loose)
    return gone


def _kept_bytes() -> int:
    return sum(_size(path) for path in Path(settings.BLOB_ROOT).glob("??/*"))


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return 0


def sweep_orphans(*, grace_s: float = GRACE_S) -> int:
    """Remove blobs, views, pictures and uploads that nothing refers to and that are older than the grace: what a step
    wrote whose result was never kept, or a drop that broke off."""
    if Owner.objects.filter(counted=False).exists():
        return 0
    with transaction.atomic():
        loose = drop_results(Result.objects.filter(uses__isnull=True).values_list("key", flat=True)[:500])
    old = time.time() - grace_s
    digests = {path.name for path in _older(Path(settings.BLOB_ROOT).glob("??/*"), old) if is_digest(path.name)}
    digests |= {path.name.split(".")[0] for path in _older(Path(settings.VIEW_ROOT).glob("v*/??/*.glb"), old)}
    known = set(BlobUse.objects.values_list("sha256", flat=True)) | set(ResultBlob.objects.values_list("sha256", flat=True))
    gone = sweep(loose | {d for d in digests - known if is_digest(d)})
    for path in _older(Path(settings.BLOB_ROOT).glob("??/tmp*"), old):
        path.unlink(missing_ok=True)
    owners = {str(pk) for pk in Owner.objects.values_list("pk", flat=True)}
    for path in _older(Path(settings.VIEW_ROOT).glob("pictures/*"), old):
        if path.name not in owners:
            shutil.rmtree(path, ignore_errors=True) if path.is_dir() else path.unlink(missing_ok=True)
    for path in _older(Path(settings.INCOMING_ROOT).glob("*"), old):
        shutil.rmtree(path, ignore_errors=True) if path.is_dir() else path.unlink(missing_ok=True)
    return gone


def _older(paths: Iterable[Path], then: float) -> Iterator[Path]:
    for path in paths:
        try:
            if path.stat().st_mtime < then:
                yield path
        except OSError:
            continue
