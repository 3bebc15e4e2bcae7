"""Working one case out: evaluate, look whether the document has changed meanwhile, again until nothing is left."""

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

from bitecore.errors import Cancelled
from bitecore.progress import Run
from bitecore.runsheet import CaseDocument, Evaluation, Manifest, standard
from bitecore.runsheet.evaluate import evaluate
from bitecore.runsheet.graph import Node
from bitecore.runsheet.task import Task
from bitecore.views import ViewJob, early_full, view_path
from cases.documents import CaseGone, document_of
from cases.models import Case
from cases.prints import remember
from cases.trays import keep_summary
from config.links import begin_anew

from .owning import OwnerGone, digests_of, sweep, use_results
from .pictures import picture_job, turn_job
from .services import announce, look, rank_of, remember_good
from .store import ServerStore
from .turns import TURNS, Desk

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


def work(case_id: int, attempts: int, stop: threading.Event) -> None:
    """Bring a case up to date. What is found in the database after a crash is enough to go on."""
    try:
        worker = CaseWork(case_id, stop)
    except Case.DoesNotExist:
        return
    try:
        if attempts >= MOST_ATTEMPTS:
            patiently(worker.give_up)
        else:
            worker.run()
    except (Case.DoesNotExist, CaseGone, OwnerGone, IntegrityError):
        if Case.objects.filter(pk=case_id).exists():
            raise
        # Deleted meanwhile: what a child has just written for it goes too.
        worker.desk.close()
        sweep(worker.written)
    finally:
        TURNS.leave(case_id)
        worker.desk.close()
        connection.close()


