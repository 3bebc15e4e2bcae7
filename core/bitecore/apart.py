"""Work on a stranger's file in a child process with limits of memory and time: whatever it does, only the child ends."""

from __future__ import annotations

import logging
import os
import resource
import signal
import threading
from collections.abc import Callable
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from . import forkserver
from .errors import BenchError, UnreadableFile
from .limits import Limits
from .trouble import where_it_broke

log = logging.getLogger("bench.reading")
# So many files are read at the same time; more wait for their turn.
_TURNS = threading.BoundedSemaphore(3)
# A machine with much to do gives a child a sixth of a processor at least.
_PATIENCE = 6
_PAGE = os.sysconf("SC_PAGE_SIZE")
# Is this process one that may be ended by its own limits?
_child_here: list[bool] = []


class ReadingBroke(BenchError):
    """The child ended on its own, for want of memory around it or a fault of ours."""

    code = "reading-broke"


def allow(seconds: int) -> None:
    """In the child: this much of a processor's time from now on. Elsewhere nothing."""
    if not _child_here:
        return
    used = resource.getrusage(resource.RUSAGE_SELF)
    end = int(used.ru_utime + used.ru_stime) + seconds + 1
    _, hard = resource.getrlimit(resource.RLIMIT_CPU)
    resource.setrlimit(resource.RLIMIT_CPU, (end, hard))


def apart(name: str, do: Callable[..., Any], *args: Any, limits: Limits, times: int = 1) -> Any:
    """do(*args) in a child. name : what the file is called; times : how many scans it may hold, for how long to wait.

    Raises what `do` raises of BenchError and OSError, UnreadableFile when a limit was reached, ReadingBroke when the child
    broke or died.
    """
    with _TURNS:
        context = forkserver.context()
        ours, theirs = context.Pipe(duplex=False)
        process = context.Process(target=_child, args=(theirs, limits, do, args), daemon=True)
        process.start()
        theirs.close()
        try:
            said = ours.recv() if ours.poll(limits.read_seconds * _PATIENCE * times) else ("slow", None)
        except (EOFError, OSError):
            said = ("died", None)
        finally:
            ours.close()
            process.join(0.2)
            if process.is_alive():
                process.kill()
                process.join()
    return _answer(name, said, process.exitcode, limits)


def _answer(name: str, said: tuple[str, Any], status: int | None, limits: Limits) -> Any:
    kind, value = said
    if kind == "done":
        return value
    if kind == "refused":
        raise value
    if kind == "memory":
        most = limits.read_bytes // 1_000_000
        text = f"“{name}” needs more than {most:,} MB of memory to be read. Export it with fewer triangles, or as STL."
        raise UnreadableFile(text, code="too-much-memory")
    if kind == "slow" or status == -signal.SIGXCPU:
        text = f"“{name}” takes more than {limits.read_seconds} s to be read. Export it with fewer triangles, or as STL."
        raise UnreadableFile(text, code="too-slow")
    if kind == "system":
        raise OSError(value, "reading a file that came in")
    if kind == "broken":
        log.error("reading broke\n%s", value)
    raise ReadingBroke(f"Reading “{name}” ended unexpectedly; perhaps memory is short at the moment. Try again.")


def _child(pipe: Connection, limits: Limits, do: Callable[..., Any], args: tuple) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGXCPU, signal.SIG_DFL)
    held = int(Path("/proc/self/statm").read_text().split()[5]) * _PAGE
    resource.setrlimit(resource.RLIMIT_DATA, (held + limits.read_bytes, held + limits.read_bytes))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    _child_here.append(True)
    allow(limits.read_seconds)
    try:
        pipe.send(("done", do(*args)))
    except BenchError as error:
        pipe.send(("refused", error))
    except MemoryError:
        pipe.send(("memory", None))
    except OSError as error:
        # A full disk, a folder that cannot be written: no fault of the file.
        pipe.send(("system", error.errno))
    except Exception as error:
        pipe.send(("broken", where_it_broke(error)))
    pipe.close()
