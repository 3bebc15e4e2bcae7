"""What an earlier test of the same run has worked out is not worked out again. A step is a pure function of what its key is over
(contents of its inputs, settings, version), so that the result is the same; tests of the work itself do without this. The
application of the browser tests knows it over its processes: the folder is named to them."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import queue
import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from unittest import mock

from bitecore.blobs import FolderBlobs
from bitecore.engine.gives import digests_in
from bitecore.engine.pool import Pool
from bitecore.engine.store import Manifest
from bitecore.engine.task import Task
from bitecore.views import VERSION, ViewJob, early_full
from runs import turns
from runs.owning import folder

_OURS = tempfile.TemporaryDirectory(prefix="bench-known-")
NAMED = "BENCH_TEST_KNOWN"
FOLDER = Path(os.environ.get(NAMED) or _OURS.name)
_IDLE: dict[bool, queue.SimpleQueue[_KnownPool]] = {True: queue.SimpleQueue(), False: queue.SimpleQueue()}


def _copied(from_: Path, to: Path) -> None:
    # A copy, for tests that break a blob in its place; there at once, for somebody may be waiting for it.
    if not to.exists():
        to.parent.mkdir(parents=True, exist_ok=True)
        fresh = to.with_name(f"{to.name}.{os.getpid()}")
        shutil.copyfile(from_, fresh)
        fresh.replace(to)


def _manifest(task: Task) -> Path:
    return FOLDER / "manifests" / f"{task.sheet}-{task.key}.json"


def _remember(task: Task, manifest: Manifest) -> None:
    at = _manifest(task)
    at.parent.mkdir(parents=True, exist_ok=True)
    fresh = at.with_suffix(f".{os.getpid()}")
    fresh.write_text(json.dumps(manifest.as_json()))
    fresh.replace(at)


def _views_of(job: ViewJob) -> dict[Path, Path]:
    """The files a view job makes, and where they are remembered: what is in them follows from the meshes alone."""
    said = json.dumps([VERSION, job.kind, job.meshes]).encode()
    kept = FOLDER / "views" / hashlib.sha256(said).hexdigest()
    to = Path(job.to)
    return {to: kept} | ({early_full(to): kept.with_suffix(".full")} if job.kind == "early" else {})


def _shown_before(job: ViewJob) -> bool:
    files = _views_of(job)
    if not all(kept.exists() for kept in files.values()):
        return False
    for made, kept in files.items():
        _copied(kept, made)
    return True


def _remember_views(job: ViewJob) -> None:
    for made, kept in _views_of(job).items():
        if made.exists():
            _copied(made, kept)


class _KnownPool(Pool):
    """A pool that answers at once what is known, and remembers the rest."""

    def __init__(self, blobs: FolderBlobs, nice: int) -> None:
        super().__init__(blobs, nice=nice)
        self._answers: list[tuple[Any, Any]] = []
        self._kept = FolderBlobs(FOLDER)

    def submit(self, task: Any) -> None:
        if isinstance(task, ViewJob) and _shown_before(task):
            self._answers.append((task, task.to))
            return
        if not isinstance(task, Task) or not _manifest(task).exists():
            super().submit(task)
            return
        known = json.loads(_manifest(task).read_text())
        for digest in digests_in(known["values"]):
            _copied(self._kept.path(digest), self.blobs.path(digest))
        self._answers.append((task, Manifest(**known)))

    @property
    def busy(self) -> int:
        return super().busy + len(self._answers)

    def poll(self, seconds: float) -> tuple[Any, Any] | None:
        if self._answers:
            return self._answers.pop(0)
        ended = super().poll(seconds)
        if ended is not None and isinstance(ended[0], Task) and not ended[1].passing:
            for digest in digests_in(ended[1].values):
                _copied(self.blobs.path(digest), self._kept.path(digest))
            _remember(ended[0], ended[1])
        elif ended is not None and isinstance(ended[0], ViewJob):
            _remember_views(ended[0])
        return ended

    def cancel(self) -> None:
        self._answers.clear()
        super().cancel()


def _take(*, front: bool) -> _KnownPool:
    try:
        return _IDLE[front].get_nowait()
    except queue.Empty:
        return _KnownPool(folder(), 0 if front else turns._STANDING_BACK)


def _give_back(pool: _KnownPool) -> None:
    pool.on_progress, pool.on_log = lambda *a: None, lambda text: None
    pool.cancel()
    _IDLE[pool.nice == 0].put(pool)


def _warm(count: int, *, front: bool) -> None:
    for _ in range(count):
        pool = _KnownPool(folder(), 0 if front else turns._STANDING_BACK)
        pool.start()
        _IDLE[front].put(pool)


@contextlib.contextmanager
def remembered() -> Iterator[None]:
    """Meanwhile the server's workers in this process know what they have worked out before."""
    with (
        mock.patch.object(turns.POOLS, "take", _take),
        mock.patch.object(turns.POOLS, "give_back", _give_back),
        mock.patch.object(turns.POOLS, "warm", _warm),
    ):
        yield
