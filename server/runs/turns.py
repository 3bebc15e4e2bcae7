"""Whose turn it is. What somebody has open and waits for comes first, then what is open, then the rest: the latter gives way
between one step and the next, and works in processes of its own that stand back where processors are short."""

from __future__ import annotations

import queue
import threading
from collections.abc import Callable
from typing import Any

from bitecore.engine.pool import Pool
from bitecore.engine.store import Manifest
from bitecore.engine.task import Task
from bitecore.errors import Cancelled
from bitecore.progress import Run
from bitecore.views import ViewJob

from .owning import folder

_STANDING_BACK = 15


class Pools:
    """Warm pools handed from job to job: those for what somebody waits for, and those that stand back."""

    def __init__(self) -> None:
        self._idle: dict[bool, queue.SimpleQueue[Pool]] = {True: queue.SimpleQueue(), False: queue.SimpleQueue()}

    def take(self, *, front: bool) -> Pool:
        try:
            return self._idle[front].get_nowait()
        except queue.Empty:
            return Pool(folder(), nice=0 if front else _STANDING_BACK)

    def give_back(self, pool: Pool) -> None:
        pool.on_progress, pool.on_log = lambda *a: None, lambda text: None
        pool.cancel()
        self._idle[pool.nice == 0].put(pool)

    def warm(self, count: int, *, front: bool) -> None:
        for _ in range(count):
            pool = Pool(folder(), nice=0 if front else _STANDING_BACK)
            pool.start()
            self._idle[front].put(pool)


class Turns:
    """The ranks of what is worked on in this process, by the names of the jobs."""

    def __init__(self) -> None:
        self._ranks: dict[str, int] = {}
        self._lock = threading.Lock()

    def set(self, job: str, rank: int) -> None:
        with self._lock:
            self._ranks[job] = rank

    def leave(self, job: str) -> None:
        with self._lock:
            self._ranks.pop(job, None)

    def may_go(self, job: str) -> bool:
        """Is nothing of a higher rank at work?"""
        with self._lock:
            mine = self._ranks.get(job, 0)
            return all(rank <= mine for other, rank in self._ranks.items() if other != job)

    def front(self, job: str) -> bool:
        with self._lock:
            return self._ranks.get(job, 0) > 0


POOLS, TURNS = Pools(), Turns()


class Desk:
    """A Runner for one job: its tasks and views wait for their turn and go to the pool of its rank."""

    slots = 2

    def __init__(
        self, job: str, on_progress: Callable[[Any, float, str], None], on_log: Callable[[str], None],
        wanted: Callable[[str, Manifest], list[ViewJob]],
    ) -> None:  # fmt: skip
        """wanted : the views that show what a step gave."""
        self.job, self._on_progress, self._on_log, self._wanted = job, on_progress, on_log, wanted
        self._pools: dict[bool, Pool] = {}
        self._tasks: list[Task] = []
        self._views: list[ViewJob] = []
        self._asked: set[str] = set()

    def submit(self, task: Task) -> None:
        self._tasks.append(task)
        self._hand_out()

    def look_first(self, job: ViewJob) -> None:
        """A view that somebody looks at an empty stage for."""
        self._pool().submit(job)

    def wait(self, run: Run) -> tuple[Task, Manifest]:
        while True:
            job, result = self._next(run)
            if isinstance(job, Task):
                self.want(job.step, result)
                return job, result

    def want(self, step: str, manifest: Manifest) -> None:
        """What shows a result is made where a child has nothing else to do."""
        fresh = [view for view in self._wanted(step, manifest) if view.to not in self._asked]
        self._asked |= {view.to for view in fresh}
        self._views += fresh

    def finish_views(self, run: Run, *more: ViewJob) -> None:
        """Make all that is still to be shown. Raises Cancelled."""
        self._views += more
        while self._views or self._busy():
            self._next(run)

    def close(self) -> None:
        for pool in self._pools.values():
            POOLS.give_back(pool)
        self._pools.clear()

    def _pool(self) -> Pool:
        front = TURNS.front(self.job)
        if front not in self._pools:
            pool = self._pools[front] = POOLS.take(front=front)
            pool.on_progress, pool.on_log = self._on_progress, self._on_log
        return self._pools[front]

    def _busy(self) -> int:
        return sum(pool.busy for pool in self._pools.values())

    def _hand_out(self) -> None:
        while (self._tasks or self._views) and self._busy() < self.slots and TURNS.may_go(self.job):
            self._pool().submit(self._tasks.pop(0) if self._tasks else self._views.pop(0))

    def _next(self, run: Run) -> tuple[Any, Any]:
        """(job, result) of the next that ends, or (None, None) now and then. Raises Cancelled, with all stopped."""
        while True:
            try:
                run.tick(0.0)
            except Cancelled:
                self._tasks.clear()
                self._views.clear()
                for pool in self._pools.values():
                    pool.cancel()
                raise
            self._hand_out()
            working = [pool for pool in self._pools.values() if pool.busy]
            if not working:
                threading.Event().wait(0.05)
                if not self._tasks and not self._views:
                    return None, None
            for pool in working:
                ended = pool.poll(0.05 / len(working))
                if ended is not None:
                    return ended
