"""./bench fuzz [--seconds N] [--only WORD] [--examples N]: every reader and the case ZIP for so long each, two at a time, then
the API from its own description. What was found lies in the folder that is named."""

from __future__ import annotations

import argparse
import re
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

NAMES = ("scan", "zip", "3mf-model", "case-index", "case-zip", "mark", "printer")


def fuzzed(name: str, seconds: int, folder: Path) -> tuple[str, bool, str]:
    """(target, is all well, its figures)."""
    place = folder / name
    place.mkdir()
    command = [sys.executable, "-m", "tests.fuzz.one", name, str(place), f"-max_total_time={seconds}"]
    done = subprocess.run(command, capture_output=True, text=True, errors="replace", check=False)
    text = done.stdout + done.stderr
    (place / "log").write_text(text)
    figures = {
        key: re.findall(rf"stat::{key}:\s+(\d+)", text) for key in ("number_of_executed_units", "peak_rss_mb", "slowest_unit_time_sec")
    }
    said = ", ".join(f"{key.replace('_', ' ')} {value[-1]}" for key, value in figures.items() if value)
    found = list(place.glob("found-*"))
    return name, done.returncode == 0 and not found, said or text[-600:]


def main() -> int:
    parser = argparse.ArgumentParser(prog="./bench fuzz")
    parser.add_argument("--seconds", type=int, default=600, help="for each reader (default 600)")
    parser.add_argument("--at-once", type=int, default=2, help="so many readers at the same time (default 2)")
    parser.add_argument("--only", default="", help="only targets whose name holds this word; api for the API")
    parser.add_argument("--examples", type=int, default=200, help="requests for each address of the API (default 200)")
    args = parser.parse_args()
    folder = Path(tempfile.mkdtemp(prefix="bench-fuzz-", dir="/tmp"))
    names = [n for n in NAMES if args.only in n]
    bad = 0
    with ThreadPoolExecutor(args.at_once) as pool:
        for name, good, said in pool.map(lambda n: fuzzed(n, args.seconds, folder), names):
            bad += not good
            print(f"{name:12} {'good' if good else 'FOUND, see ' + str(folder / name)}: {said}", flush=True)
    if args.only in "api":
        import os

        env = {**os.environ, "BENCH_API_EXAMPLES": str(args.examples)}
        bad += subprocess.call([sys.executable, "server/manage.py", "test", "--noinput", "tests.server.test_api"], env=env) != 0
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
