"""Progress and failures, one sentence each."""

from __future__ import annotations

import errno
import os
import subprocess
import sys
import threading
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parent.parent


class Fail(Exception):
    """Something that stops the start, as a sentence."""

    status = 1


class Misread(Fail):
    """Words, variables or folders that cannot be meant."""

    status = 2


def number(text: str, what: str, least: int, most: int) -> int:
    """A whole number that somebody gave. Raises Misread."""
    if not text.isascii() or not text.isdigit() or len(text) > 9 or not least <= int(text) <= most:
        raise Misread(f"{what} takes a whole number from {least:,} to {most:,}, not “{text[:40]}”.")
    return int(text)


# What each thread said last: two things are installed side by side.
_last = threading.local()


def say(text: str) -> None:
    _last.said = text
    print(text, flush=True)


def run(command: Sequence[str | Path], why: str, *, log: Path | None = None, **options: Any) -> str:
    """Run to the end; on failure raise Fail with `why` and the last lines of what it said."""
    started = time.monotonic()
    try:
        done = subprocess.run(
            [str(c) for c in command], text=True, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT, check=False, **options,
        )  # fmt: skip
    except FileNotFoundError as error:
        raise Fail(f"{why}: the program {command[0]} is missing.") from error
    if log:
        log.write_text(done.stdout)
    if done.returncode:
        raise Fail(f"{why}{_reason(done.stdout)}")
    if time.monotonic() - started > 20:
        print(f"{getattr(_last, 'said', str(command[0])).rstrip(' …')}: done in {time.monotonic() - started:.0f} s", flush=True)
    return done.stdout


def _reason(output: str) -> str:
    low = output.lower()
    last = "\n  ".join(line for line in output.strip().splitlines()[-4:])
    if any(w in low for w in ("temporary failure", "could not resolve", "network is unreachable", "enotfound", "eai_again")):
        return f": there is no network, or the package registry does not answer.\n  {last}"
    if "no space left" in low or "enospc" in low:
        return f": the disk is full. Make room and try again.\n  {last}"
    return f".\n  {last}"


def as_root(command: list[str]) -> list[str]:
    return command if os.geteuid() == 0 else ["sudo", "-n", *command]


def main_guard(call: Any) -> int:
    try:
        return int(call() or 0)
    except Fail as fail:
        print(f"Bite Bench: {fail}", file=sys.stderr)
        return fail.status
    except KeyboardInterrupt:
        return 130
    except OSError as error:
        print(f"Bite Bench: {_words(error)}", file=sys.stderr)
        return 1 if error.errno in (errno.ENOSPC, errno.EDQUOT) else 2


def _words(error: OSError) -> str:
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return "the disk is full. Make room and try again."
    place = error.filename or "a file"
    if error.errno in (errno.EROFS, errno.EACCES, errno.EPERM):
        return f"{place} cannot be written. Give it to this user, or choose another folder with BENCH_STATE."
    if error.errno in (errno.ENOENT, errno.ENOTDIR, errno.EEXIST):
        return f"{place} cannot be a folder to keep things in. Choose another one with BENCH_STATE."
    return f"{place}: {error.strerror or error}."
