"""Working one case out: evaluate, look whether the document has changed meanwhile, again until nothing is left."""

from __future__ import annotations

import logging
import queue
import threading
import time
from collections.abc import Callable
from typing import Any, TypeVar

from django.conf import settings
from django.db import InterfaceError, OperationalError, close_old_connections, connection

from bitecore.errors import Cancelled
from bitecore.progress import Run
from bitecore.runsheet import CaseDocument, Manifest, standard
from bitecore.runsheet.evaluate import evaluate
from bitecore.runsheet.graph import Graph, Node
from bitecore.runsheet.pool import Pool
from bitecore.runsheet.task import Task
from bitecore.views import ViewJob, early_full, view_path
from cases.blobs import folder
from cases.documents import document_of
from cases.models import Case
from cases.prints import remember

from .pictures import picture_job, turn_job
from .services import announce, look, remember_good
from .store import ServerStore

log = logging.getLogger("bench.work")
T = TypeVar("T")
_PATIENCE_S = 90.0
MOST_ATTEMPTS = 4


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
            close_old_connections()
            time.sleep(0.5)


class Pools:
    """Warm pools handed from job to job."""

    def __init__(self) -> None:
        self._idle: queue.SimpleQueue[Pool] = queue.SimpleQueue()

    def take(self) -> Pool:
        try:
            return self._idle.get_nowait()
        except queue.Empty:
            return Pool(folder())

    def give_back(self, pool: Pool) -> None:
        self._idle.put(pool)

    def warm(self, count: int) -> None:
        for _ in range(count):
            pool = Pool(folder())
            pool.start()
            self._idle.put(pool)


POOLS = Pools()


def work(case_id: int, attempts: int, stop: threading.Event) -> None:
    """Bring a case up to date. What is found in the database after a crash is enough to go on."""
    pool = POOLS.take()
    try:
        worker = CaseWork(case_id, pool, stop)
        if attempts >= MOST_ATTEMPTS:
            patiently(worker.give_up)
        else:
            worker.run()
    finally:
        pool.on_progress, pool.on_log = lambda *a: None, lambda text: None
        pool.cancel()
        POOLS.give_back(pool)
        connection.close()


class CaseWork:
    """One job's view of one case."""

    def __init__(self, case_id: int, pool: Pool, stop: threading.Event) -> None:
        self.case_id, self.pool, self.stop = case_id, pool, stop
        self.store = ServerStore()
        self.case = patiently(lambda: Case.objects.get(pk=case_id))
        self._looked = 0.0
        self._running: dict[str, dict] = {}
        pool.on_progress = self._progress
        pool.on_log = lambda text: log.error("case %s: %s", self.case.number, text)

    def run(self) -> None:
        while not self.stop.is_set():
            self.case = patiently(lambda: Case.objects.get(pk=self.case_id))
            if self.case.held:
                return self._settle(done=False)
            document = patiently(lambda: document_of(self.case))
            for early in early_jobs(document):
                self.pool.submit(early)
            runner = _Views(self.pool)
            try:
                result = evaluate(
                    document,
                    standard(),
                    _PatientStore(self.store),
                    runner=runner,
                    run=Run(stopped=self._overtaken),
                    demanded=frozenset(self.case.demanded),
                    on_start=self._started,
                    on_done=self._done,
                )
            except Cancelled:
                self._running.clear()
                continue
            runner.rest(result.graph)
            self._views_left()
            if patiently(lambda graph=result.graph: self._finish(graph)):  # type: ignore[misc]
                return None
        return None

    def _overtaken(self) -> bool:
        """A newer revision, a hold or the end of the worker: asked at most four times a second."""
        if self.stop.is_set():
            return True
        if time.monotonic() - self._looked < 0.25:
            return False
        self._looked = time.monotonic()
        now = patiently(lambda: Case.objects.only("revision", "held", "demanded").get(pk=self.case_id))
        if now.revision == self.case.revision and now.held == self.case.held and now.demanded == self.case.demanded:
            return False
        return now.held or self._unwanted()

    def _unwanted(self) -> bool:
        """Has the newer document no use for something that runs now? If all is still wanted, let it go on."""
        self.case = patiently(lambda: Case.objects.get(pk=self.case_id))
        graph = patiently(lambda: look(self.case, self.store))
        wanted = {n.task.key for n in graph.nodes.values() if n.task}
        return not set(self._running) <= wanted

    def _started(self, node: Node) -> None:
        assert node.task is not None
        self._running[node.task.key] = {"node": node.id, "fraction": 0.0, "what": node.step.title}
        self._say()

    def _progress(self, job: Any, fraction: float, what: str) -> None:
        if isinstance(job, Task) and job.key in self._running:
            self._running[job.key] |= {"fraction": round(fraction, 3), "what": what}
            self._say()

    def _say(self) -> None:
        working = {entry["node"]: entry for entry in self._running.values()}

        def write() -> None:
            Case.objects.filter(pk=self.case_id).update(working=working)
            announce({"case": self.case.number, "kind": "progress", "working": working})

        patiently(write)

    def _done(self, node: Node, manifest: Manifest) -> None:
        self._running.pop(manifest.key, None)
        if not manifest.stopped:
            good = {**self.case.last_good, node.id: manifest.key}
            self.case.last_good = good
            patiently(lambda: Case.objects.filter(pk=self.case_id).update(last_good=good))
        if node.step.name == "intake" and "about" in manifest.values:
            file = document_of(self.case).entry(node.piece).file
            patiently(lambda: remember(self.case, node.piece, file, manifest.values["about"]["json"]["print"]))
        self._say()
        patiently(lambda: announce({"case": self.case.number, "kind": "state"}))

    def _views_left(self) -> None:
        """Let pictures for the stage be finished before the job ends."""
        while self.pool.busy:
            try:
                self.pool.wait(Run(stopped=self.stop.is_set))
            except Cancelled:
                return

    def _finish(self, graph: Graph) -> bool:
        """True when nothing is left to do for the newest revision."""
        now = Case.objects.get(pk=self.case_id)
        if now.revision != self.case.revision or now.demanded != self.case.demanded:
            return False
        remember_good(now, graph)
        self.case = now
        job = picture_job(graph)
        if job is not None:
            self.pool.submit(job)
            self._views_left()
            Case.objects.filter(pk=self.case_id).update(picture=job.to.rsplit("/", 1)[1].removesuffix(".png"))
        self._settle(done=True)
        return True

    def _settle(self, *, done: bool) -> None:
        def write() -> None:
            change: dict[str, Any] = {"working": {}, "trouble": ""}
            if done:
                # Only for the revision that was worked out: a newer one keeps its need.
                Case.objects.filter(pk=self.case_id, revision=self.case.revision).update(needs_work=False)
            Case.objects.filter(pk=self.case_id).update(**change)
            announce({"case": self.case.number, "kind": "state"})

        patiently(write)

    def give_up(self) -> None:
        text = "Working this case out was ended several times. Change a setting or press Go on to try again."
        Case.objects.filter(pk=self.case_id).update(needs_work=False, working={}, trouble=text, held=True)
        announce({"case": self.case.number, "kind": "state"})


