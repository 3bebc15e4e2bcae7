"""Kills at random, and fills the disk."""

from __future__ import annotations

import contextlib
import os
import random
import signal
import threading
import time
from pathlib import Path

from tests.storm.house import House


def below(pid: int) -> list[int]:
    """Processes started by this one, by those, and so on."""
    parents: dict[int, list[int]] = {}
    for path in Path("/proc").glob("[0-9]*/stat"):
        with contextlib.suppress(OSError, IndexError, ValueError):
            parent = int(path.read_text().rsplit(")", 1)[1].split()[1])
            parents.setdefault(parent, []).append(int(path.parent.name))
    found, waiting = list[int](), [pid]
    while waiting:
        children = parents.get(waiting.pop(), [])
        found += children
        waiting += children
    return found


class Saboteur(threading.Thread):
    def __init__(self, house: House, disk: Path | None, ended: threading.Event, seed: int) -> None:
        super().__init__(daemon=True)
        self.house, self.disk, self.ended = house, disk, ended
        self.rng = random.Random(seed)
        self.done: dict[str, int] = {}

    def run(self) -> None:
        faults = [self.kill_web, self.kill_worker, self.kill_child, self.kill_child, self.kill_child, self.kill_database]
        faults += [self.fill] * 2 if self.disk else []
        while not self.ended.wait(self.rng.uniform(4, 14)):
            fault = self.rng.choice(faults)
            with contextlib.suppress(OSError):
                fault()
                self.done[fault.__name__] = self.done.get(fault.__name__, 0) + 1

    def kill_web(self) -> None:
        self._kill(self.house.watched[0])

    def kill_worker(self) -> None:
        self._kill(self.house.watched[1])

    def _kill(self, watched) -> None:  # noqa: ANN001
        if watched.process:
            os.kill(watched.process.pid, signal.SIGKILL)

    def kill_child(self) -> None:
        """A process that computes or reads for the worker or the web server."""
        pids = [pid for watched in self.house.watched if watched.process for pid in below(watched.process.pid)]
        if pids:
            os.kill(self.rng.choice(pids), signal.SIGKILL)

    def kill_database(self) -> None:
        live = self.house.cluster.running()
        if live:
            os.kill(live[0], signal.SIGKILL)

    def fill(self) -> None:
        """The disk is full for a while."""
        assert self.disk
        path = self.disk / "filler"
        with contextlib.suppress(OSError), path.open("wb") as out:
            while True:
                out.write(bytes(1 << 20))
        time.sleep(self.rng.uniform(2, 8))
        path.unlink(missing_ok=True)