class CaseWork:
    """One job's view of one case."""

    def __init__(self, case_id: int, stop: threading.Event) -> None:
        self.case_id, self.stop = case_id, stop
        self.case = patiently(lambda: Case.objects.get(pk=case_id))
        self.store = ServerStore(self.case.owner_id)
        # Digests of the result that is being kept, should there be no case to keep it for.
        self.written: set[str] = set()
        self._looked = self._kept = self._shown = 0.0
        self._running: dict[str, dict] = {}
        log_text = lambda text: log.error("case %s: %s", self.case.number, text)  # noqa: E731
        self.desk = Desk(case_id, self._progress, log_text, self._views)
        self._rank()

    def run(self) -> None:
        while not self.stop.is_set():
            self.case = patiently(lambda: Case.objects.get(pk=self.case_id))
            if self.case.held:
                return self._settle(done=False)
            document = patiently(lambda: document_of(self.case))
            for early in early_jobs(document):
                self.desk.look_first(early)
            try:
                result = evaluate(
                    document,
                    standard(),
                    _PatientStore(self.store, self.written),
                    runner=self.desk,
                    run=Run(stopped=self._overtaken),
                    demanded=frozenset(self.case.demanded),
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
        TURNS.set(self.case_id, patiently(lambda: rank_of(self.case)))

    def _views(self, step: str, manifest: Manifest) -> list[ViewJob]:
        return view_jobs(self.case.owner_id, step, manifest)

    def _overtaken(self) -> bool:
        """A newer revision, a hold or the end of the worker: asked at most four times a second."""
        if self.stop.is_set():
            return True
        if time.monotonic() - self._looked < 0.25:
            return False
        self._looked = time.monotonic()
        now = patiently(lambda: Case.objects.only("revision", "held", "demanded", "wanted").get(pk=self.case_id))
        self.case.wanted = now.wanted
        self._rank()
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
        self._say(turned=True)

    def _progress(self, job: Any, fraction: float, what: str) -> None:
        if isinstance(job, Task) and job.key in self._running:
            self._running[job.key] |= {"fraction": round(fraction, 3), "what": what}
            self._say()

    def _say(self, *, turned: bool = False) -> None:
        """Tell every browser how far it is; kept with the case only now and then, and where something began or ended."""
        working = {entry["node"]: entry for entry in self._running.values()}
        keep = turned or time.monotonic() - self._kept > _KEPT_EVERY_S
        if keep:
            self._kept = time.monotonic()

        def write() -> None:
            if keep:
                Case.objects.filter(pk=self.case_id).update(working=working)
            announce({"case": self.case.number, "kind": "progress", "working": working})

        patiently(write)

    def _done(self, node: Node, manifest: Manifest) -> None:
        self._running.pop(manifest.key, None)
        if not manifest.stopped and self.store.has(manifest.key):
            good = {**self.case.last_good, node.id: manifest.key}
            self.case.last_good = good
            patiently(lambda: Case.objects.filter(pk=self.case_id).update(last_good=good))
        if node.step.name == "intake" and "about" in manifest.values:
            patiently(lambda: remember(self.case, node.piece, manifest.values["about"]["json"]["print"]))
        self._say(turned=True)
        self._show_on_the_rack()
        patiently(lambda: announce({"case": self.case.number, "kind": "state"}))

    def _show_on_the_rack(self) -> None:
        """Its steps as they stand now; not after each of many results in a row."""
        if time.monotonic() - self._shown > _SHOWN_EVERY_S:
            self._shown = time.monotonic()
            document = patiently(lambda: document_of(self.case))
            patiently(lambda: keep_summary(self.case, document, look(self.case, self.store, document=document)))

    def _views_left(self, *more: ViewJob) -> None:
        """Let pictures for the stage be finished before the job ends."""
        with contextlib.suppress(Cancelled):
            self.desk.finish_views(Run(stopped=self._overtaken), *more)

    def _finish(self, result: Evaluation) -> bool:
        """True when nothing is left to do for the newest revision."""
        now, graph = Case.objects.get(pk=self.case_id), result.graph
        if now.revision != self.case.revision or now.demanded != self.case.demanded:
            return False
        remember_good(now, graph)
        there = [n.manifest.key for n in graph.nodes.values() if n.manifest and n.manifest.key and not n.manifest.passing]
        use_results(now.owner_id, there, also=now.last_good.values())
        keep_summary(now, document_of(now), graph)
        self.case = now
        job = picture_job(now.owner_id, graph)
        if job is not None:
            self._views_left(job)
            Case.objects.filter(pk=self.case_id).update(picture=job.to.rsplit("/", 1)[1].removesuffix(".png"))
        if result.passing:
            self._later(result.passing[0])
        else:
            self._settle(done=True)
        return True

    def _later(self, failed: Manifest) -> None:
        """The surroundings were in the way: said, and tried again by itself after a while that grows; then by hand."""
        sentence = f"{standard()[failed.step].title}: {failed.flags[0]['message']}"
        retries = self.case.retries + 1
        wait = min(_FIRST_WAIT * 2 ** (retries - 1), _LONGEST_WAIT)
        retry = timezone.now() + wait if retries <= _MOST_RETRIES else None
        log.error("case %s: %s/%s %s", self.case.number, failed.step, failed.piece, failed.flags[0]["code"])
        Case.objects.filter(pk=self.case_id, revision=self.case.revision).update(
            needs_work=False, working={}, trouble=sentence, retry=retry, retries=retries
        )
        announce({"case": self.case.number, "kind": "state"})

    def _settle(self, *, done: bool) -> None:
        def write() -> None:
            change: dict[str, Any] = {"working": {}, "trouble": ""}
            if done:
                # Only for the revision that was worked out: a newer one keeps its need.
                Case.objects.filter(pk=self.case_id, revision=self.case.revision).update(needs_work=False, retry=None, retries=0)
            Case.objects.filter(pk=self.case_id).update(**change)
            announce({"case": self.case.number, "kind": "state"})

        patiently(write)

    def give_up(self) -> None:
        text = "Working this case out was ended several times. Change a setting or press Go on to try again."
        Case.objects.filter(pk=self.case_id).update(needs_work=False, working={}, trouble=text, held=True)
        announce({"case": self.case.number, "kind": "state"})


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


def view_jobs(owner_id: int, step: str, manifest: Manifest) -> list[ViewJob]:
    """The GLB of every mesh a step shows; of a scan its tile that turns, too."""
    out: list[ViewJob] = []
    for name in standard()[step].shows:
        ref = manifest.values.get(name) or {}
        for one in ref.get("by_piece", {"": ref}).values():
            if one and "mesh" in one:
                out += _full(one["mesh"])
    if step == "intake" and "mesh" in manifest.values:
        turning = turn_job(owner_id, manifest.values["mesh"]["mesh"], manifest.values["about"]["json"])
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
    return any(view_jobs(case.owner_id, manifest.step, manifest) for manifest in found.values())


def _full(digest: str) -> list[ViewJob]:
    path = view_path(settings.VIEW_ROOT, digest, "full")
    return [] if path.exists() else [ViewJob("full", ((digest, None),), str(path))]
