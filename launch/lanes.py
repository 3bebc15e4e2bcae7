"""The whole of the tests on two lanes: chunks of about a few minutes, and whichever lane is free takes the next. The machine is at work
to the end without anybody keeping the lanes even by hand."""

from __future__ import annotations

import contextlib
import subprocess
import tempfile
import threading
import time
from collections import deque
from collections.abc import Iterator
from pathlib import Path

from .say import ROOT, say
from .up import database

# How many chunks each part is cut into. Those that wait the most go first, beside those that work the most.
_CHUNKS = {"browser": 5, "server": 4, "core": 6}
# It stops and starts its database, which is therefore its own.
_RESTARTS = "tests.browser.test_trouble"
_LANES = 2


def _cut(part: str) -> list[tuple[str, list[str]]]:
    names = [f"tests.{part}.{path.stem}" for path in sorted((ROOT / "tests" / part).glob("test_*.py"))]
    names = [name for name in names if name != _RESTARTS]
    count = _CHUNKS[part]
    return [(f"{part} {k + 1} of {count}", names[k::count]) for k in range(count)]


def _dealt(parts: list[str]) -> list[tuple[str, list[str]]]:
    """The chunks in the order they are taken: of each part in turn, so that what waits runs beside what works."""
    queues = [deque(_cut(part)) for part in _CHUNKS if part in parts]
    dealt = [("browser restarts", [_RESTARTS])] if "browser" in parts else []
    while any(queues):
        dealt += [queue.popleft() for queue in queues if queue]
    return dealt


@contextlib.contextmanager
def _own_database(env: dict[str, str]) -> Iterator[dict[str, str]]:
    """A cluster beside that of all others; where a database was given there is none to restart."""
    if not env["BENCH_TEST_CLUSTER"]:
        yield env
        return
    folder = Path(env["BENCH_TEST_CLUSTER"]).with_name("restarted")
    folder.mkdir(exist_ok=True)
    folder.chmod(0o711)  # as root the database runs as another, and has to pass through
    url, cluster = database(folder)
    assert cluster
    try:
        yield {**env, "DATABASE_URL": url, "BENCH_TEST_CLUSTER": str(cluster.folder)}
    finally:
        cluster.stop()


def _one(command: list[str], name: str, labels: list[str], env: dict[str, str]) -> int:
    """One chunk in a database and a folder of its own; what it printed comes in one piece."""
    began = time.monotonic()
    with tempfile.TemporaryFile() as out, tempfile.TemporaryDirectory(prefix="bench-test-") as scratch:
        own = {**env, "BENCH_STATE": scratch, "BENCH_TEST_DATABASE": "bench_test_" + name.replace(" ", "_")}
        status = subprocess.call([*command, *labels], cwd=ROOT, env=own, stdout=out, stderr=subprocess.STDOUT)
        out.seek(0)
        text = out.read().decode(errors="replace")
    said = "good" if status == 0 else f"not good ({status})"
    say(f"{text}\n{name}: {said}, {time.monotonic() - began:.0f} s: {' '.join(label.rpartition('.')[2] for label in labels)}\n")
    return status


def run_all(command: list[str], env: dict[str, str], parts: list[str]) -> int:
    """Every test of these parts; 0 where all passed, else a status that is not 0. command : of Django's runner, without labels."""
    waiting = deque(_dealt(parts))
    number = len(waiting)
    status: list[int] = []

    def lane() -> None:
        while True:
            try:
                name, labels = waiting.popleft()
            except IndexError:
                return
            try:
                with _own_database(env) if _RESTARTS in labels else contextlib.nullcontext(env) as mine:
                    status.append(_one(command, name, labels, mine))
            except Exception as error:
                say(f"{name}: not run: {error}")
                status.append(2)

    lanes = [threading.Thread(target=lane) for _ in range(_LANES)]
    for each in lanes:
        each.start()
    for each in lanes:
        each.join()
    if len(status) < number:
        say(f"Only {len(status)} of {number} chunks were run.")
        return 2
    return max(status, key=abs, default=0)
