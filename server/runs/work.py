"""Working one sheet out: evaluate, look whether the document has changed meanwhile, again until nothing is left."""

from __future__ import annotations

import contextlib
import logging
import threading
import time
from collections.abc import Callable
from datetime import timedelta
from typing import Any, TypeVar

from django.conf import settings
from django.db import IntegrityError, InterfaceError, OperationalError, close_old_connections, connection
from django.utils import timezone

from bitecore.engine.evaluate import Evaluation, evaluate
from bitecore.engine.gives import digests_in
from bitecore.engine.graph import Node
from bitecore.engine.model import Step
from bitecore.engine.store import Manifest
from bitecore.engine.task import Task
from bitecore.errors import Cancelled
from bitecore.progress import Run
from bitecore.views import ViewJob, view_path
from ground.links import begin_anew

from .kinds import KINDS, GoneMeanwhile, Kind, document_of, kind_of, lock_of
from .models import Worked
from .owning import OwnerGone, digests_of, sweep, use_results
from .services import accepted_keys, look, remember_good, results_of, say
from .store import ServerStore
from .turns import POOLS, TURNS, Desk

log = logging.getLogger("bench.work")
T = TypeVar("T")
_PATIENCE_S = 90.0
MOST_ATTEMPTS = 4
# How often a case that is worked on is written to for the rack (seconds).
_KEPT_EVERY_S, _SHOWN_EVERY_S = 2.0, 0.7
_FIRST_WAIT, _LONGEST_WAIT, _MOST_RETRIES = timedelta(seconds=15), timedelta(minutes=10), 8


def patiently(do: Callable[[], T]) -> T:
    """Do it again while the database is away; after a minute and a half the job itself is tried again."""
    end = time.monotonic() + _PATIENCE_S
    while True:
        try:
            return do()
        except (OperationalError, InterfaceError):
            if time.monotonic() > end:
                raise
            connection.close()
            begin_anew()
            close_old_connections()
            time.sleep(0.5)


def work(kind: str, pk: int, attempts: int, stop: threading.Event) -> None:
    """Bring one up to date. What is found in the database after a crash is enough to go on."""
    rows = KINDS[kind].model.objects
    try:
        worker = SheetWork(KINDS[kind], pk, stop)
    except KINDS[kind].model.DoesNotExist:
        return
    try:
        if attempts >= MOST_ATTEMPTS:
            patiently(worker.give_up)
        else:
            worker.run()
    except (KINDS[kind].model.DoesNotExist, GoneMeanwhile, OwnerGone, IntegrityError):
        if rows.filter(pk=pk).exists():
            raise
        # Deleted meanwhile: what a child has just written for it goes too.
        worker.desk.close()
        sweep(worker.written)
    finally:
        TURNS.leave(worker.job)
        worker.desk.close()
        connection.close()


