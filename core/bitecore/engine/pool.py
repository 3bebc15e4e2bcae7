"""Tasks in child processes: two jaws side by side, and geometry code that holds the interpreter stops nobody else.

Children come from a fork server that has the kernels loaded. They die with their parent, report progress over a
pipe, and are ended and replaced when they do not give up a cancelled task within a second.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import signal
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from multiprocessing.connection import Connection, wait
from typing import Any

from .. import forkserver
from ..blobs import FolderBlobs
from ..errors import Cancelled
from ..progress import QUIET, Run
from ..trouble import where_it_broke
from ..views import make_view
from .sheet import sheet_of
from .store import Manifest
from .task import Task, perform, surroundings

_GRACE_S = 1.0
_MOST_CRASHES = 2


def _die_with_parent(parent: int) -> None:
    with contextlib.suppress(OSError):
        ctypes.CDLL(None).prctl(1, signal.SIGKILL)  # PR_SET_PDEATHSIG
    # The fork server is the parent by kinship; the process that asked for us is watched over the pipe.
    if os.getppid() == 1 and parent != 1:
        os._exit(3)


def _child(pipe: Connection, blobs: FolderBlobs, parent: int, nice: int) -> None:
    _die_with_parent(parent)
    os.nice(nice)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    last = [0.0]

    def stopped() -> bool:
        return pipe.poll()  # anything said while we work means: stop

    def report(fraction: float, what: str) -> None:
        if time.monotonic() - last[0] > 0.1:
            last[0] = time.monotonic()
            pipe.send(("progress", fraction, what))

    run = Run(report, stopped)
    while True:
        try:
            job = pipe.recv()
        except (EOFError, OSError):
            return
        if job is None or job == "stop":
            continue
        try:
            said: tuple[str, Any] = ("done", _done(job, blobs, run))
        except Cancelled:
            said = ("cancelled", None)
        except (BrokenPipeError, EOFError):
            return
        except Exception as error:  # a defect of ours: said as a sentence, logged by the parent
            said = ("broken", where_it_broke(error))
        # A parent that is gone hears nothing, and the next look for a job ends this child.
        with contextlib.suppress(OSError):
            pipe.send(said)


def _done(job: Any, blobs: FolderBlobs, run: Run) -> Any:
    return perform(job, sheet_of(job.sheet).registry, blobs, run) if isinstance(job, Task) else make_view(job, blobs, run)


def _called(job: Any) -> str:
    """A job in the log: which, but nothing of what is in it."""
    return f"{job.step}/{job.piece} {job.key}" if isinstance(job, Task) else f"{job.kind} {job.to}"


@dataclass
class _Slot:
    process: Any
    pipe: Connection
    job: Any = None
    crashes: int = 0


@dataclass
class Pool:
    """A Runner over child processes. nice : how far they stand back where processors are short, as of nice(2).
    on_progress(job, fraction, what); on_log(text) for what only we should read."""

    blobs: FolderBlobs
    slots: int = 2
    nice: int = 0
    on_progress: Callable[[Any, float, str], None] = lambda job, fraction, what: None
    on_log: Callable[[str], None] = lambda text: None
    _children: list[_Slot] = field(default_factory=list)
    _waiting: list[Any] = field(default_factory=list)
    _crashes: dict[str, int] = field(default_factory=dict)

    def start(self) -> None:
        """Start the children now, so that the first task finds them warm."""
        while len(self._children) < self.slots:
            self._children.append(self._spawn())

    def _spawn(self) -> _Slot:
        context = forkserver.context()
        ours, theirs = context.Pipe()
        process = context.Process(target=_child, args=(theirs, self.blobs, os.getpid(), self.nice), daemon=True)
        process.start()
        theirs.close()
        return _Slot(process, ours)

    def submit(self, task: Any) -> None:
        """Queue a Task or a view job. Urgent views go first, others after all tasks."""
        self._waiting.append(task)
        self._waiting.sort(key=lambda j: 1 if isinstance(j, Task) else 0 if j.urgent else 2)
        self._hand_out()

    def _hand_out(self) -> None:
        self.start()
        for slot in self._children:
            if slot.job is None and self._waiting:
                slot.job = self._waiting.pop(0)
                # A dead child is found by the next wait, and its job tried again.
                with contextlib.suppress(OSError):
                    slot.pipe.send(slot.job)

    @property
    def busy(self) -> int:
        return sum(slot.job is not None for slot in self._children) + len(self._waiting)

    def wait(self, run: Run = QUIET) -> tuple[Any, Any]:
        """(job, result) of the next one that ends. Raises Cancelled when `run` was taken back; all is stopped then."""
        while True:
            try:
                run.tick(0.0)
            except Cancelled:
                self.cancel()
                raise
            ended = self.poll(0.05)
            if ended is not None:
                return ended

    def poll(self, seconds: float) -> tuple[Any, Any] | None:
        """(job, result) of one that has ended, if one does within this time."""
        for slot in self._ready(seconds):
            ended = self._hear(slot)
            if ended is not None:
                self._hand_out()
                return ended
        return None

    def _ready(self, seconds: float) -> list[_Slot]:
        busy = [s for s in self._children if s.job is not None]
        heard = wait([s.pipe for s in busy], seconds)
        return [s for s in busy if s.pipe in heard]

    def _hear(self, slot: _Slot) -> tuple[Any, Any] | None:
        try:
            kind, *said = slot.pipe.recv()
        except (EOFError, OSError):
            return self._crashed(slot)
        job = slot.job
        if kind == "progress":
            self.on_progress(job, said[0], said[1])
            return None
        slot.job = None
        if kind == "done":
            return job, said[0]
        if kind == "broken":
            self.on_log(said[0])
            return job, self._failed(job, "This step broke down on this scan. The fault is ours and has been logged.")
        return None

    def _crashed(self, slot: _Slot) -> tuple[Any, Any] | None:
        """A dead child: its job is tried once more, then said to have failed."""
        job = slot.job
        slot.process.join(0.1)
        self.on_log(f"child ended with {slot.process.exitcode} during {_called(job)}")
        self._children[self._children.index(slot)] = self._spawn()
        name = _called(job)
        self._crashes[name] = self._crashes.get(name, 0) + 1
        if self._crashes[name] >= _MOST_CRASHES:
            del self._crashes[name]
            return job, self._failed(job, "This step ended unexpectedly twice on this scan, perhaps for lack of memory.")
        self.submit(job)
        return None

    def _failed(self, job: Any, sentence: str) -> Manifest | None:
        if not isinstance(job, Task):
            return None
        return surroundings(job, "broke-down", sentence)

    def cancel(self) -> None:
        """Stop everything within a second; children that do not listen are replaced."""
        self._waiting.clear()
        for slot in self._children:
            if slot.job is not None:
                with contextlib.suppress(OSError):
                    slot.pipe.send("stop")
        end = time.monotonic() + _GRACE_S
        while any(s.job is not None for s in self._children) and time.monotonic() < end:
            for slot in self._ready(0.05):
                try:
                    kind, *_ = slot.pipe.recv()
                except (EOFError, OSError):
                    break
                if kind != "progress":
                    slot.job = None
        for index, slot in enumerate(self._children):
            if slot.job is not None:
                slot.process.kill()
                slot.process.join()
                self._children[index] = self._spawn()

    def close(self) -> None:
        for slot in self._children:
            slot.process.kill()
        for slot in self._children:
            slot.process.join()
        self._children.clear()
