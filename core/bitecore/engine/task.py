"""One node's work: load the inputs by their refs, apply the step, store what came out. Runs in any process."""

from __future__ import annotations

import errno
import time
from dataclasses import dataclass, field
from typing import Any

from ..blobs import Blobs
from ..errors import BadSetting, BenchError
from ..progress import Run
from .gives import digests_in, unpack, unpacked_points
from .model import Fix, Flag, Inputs, Place, Step, StepResult
from .registry import Registry
from .store import Manifest, manifest_of


@dataclass(frozen=True)
class Task:
    """Everything here is small and can be sent to another process.

    sheet    : the module of the kind of sheet it is of
    piece    : the address it is for
    tag      : what apply gets beside the inputs
    settings : that count
    inputs   : name to ref (or None)
    """

    key: str
    sheet: str
    step: str
    piece: str
    tag: dict[str, Any]
    settings: dict[str, Any]
    inputs: dict[str, Any] = field(default_factory=dict)


def perform(task: Task, registry: Registry, blobs: Blobs, run: Run) -> Manifest:
    """Apply the step. What a person can mend comes back as a stop flag with its place; what the surroundings did as a result
    that is not kept; Cancelled goes through."""
    step = registry[task.step]
    started = time.perf_counter()
    try:
        try:
            result = _checked(_apply(step, task, blobs, run), step, registry)
        except BenchError as error:
            result = StepResult({}, flags=(_flag(error, task.piece),), figure="failed")
        return manifest_of(task.key, task.step, task.piece, result, blobs, time.perf_counter() - started)
    except MemoryError:
        return surroundings(task, "memory", "There was not enough memory for this step. It is tried again by itself.")
    except ImportError:
        return surroundings(task, "library", "A library of the program could not be loaded. Start it anew; it is tried again by itself.")
    except OSError as error:
        if error.errno in (errno.ENOSPC, errno.EDQUOT):
            return surroundings(task, "disk-full", "The disk of the server is full. Make room; it goes on by itself.")
        return surroundings(task, "files", "A file of this case could not be read or written. It is tried again by itself.")


def surroundings(task: Task, code: str, sentence: str) -> Manifest:
    """A failure that says nothing about the scan: it is shown, not kept, and tried again."""
    flag = Flag(code, "stop", sentence)
    return Manifest(task.key, task.step, task.piece, {}, flags=[flag.as_json()], figure="failed", passing=True)


def _apply(step: Step, task: Task, blobs: Blobs, run: Run) -> StepResult:
    values = {name: unpack(ref, blobs) for name, ref in task.inputs.items()}
    points = {digest: unpacked_points(blobs.read(digest)) for digest in digests_in(task.settings)}
    run.tick(0.0, step.title)
    result = step.apply(Inputs(values, **task.tag, points=points), step.check(task.settings), run)
    run.tick(1.0, step.title)
    return result


def _checked(result: StepResult, step: Step, registry: Registry) -> StepResult:
    """What it gave is what it says it gives, and a Fix can be made: anything else is a defect of the step."""
    unknown = set(result.values) - set(step.gives)
    if unknown:
        raise TypeError(f"{step.name} gave {sorted(unknown)}, which it does not name")
    for flag in result.flags:
        for fix in (flag.fix, flag.other):
            if not isinstance(fix, Fix):
                continue
            try:
                registry[fix.step].check(fix.settings)
            except BadSetting as error:
                raise ValueError(f"{step.name} offers a Fix that cannot be made") from error
    return result


def _flag(error: BenchError, piece: str) -> Flag:
    place = None
    if error.point_mm is not None:
        place = Place(piece, (error.point_mm[0], error.point_mm[1], error.point_mm[2]), error.radius_mm)
    return Flag(error.code, "stop", error.message, place)