class SheetWork:
    """One job's view of one sheet."""

    def __init__(self, kind: Kind[Any], pk: int, stop: threading.Event) -> None:
        self.kind, self.pk, self.stop = kind, pk, stop
        self.row: Worked = self._newest()
        self.job = lock_of(kind, pk)
        self.store = ServerStore(self.row.owner_id)
        # Digests of the result that is being kept, should there be nothing to keep it for.
        self.written: set[str] = set()
        self._looked = self._kept = self._shown = 0.0
        self._running: dict[str, dict] = {}
        log_text = lambda text: log.error("%s %s: %s", kind.name, kind.called(self.row), text)  # noqa: E731
        self.desk = Desk(self.job, self._progress, log_text, self._views)
        self._rank()

    @property
    def _rows(self) -> Any:
        return self.kind.model.objects.filter(pk=self.pk)

    def _newest(self, *fields: str) -> Worked:
        return patiently(lambda: self.kind.model.objects.only(*fields).get(pk=self.pk))

    def run(self) -> None:
        while not self.stop.is_set():
            self.row = self._newest()
            if self.row.held:
                return self._settle(done=False)
            document = document_of(self.row)
            for early in self.kind.early(self.row, document):
                self.desk.look_first(early)
            try:
                result = evaluate(
                    document,
                    self.kind.sheet,
                    _PatientStore(self.store, self.written),
                    runner=self.desk,
                    run=Run(stopped=self._overtaken),
                    demanded=frozenset(self.row.demanded),
                    on_start=self._started,
                    on_done=self._done,
                )
            except Cancelled:
                self._running.clear()
                continue
            for node in result.graph.nodes.values():
                # Also what was there already: its pictures may be of an older look.
                if node.manifest is not None:
                    self.desk.want(node.step.name, node.manifest)
            self._views_left()
            if patiently(lambda result=result: self._finish(result)):  # type: ignore[misc]
                return None
        return None

    def _rank(self) -> None:
        TURNS.set(self.job, patiently(lambda: self.kind.rank(self.row)))

    def _views(self, step: str, manifest: Manifest) -> list[ViewJob]:
        return views_of_result(self.kind, self.row, step, manifest)

    def _overtaken(self) -> bool:
        """A newer revision, a hold or the end of the worker: asked at most four times a second."""
        if self.stop.is_set():
            return True
        if time.monotonic() - self._looked < 0.25:
            return False
        self._looked = time.monotonic()
        now = self._newest("revision", "held", "demanded", "wanted")
        self.row.wanted = now.wanted
        self._rank()
        if now.revision == self.row.revision and now.held == self.row.held and now.demanded == self.row.demanded:
            return False
        return now.held or self._unwanted()

    def _unwanted(self) -> bool:
        """Has the newer document no use for something that runs now? If all is still wanted, let it go on."""
        self.row = self._newest()
        graph = patiently(lambda: look(self.row, self.store))
        wanted = {n.task.key for n in graph.nodes.values() if n.task}
        return not set(self._running) <= wanted

    def _started(self, node: Node) -> None:
        assert node.task is not None
        self._running[node.task.key] = {"node": node.id, "fraction": 0.0, "what": node.step.title}
        self._say(turned=True)

    def _progress(self, job: Any, fraction: float, what: str) -> None:
        if isinstance(job, Task) and job.key in self._running:
            self._running[job.key] |= {"fraction": round(fraction, 3), "what": what}
            self._say()

    def _say(self, *, turned: bool = False) -> None:
        """Tell every browser how far it is; kept with the row only now and then, and where something began or ended."""
        working = {entry["node"]: entry for entry in self._running.values()}
        keep = turned or time.monotonic() - self._kept > _KEPT_EVERY_S
        if keep:
            self._kept = time.monotonic()

        def write() -> None:
            if keep:
                self._rows.update(working=working)
            say(self.row, kind="progress", working=working)

        patiently(write)

    def _done(self, node: Node, manifest: Manifest) -> None:
        self._running.pop(manifest.key, None)
        if not manifest.stopped and self.store.has(manifest.key):
            good = {**self.row.last_good, node.id: manifest.key}
            self.row.last_good = good
            patiently(lambda: self._rows.update(last_good=good))
        patiently(lambda: self.kind.learned(self.row, node, manifest))
        self._say(turned=True)
        self._show_in_lists()
        patiently(lambda: say(self.row, kind="state"))

    def _show_in_lists(self) -> None:
        """Its steps as they stand now; not after each of many results in a row."""
        if time.monotonic() - self._shown > _SHOWN_EVERY_S:
            self._shown = time.monotonic()
            now = self._newest()
            document = document_of(now)
            patiently(lambda: self.kind.summarise(now, document, look(now, self.store, document=document)))

    def _views_left(self, *more: ViewJob) -> None:
        """Let pictures for the stage be finished before the job ends."""
        with contextlib.suppress(Cancelled):
            self.desk.finish_views(Run(stopped=self._overtaken), *more)

    def _finish(self, result: Evaluation) -> bool:
        """True when nothing is left to do for the newest revision."""
        now, graph = self.kind.model.objects.get(pk=self.pk), result.graph
        if now.revision != self.row.revision or now.demanded != self.row.demanded:
            return False
        remember_good(now, graph)
        document = document_of(now)
        use_results(now.owner_id, results_of(graph), also=[*now.last_good.values(), *accepted_keys(document)])
        self.kind.summarise(now, document, graph)
        self.row = now
        job = self.kind.picture(now, graph)
        if job is not None:
            self._views_left(job)
            self.kind.pictured(now, job)
        if result.passing:
            self._later(result.passing[0])
        else:
            self._settle(done=True)
        return True

    def _later(self, failed: Manifest) -> None:
        """The surroundings were in the way: said, and tried again by itself after a while that grows; then by hand."""
        sentence = f"{self.kind.sheet.registry[failed.step].title}: {failed.flags[0]['message']}"
        retries = self.row.retries + 1
        wait = min(_FIRST_WAIT * 2 ** (retries - 1), _LONGEST_WAIT)
        retry = timezone.now() + wait if retries <= _MOST_RETRIES else None
        called = self.kind.called(self.row)
        log.error("%s %s: %s/%s %s", self.kind.name, called, failed.step, failed.piece, failed.flags[0]["code"])
        self._rows.filter(revision=self.row.revision).update(
            needs_work=False, working={}, trouble=sentence, retry=retry, retries=retries
        )  # fmt: skip
        say(self.row, kind="state")

    def _settle(self, *, done: bool) -> None:
        def write() -> None:
            if done:
                # Only for the revision that was worked out: a newer one keeps its need.
                self._rows.filter(revision=self.row.revision).update(needs_work=False, retry=None, retries=0)
            self._rows.update(working={}, trouble="")
            say(self.row, kind="state")

        patiently(write)

    def give_up(self) -> None:
        text = f"Working this {self.kind.name} out was ended several times. Change a setting or press Go on to try again."
        self._rows.update(needs_work=False, working={}, trouble=text, held=True)
        say(self.row, kind="state")


