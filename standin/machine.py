"""What a printer does: takes files, prints one after the other layer by layer, stops where its door is open or its bottle empty, and
goes on at that layer. What it knows stands on its disk, so one that was switched off goes on too."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from .plate_file import PlateFile, read

BOTTLE_ML = 1000.0
# What stops it until it is mended, in a sentence.
MISHAPS = {
    "door": "The door is open.",
    "cold": "The resin is too cold to print with.",
    "layer": "Something came off in the last layer: look at the plate.",
}


class Refused(ValueError):
    """What was asked cannot be done; says why."""

    def __init__(self, code: str, message: str, status: int = 409) -> None:
        super().__init__(message)
        self.code, self.message, self.status = code, message, status


@dataclass
class Job:
    """A file that has arrived.

    state : waiting, printing, done, cancelled
    layer : how many layers are cured; spent_s : how long the next one has been at it
    paused : somebody holds it; while it is printed
    """

    name: str
    sha256: str
    bytes: int
    arrived: float
    state: str = "waiting"
    layer: int = 0
    spent_s: float = 0.0
    paused: bool = False


class Machine:
    """One printer. speed : so many seconds of printing pass in one second of the clock."""

    def __init__(self, name: str, folder: Path, *, speed: float = 1.0, clock: Callable[[], float] = time.monotonic) -> None:
        self.name, self.folder, self.speed, self._clock = name, folder, speed, clock
        self.lock = threading.RLock()
        self.jobs: dict[str, Job] = {}
        self._files: dict[str, PlateFile] = {}
        self.bottle_ml, self.mishap, self.off = BOTTLE_ML, "", False
        self._last = clock()
        folder.mkdir(parents=True, exist_ok=True)
        self._recall()

    # What it is told.

    def take(self, name: str, sha256: str, size: int, path: Path) -> Job:
        """A file that has arrived whole. Raises Unreadable, or Refused where another file has its name."""
        with self.lock:
            known = self.jobs.get(name)
            if known and known.sha256 == sha256:
                return known
            if known:
                raise Refused("name-taken", f"Another file is here under the name {name}.")
            plate = read(path)
            path.replace(self._path(name))
            job = Job(name, sha256, size, time.time())
            self.jobs[name], self._files[name] = job, plate
            self._remember()
            return job

    def start(self, name: str) -> Job:
        with self.lock:
            self.tick()
            job = self._known(name)
            busy = self.printing()
            if busy and busy is not job:
                raise Refused("busy", f"{self.name} is printing {busy.name}.")
            if job.state == "waiting":
                job.state = "printing"
                self._remember()
            return job

    def hold(self, name: str, paused: bool) -> Job:
        """Pause it, or let it go on at the layer it had reached. Refused where it is not printed just now."""
        with self.lock:
            self.tick()
            job = self._known(name)
            if job.state != "printing":
                raise Refused("not-printing", f"{name} is not being printed: it is {job.state}.")
            job.paused = paused
            self._remember()
            return job

    def cancel(self, name: str) -> Job:
        with self.lock:
            self.tick()
            job = self._known(name)
            if job.state in ("waiting", "printing"):
                job.state, job.paused = "cancelled", False
                self._remember()
            return job

    def forget(self, name: str) -> dict[str, Any]:
        """Its file goes, unless it is being printed."""
        with self.lock:
            if self._known(name).state == "printing":
                raise Refused("busy", f"{name} is being printed. Cancel it first.")
            del self.jobs[name]
            self._files.pop(name, None)
            self._path(name).unlink(missing_ok=True)
            self._remember()
            return self.status()

    def meet(self, mishap: str, *, off: bool = False) -> None:
        """mishap : of MISHAPS, or empty: all is well again; off : it has no power, and no time passes for it"""
        with self.lock:
            self.tick()
            self.mishap, self.off = mishap, off
            self._remember()

    def fill(self, ml: float) -> None:
        with self.lock:
            self.tick()
            self.bottle_ml = min(max(float(ml), 0.0), BOTTLE_ML)
            self._remember()

    # How it stands.

    def printing(self) -> Job | None:
        return next((job for job in self.jobs.values() if job.state == "printing"), None)

    def fault(self) -> tuple[str, str]:
        """(what stops it, the same in a sentence); empty where nothing does."""
        job = self.printing()
        if self.mishap:
            return self.mishap, MISHAPS[self.mishap]
        if job and self.bottle_ml < self._files[job.name].ml[job.layer]:
            return "resin", "The bottle is empty."
        return "", ""

    def status(self) -> dict[str, Any]:
        with self.lock:
            self.tick()
            fault, says = self.fault()
            job = self.printing()
            if job and job.paused and not fault:
                says = "It is paused."
            state = "stopped" if job and (fault or job.paused) else "printing" if job else "idle"
            return {
                "format": 1, "name": self.name, "stand_in": True, "state": state, "fault": fault, "says": says,
                "resin_ml": round(self.bottle_ml, 3),
                "job": self.told(job.name) if job else None, "jobs": [self.told(name) for name in self.jobs],
            }  # fmt: skip

    def told(self, name: str) -> dict[str, Any]:
        with self.lock:
            self.tick()
            job = self._known(name)
            file = self._files[name]
            left = sum(file.seconds[job.layer :]) - job.spent_s if job.state in ("waiting", "printing") else 0.0
            stopped = job.state == "printing" and bool(self.fault()[0])
            return {
                "name": job.name, "sha256": job.sha256, "bytes": job.bytes,
                "state": "paused" if job.paused else "stopped" if stopped else job.state,
                "layer": job.layer, "layers": len(file.seconds), "seconds_left": round(left, 1), "speed": self.speed,
            }  # fmt: skip

    def tick(self) -> None:
        """Let the time pass that has passed."""
        with self.lock:
            now = self._clock()
            left, self._last = (now - self._last) * self.speed, now
            job = self.printing()
            if job is None or left <= 0 or self.off:
                return
            before = job.layer
            while left > 0 and job.state == "printing" and not job.paused and not self.fault()[0]:
                left = self._go_on(job, left)
            if job.layer != before:
                self._remember()

    def _go_on(self, job: Job, left: float) -> float:
        """With one layer; what is left of the time."""
        file = self._files[job.name]
        rest = file.seconds[job.layer] - job.spent_s
        if left < rest:
            job.spent_s += left
            return 0.0
        self.bottle_ml -= file.ml[job.layer]
        job.layer, job.spent_s = job.layer + 1, 0.0
        if job.layer == len(file.seconds):
            job.state = "done"
        return left - rest

    def _known(self, name: str) -> Job:
        if name not in self.jobs:
            raise Refused("no-job", f"There is no file {name} here.", 404)
        return self.jobs[name]

    def _path(self, name: str) -> Path:
        return self.folder / f"{name}.zip"

    def _remember(self) -> None:
        state = {"bottle_ml": self.bottle_ml, "mishap": self.mishap, "jobs": [asdict(job) for job in self.jobs.values()]}
        beside = self.folder / "state.json.new"
        beside.write_text(json.dumps(state))
        beside.replace(self.folder / "state.json")

    def _recall(self) -> None:
        try:
            kept = json.loads((self.folder / "state.json").read_text())
        except (OSError, ValueError):
            return
        self.bottle_ml, self.mishap = kept["bottle_ml"], kept.get("mishap", "")
        for row in kept["jobs"]:
            job = Job(**row)
            try:
                self._files[job.name] = read(self._path(job.name))
            except ValueError:
                continue
            self.jobs[job.name] = job
