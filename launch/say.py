"""Progress and failures, one sentence each."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parent.parent


class Fail(Exception):
    """Something that stops the start, as a sentence."""


def say(text: str) -> None:
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
        say(f"  done in {time.monotonic() - started:.0f} s")
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
        return 1
    except KeyboardInterrupt:
        return 130
    except OSError as error:
        if error.errno == 28:
            print("Bite Bench: the disk is full. Make room and try again.", file=sys.stderr)
            return 1
        raise
