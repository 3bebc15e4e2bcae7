"""What an earlier test of the same run has worked out on the same jaws is not worked out again, for tests of what comes after it. A step is
a pure function of what its key is over, so the result is the same."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

from bitecore.engine.store import FolderStore

_OURS = tempfile.TemporaryDirectory(prefix="bench-known-")


def known_store() -> FolderStore:
    return FolderStore(Path(os.environ.get("BENCH_TEST_KNOWN") or _OURS.name) / "core", durable=False)
