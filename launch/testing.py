"""./bench test, check, api and shots."""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

from . import contracts, install
from .say import ROOT, Fail, run, say
from .up import database, environment, guarded

PARTS = ("core", "server", "browser")
# So that both lanes of the tests take about as long (looked at with -v 2 and a clock).
_LAST_OF_FIRST = "test_steps"
SCHEMA = ROOT / "web" / "src" / "shared" / "api" / "schema.gen.ts"


@contextlib.contextmanager
def _surroundings() -> Iterator[dict[str, str]]:
    """A database cluster and folders for tests alone, gone or stopped afterwards; a running bench is not touched."""
    guarded(install.state())
    folder = install.state() / "test"
    guarded(folder)
    url, cluster = database(folder)
    scratch, known = (Path(tempfile.mkdtemp(prefix=f"bench-{name}-")) for name in ("test", "known"))
    try:
        env = environment(folder, url)
        yield {
            **env,
            "BENCH_STATE": str(scratch),
            "BENCH_TEST_KNOWN": str(known),
            "BENCH_DISK_LOW_MB": "0",
            "BENCH_TEST_CLUSTER": str(cluster.folder) if cluster else "",
            "DJANGO_SETTINGS_MODULE": "config.settings_test",
            "NUMBA_CACHE_DIR": str(install.state() / "kernels"),
        }
    finally:
        for each in (scratch, known):
            shutil.rmtree(each, ignore_errors=True)
        if cluster and cluster.mine:
            cluster.stop()


def test(argv: list[str]) -> int:
    """Core, server and browser tests by Django's runner; the rest of the words go to it. On two lanes: the first half of the core's beside
    the server's and the second half; the browser's have the machine to themselves."""
    parts = [p for p in PARTS if f"--{p}" in argv] or list(PARTS)
    words = [a for a in argv if a.removeprefix("--") not in PARTS]
    labels = [w for w in words if not w.startswith("-")]
    options = [w for w in words if w.startswith("-")]
    install.everything(tests=True)
    with _surroundings() as env:
        command = [str(install.PYTHON), "server/manage.py", "test", "--noinput", "--timing", *options]
        if labels:
            return subprocess.call([*command, *labels], cwd=ROOT, env=env)
        first, second = _halves() if "core" in parts else ([], [])
        rest = []
        with _beside([*command, *first], env, wanted=bool(first)) as core:
            for lane in (["tests.server"] if "server" in parts else [], second):
                rest += [subprocess.call([*command, *lane], cwd=ROOT, env=env)] if lane else []
        rest += [subprocess.call([*command, "tests.browser"], cwd=ROOT, env=env)] if "browser" in parts else []
        return next((status for status in [*core, *rest] if status), 0)


def _halves() -> tuple[list[str], list[str]]:
    """The core's tests in two: those up to _LAST_OF_FIRST by their names, and the rest."""
    names = sorted(path.stem for path in (ROOT / "tests" / "core").glob("test_*.py"))
    made = tuple([f"tests.core.{n}" for n in names if (n <= _LAST_OF_FIRST) == first] for first in (True, False))
    return made[0], made[1]


@contextlib.contextmanager
def _beside(command: list[str], env: dict[str, str], *, wanted: bool) -> Iterator[list[int]]:
    """Runs while the block does; what it printed comes in one piece after it. The list holds its status then, where it is wanted."""
    status: list[int] = []
    if not wanted:
        yield status
        return
    with tempfile.TemporaryFile() as out, tempfile.TemporaryDirectory(prefix="bench-test-") as scratch:
        process = subprocess.Popen(command, cwd=ROOT, env={**env, "BENCH_STATE": scratch}, stdout=out, stderr=subprocess.STDOUT)
        try:
            yield status
        finally:
            status.append(process.wait())
            out.seek(0)
            sys.stdout.flush()
            sys.stdout.buffer.write(out.read())
            sys.stdout.flush()


def _web(*command: str) -> list[str]:
    return ["npx", "--no-install", *command]


def check(argv: list[str]) -> int:
    """Style, types, import rules and the API client's drift. All are run; the first failures are shown."""
    install.everything(tests=True)
    env = environment(install.state() / "test", "postgresql://bench@127.0.0.1:1/none")
    bin_ = install.VENV / "bin"
    steps: list[tuple[str, list[str], Path]] = [
        ("ruff", [str(bin_ / "ruff"), "check", "."], ROOT),
        ("ruff format", [str(bin_ / "ruff"), "format", "--check", "."], ROOT),
        ("mypy", [str(bin_ / "mypy"), "core/bitecore", "core/benchrun", "server", "standin"], ROOT),
        ("import-linter", [str(bin_ / "lint-imports"), "--config", str(contracts.written())], ROOT),
        ("tsc", _web("tsc", "--noEmit"), ROOT / "web"),
        ("Biome", _web("biome", "check", "."), ROOT / "web"),
    ]
    failed = []
    for name, command, folder in steps:
        done = subprocess.run(command, cwd=folder, env=env, text=True, capture_output=True, check=False)
        say(f"{name}: {'good' if done.returncode == 0 else 'not good'}")
        if done.returncode:
            failed.append(name)
            say((done.stdout + done.stderr)[-4000:])
    before = SCHEMA.read_text() if SCHEMA.exists() else ""
    if _generated(env) != before:
        failed.append("API client")
        say("API client: not good: it differs from the server's. Run ./bench api and commit the result.")
    else:
        say("API client: good")
    if failed:
        raise Fail(f"these checks failed: {', '.join(failed)}.")
    return 0


def _generated(env: dict[str, str]) -> str:
    (ROOT / ".state").mkdir(exist_ok=True)
    document = ROOT / ".state" / "openapi.json"
    text = run([install.PYTHON, "server/describe.py"], "The API could not be described", cwd=ROOT, env=env)
    document.write_text(text)
    out = ROOT / ".state" / "schema.gen.ts"
    run(_web("openapi-typescript", str(document), "-o", str(out)), "The API client could not be made", cwd=ROOT / "web")
    return out.read_text()


def api(argv: list[str]) -> int:
    """Write the API client's types anew from the server."""
    with install.lock("install"):
        install.python(tests=False)
        install.packages()
    text = _generated(environment(install.state() / "test", "postgresql://bench@127.0.0.1:1/none"))
    SCHEMA.parent.mkdir(parents=True, exist_ok=True)
    SCHEMA.write_text(text)
    say(f"{SCHEMA.relative_to(ROOT)} is up to date.")
    return 0


def shots(argv: list[str]) -> int:
    """docs/screenshots from a fresh demo, at 1280x800."""
    install.everything(tests=True)
    with _surroundings() as env:
        target = ROOT / "docs" / "screenshots"
        target.mkdir(parents=True, exist_ok=True)
        command = [str(install.PYTHON), "-m", "tests.browser.shots", str(target)]
        return subprocess.call(command, cwd=ROOT, env={**env, "PATH": os.environ["PATH"]})


def storm(argv: list[str]) -> int:
    """The application under faults at random, then every promise checked."""
    return _in_surroundings("tests.storm", argv)


def fuzz(argv: list[str]) -> int:
    """Damaged and forged input against every reader, the case ZIP and the API."""
    return _in_surroundings("tests.fuzz", argv)


def _in_surroundings(module: str, argv: list[str]) -> int:
    install.everything(tests=True)
    with _surroundings() as env:
        return subprocess.call([str(install.PYTHON), "-m", module, *argv], cwd=ROOT, env=env)
