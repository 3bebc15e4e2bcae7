"""The words after ./bench."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

from . import install
from .say import ROOT, Fail, main_guard

HELP = """./bench up      install what is missing, start everything with demo data, print the address
./bench test    run all tests (--core, --server or --browser for a part)
./bench journeys  long ways through the application in the browser, and the tests tagged long: too long for every submission
./bench lead    make the account of a lead (./bench technician for one who is none), password asked for
./bench check   ruff, mypy, import-linter, tsc, Biome, API-client drift
./bench lock    pin every package with its hashes (requirements.lock)
./bench run     scans in, bodies and report.json out, without server or database
./bench perf    how long the kernels and steps take, beside a general-purpose library
./bench trial   what Intake makes of a hundred generated cases, into docs/trial.md
./bench fuzz    damaged and forged files and requests against the readers and the API
./bench storm   the whole application under faults at random, then every promise checked
./bench demo    write the demo scans into a folder
./bench shots   take docs/screenshots from the demo"""


def core_env() -> dict[str, str]:
    kernels = install.state() / "kernels"
    return {
        **os.environ,
        "PYTHONPATH": os.pathsep.join([str(ROOT / "core"), str(ROOT)]),
        "NUMBA_CACHE_DIR": str(kernels),
        "OPENBLAS_NUM_THREADS": "1",
        "OMP_NUM_THREADS": "1",
        "PYTHONDONTWRITEBYTECODE": "",  # kept: a start is a second shorter by it
    }


def _run(argv: list[str]) -> int:
    with install.lock("install"):
        install.python(tests=False)
        install.kernels(install.state() / "kernels")
    here = Path(os.environ.get("BENCH_CALLED_FROM", "."))
    return subprocess.call([str(install.PYTHON), "-m", "benchrun", *argv], cwd=here, env=core_env())


def _module(name: str, argv: list[str], *, tests: bool = False) -> int:
    with install.lock("install"):
        install.python(tests=tests)
        install.kernels(install.state() / "kernels")
    return subprocess.call([str(install.PYTHON), "-m", name, *argv], cwd=ROOT, env=core_env())


def main() -> int:
    word, *rest = sys.argv[1:] or ["help"]
    if word == "up":
        from .up import main as up

        return up(rest)
    if word == "run":
        return _run(rest)
    if word in ("lead", "technician"):
        from .people import account

        return account(word, rest)
    if word in ("test", "journeys", "check", "shots", "api", "lock", "storm", "fuzz"):
        from . import testing

        return getattr(testing, word)(rest)
    if word == "perf":
        return _module("tests.perf", rest, tests=True)
    if word == "trial":
        return _module("tests.trial", rest, tests=True)
    if word == "demo":
        return _module("demo", rest)
    if word in ("help", "-h", "--help"):
        print(HELP)
        return 0
    raise Fail(f"there is no ./bench {word}.\n{HELP}")


if __name__ == "__main__":
    sys.exit(main_guard(main))
