"""The process that children are forked from, with the kernels loaded. Light to import: it can be started first."""

from __future__ import annotations

import multiprocessing
from multiprocessing import forkserver
from multiprocessing.context import ForkServerContext

PRELOAD = ["bitecore.runsheet.warm", "bitecore.files.warm"]


def context() -> ForkServerContext:
    found = multiprocessing.get_context("forkserver")
    found.set_forkserver_preload(PRELOAD)
    return found


def start() -> None:
    """Let it load while the caller is still busy with its own imports."""
    context()
    forkserver.ensure_running()
