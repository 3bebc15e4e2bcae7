"""Whole runs by ./bench run as processes of their own: start-up included, with the memory of all its processes."""

from __future__ import annotations

import argparse
import json
import os
import statistics
import struct
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from bitecore.files import stl

from .table import Row


def quartered(data: bytes, times: int) -> bytes:
    """Each triangle of a binary STL as four, `times` over: the same surface with many more triangles."""
    for _ in range(times):
        p = np.frombuffer(data, stl.RECORD, offset=84)["corner"]
        a, b, c = p[:, 0], p[:, 1], p[:, 2]
        ab, bc, ca = (a + b) / 2, (b + c) / 2, (c + a) / 2
        four = np.concatenate([np.stack(t, 1) for t in ((a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca))])
        record = np.zeros(len(four), stl.RECORD)
        record["corner"] = four
        data = b"quartered".ljust(80, b"\0") + struct.pack("<I", len(four)) + record.tobytes()
    return data


def _memory_kb(session: int) -> int:
    """Proportional memory of every process of a session: shared pages are counted once."""
    total = 0
    for process in Path("/proc").glob("[0-9]*"):
        try:
            if os.getsid(int(process.name)) == session:
                text = (process / "smaps_rollup").read_text()
                total += next(int(line.split()[1]) for line in text.splitlines() if line.startswith("Pss:"))
        except (OSError, StopIteration, ProcessLookupError):
            continue
    return total


def timed(command: list[str], env: dict[str, str] | None = None) -> tuple[float, int]:
    """(seconds, peak MB over all its processes)."""
    start = time.perf_counter()
    process = subprocess.Popen(
        command, env={**os.environ, **(env or {})}, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
    )
    peak, over = [0], threading.Event()

    def watch() -> None:
        while not over.is_set():
            peak[0] = max(peak[0], _memory_kb(process.pid))
            time.sleep(0.15)

    watcher = threading.Thread(target=watch)
    watcher.start()
    status = process.wait()
    seconds = time.perf_counter() - start
    over.set()
    watcher.join()
    if status not in (0, 3):
        raise RuntimeError(f"{command} ended with {status}")
    return seconds, peak[0] // 1024


def rows(upper: bytes, lower: bytes, args: argparse.Namespace) -> Iterator[Row]:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "u.stl").write_bytes(upper)
        (folder / "l.stl").write_bytes(lower)
        base = [sys.executable, "-m", "benchrun", str(folder / "u.stl"), str(folder / "l.stl"), "--out", str(folder / "out")]
        runs = max(args.runs // 2, 1)
        if args.only in "run: raw pair to two based bodies":
            took = [timed([*base, "--until", "base"]) for _ in range(runs)]
            reach = 8000 if args.tris <= 160_000 else 60_000
            note = f"{max(mb for _, mb in took)} MB at most, all processes"
            yield Row("run: raw pair to two based bodies", statistics.median(s for s, _ in took) * 1000, reach_ms=reach, note=note)
        settings = ["--set", "hollow.style=open", "--set", "label.style=engraved", "--set", "plate.printer=heron"]
        settings += ["--set", "articulate.style=pins"]
        bodies = "run: raw pair to two labelled, hollow, pinned bodies"
        for name, last in ((bodies, ["--until", "assemble"]), (f"{bodies}, checked and in layers", ["--until", "plate", "--layers"])):
            if args.only in name:
                took = [timed([*base, *settings, *last]) for _ in range(runs)]
                reach = 15_000 if args.tris <= 160_000 and name == bodies else None
                note = f"{max(mb for _, mb in took)} MB at most, all processes"
                yield Row(name, statistics.median(s for s, _ in took) * 1000, reach_ms=reach, note=note)
        if args.only in "run: whole sheet to the files":
            took = [timed(base) for _ in range(runs)]
            seconds = json.loads((folder / "out" / "report.json").read_text())["seconds"]
            note = f"{max(mb for _, mb in took)} MB at most; {seconds:.1f} s by its own report"
            yield Row("run: whole sheet to the files", statistics.median(s for s, _ in took) * 1000, note=note)
        if args.only in "run: cold, kernels not compiled yet":
            cold = {"NUMBA_CACHE_DIR": str(folder / "cold")}
            yield Row("run: cold, kernels not compiled yet", timed([*base, "--until", "base"], cold)[0] * 1000)
