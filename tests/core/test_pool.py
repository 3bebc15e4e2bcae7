"""Child processes: a crash is tried again and then said, a cancel is heard within a second."""

from __future__ import annotations

import os
import signal
import tempfile
import threading
import time
import unittest
from pathlib import Path

from bitecore.blobs import FolderBlobs
from bitecore.engine.pool import Pool
from bitecore.errors import Cancelled
from bitecore.files import stl
from bitecore.progress import Run
from bitecore.runsheet import CASE, CaseDocument, FolderStore, PieceEntry, evaluate
from tests.shapes import light_jaws as jaws


class PoolTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.store = FolderStore(Path(folder.name))
        self.pool = Pool(FolderBlobs(Path(folder.name) / "blobs"))
        self.addCleanup(self.pool.close)
        self.logged: list[str] = []
        self.pool.on_log = self.logged.append
        digest = self.store.blobs.write(stl.write_binary(jaws(21)[1]))
        self.document = CaseDocument(pieces=[PieceEntry(id="p1", file="a.stl", sha256=digest)])

    def alive(self) -> list[int]:
        return [s.process.pid for s in self.pool._children if s.process.is_alive()]

    def test_same_result_as_in_this_process(self) -> None:
        there = evaluate(self.document, CASE, self.store, runner=self.pool, until="base")
        with tempfile.TemporaryDirectory() as other:
            here_store = FolderStore(Path(other))
            here_store.blobs.write(stl.write_binary(jaws(21)[1]))
            here = evaluate(self.document, CASE, here_store, until="base")
        self.assertEqual(there.graph.node("base", "p1").manifest.values, here.graph.node("base", "p1").manifest.values)

    def test_a_killed_child_is_replaced_and_its_task_done_again(self) -> None:
        def kill_first() -> None:
            while not any(s.job for s in self.pool._children):
                time.sleep(0.005)
            victim = next(s for s in self.pool._children if s.job)
            os.kill(victim.process.pid, signal.SIGKILL)

        self.pool.start()
        killer = threading.Thread(target=kill_first)
        killer.start()
        done = evaluate(self.document, CASE, self.store, runner=self.pool, until="base")
        killer.join()
        self.assertEqual(done.graph.node("base", "p1").state, "done")
        self.assertEqual(len(self.logged), 1)

    def test_cancel_is_heard_within_two_seconds_and_the_pool_goes_on(self) -> None:
        started = threading.Event()
        asked: list[float] = []

        def stopped() -> bool:
            if started.is_set() and not asked:
                asked.append(time.monotonic())
            return bool(asked)

        with self.assertRaises(Cancelled):
            evaluate(self.document, CASE, self.store, runner=self.pool, run=Run(stopped=stopped), on_start=lambda node: started.set())
        self.assertLess(time.monotonic() - asked[0], 2.0)
        self.assertEqual(self.pool.busy, 0)
        done = evaluate(self.document, CASE, self.store, runner=self.pool, until="level")
        self.assertEqual(done.graph.node("level").state, "done")

    def test_close_leaves_no_child(self) -> None:
        self.pool.start()
        pids = self.alive()
        self.assertEqual(len(pids), 2)
        self.pool.close()
        for pid in pids:
            self.assertFalse(Path(f"/proc/{pid}").exists() and "Z" not in Path(f"/proc/{pid}/stat").read_text())
