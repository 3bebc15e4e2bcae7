"""Tests of the core. What one of them has worked out of the standard run sheet the others need not work out again: a step is a pure
function of what its key is over. A step that a test has changed is another one; a test that changes what steps are made of works by
itself (`forgetful`)."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from typing import Any

from bitecore.blobs import Blobs
from bitecore.engine import evaluate
from bitecore.engine.gives import digests_in
from bitecore.engine.registry import Registry
from bitecore.engine.store import Manifest
from bitecore.engine.task import Task, perform
from bitecore.progress import Run

_KNOWN: dict[tuple[str, int], tuple[dict[str, Any], dict[str, bytes]]] = {}


def _known(task: Task, registry: Registry, blobs: Blobs, run: Run) -> Manifest:
    key = (task.key, id(registry[task.step].apply))
    if key in _KNOWN:
        manifest, data = _KNOWN[key]
        for each in data.values():
            blobs.write(each)
        return Manifest(**manifest)
    made = perform(task, registry, blobs, run)
    if not made.passing:
        _KNOWN[key] = made.as_json(), {digest: blobs.read(digest) for digest in digests_in(made.values)}
    return made


@contextlib.contextmanager
def forgetful() -> Iterator[None]:
    """Meanwhile everything is worked out, and nothing of it is kept for others."""
    evaluate.perform = perform  # type: ignore[attr-defined]
    try:
        yield
    finally:
        evaluate.perform = _known  # type: ignore[attr-defined]


evaluate.perform = _known  # type: ignore[attr-defined]