class _PatientStore:
    """The store, waiting out a restart of the database. written : gets the digests of what is being kept."""

    def __init__(self, store: ServerStore, written: set[str]) -> None:
        self._store, self.blobs, self._written = store, store.blobs, written

    def get(self, key: str) -> Manifest | None:
        return patiently(lambda: self._store.get(key))

    def put(self, manifest: Manifest) -> None:
        self._written.clear()
        self._written |= digests_of(manifest)
        patiently(lambda: self._store.put(manifest))


def views_of_result(kind: Kind[Any], row: Worked, step: str, manifest: Manifest) -> list[ViewJob]:
    """What is made ready as soon as a result is there."""
    return [*kind.beside(row, step, manifest), *full_views(kind.sheet.registry[step], manifest)]


def full_views(step: Step, manifest: Manifest) -> list[ViewJob]:
    """The GLB of every mesh a step shows."""
    return [job for name in step.shows for digest in digests_in(manifest.values.get(name)) for job in _full(digest)]


def views_missing(row: Worked) -> bool:
    """Is there something on its stage of which no picture is kept?"""
    kind = kind_of(row)
    if kind.early(row, document_of(row)):
        return True
    found = ServerStore().known(row.last_good.values())
    return any(views_of_result(kind, row, manifest.step, manifest) for manifest in found.values())


def _full(digest: str) -> list[ViewJob]:
    path = view_path(settings.VIEW_ROOT, digest, "full")
    return [] if path.exists() else [ViewJob("full", ((digest, None),), str(path))]


def make_full_view(digest: str) -> None:
    """A copy that somebody has just asked for: nobody waits longer than for those before it."""
    jobs = _full(digest)
    if not jobs:
        return
    pool = POOLS.take(front=True)
    try:
        pool.submit(jobs[0])
        pool.wait()
    finally:
        POOLS.give_back(pool)