class _PatientStore:
    """The store, waiting out a restart of the database."""

    def __init__(self, store: ServerStore) -> None:
        self._store, self.blobs = store, store.blobs

    def get(self, key: str) -> Manifest | None:
        return patiently(lambda: self._store.get(key))

    def put(self, manifest: Manifest) -> None:
        patiently(lambda: self._store.put(manifest))


class _Views:
    """The pool as a runner that also makes what the stage shows of each new mesh, where a child has nothing else to do."""

    def __init__(self, pool: Pool) -> None:
        self._pool, self.slots = pool, pool.slots
        self._views: list[ViewJob] = []
        self._asked: set[str] = set()

    def submit(self, task: Task) -> None:
        self._pool.submit(task)

    def wait(self, run: Run) -> tuple[Task, Manifest]:
        while True:
            if self._views and self._pool.busy < self.slots:
                self._pool.submit(self._views.pop(0))
            job, result = self._pool.wait(run)
            if isinstance(job, Task):
                self._want(job.step, result)
                return job, result

    def _want(self, step: str, manifest: Manifest) -> None:
        fresh = [view for view in view_jobs(step, manifest) if view.to not in self._asked]
        self._asked |= {view.to for view in fresh}
        self._views += fresh

    def rest(self, graph: Graph) -> None:
        """Hand out what is left; also of results that were there already, whose pictures may be of an older look."""
        for node in graph.nodes.values():
            if node.manifest is not None:
                self._want(node.step.name, node.manifest)
        for view in self._views:
            self._pool.submit(view)
        self._views.clear()


def view_jobs(step: str, manifest: Manifest) -> list[ViewJob]:
    """The GLB of every mesh a step shows; of a scan its tile that turns, too."""
    out: list[ViewJob] = []
    for name in standard()[step].shows:
        ref = manifest.values.get(name) or {}
        for one in ref.get("by_piece", {"": ref}).values():
            if one and "mesh" in one:
                out += _full(one["mesh"])
    if step == "intake" and "mesh" in manifest.values:
        turning = turn_job(manifest.values["mesh"]["mesh"], manifest.values["about"]["json"])
        out = [*([turning] if turning else []), *out]
    return out


def early_jobs(document: CaseDocument) -> list[ViewJob]:
    """Copies of every scan, straight from its file: there before Intake is through."""
    out = []
    for piece in document.pieces:
        light = view_path(settings.VIEW_ROOT, piece.sha256, "light")
        if not (light.exists() and early_full(light).exists()):
            out.append(ViewJob("early", ((piece.sha256, None),), str(light), True))
    return out


def views_missing(case: Case) -> bool:
    """Is there something on this case's stage of which no picture is kept?"""
    if early_jobs(document_of(case)):
        return True
    found = ServerStore().known(case.last_good.values())
    return any(view_jobs(manifest.step, manifest) for manifest in found.values())


def _full(digest: str) -> list[ViewJob]:
    path = view_path(settings.VIEW_ROOT, digest, "full")
    return [] if path.exists() else [ViewJob("full", ((digest, None),), str(path))]
