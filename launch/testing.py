"""./bench test, journeys, check, api and shots."""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from . import contracts, install, lanes
from .say import ROOT, Fail, run, say
from .up import database, environment, guarded

PARTS = ("core", "server", "browser")
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
    """Core, server and browser tests by Django's runner; the rest of the words go to it: names alone, else all on two lanes but those
    tagged long, which run with the journeys."""
    parts = [p for p in PARTS if f"--{p}" in argv] or list(PARTS)
    words = [a for a in argv if a.removeprefix("--") not in PARTS]
    labels = [w for w in words if not w.startswith("-")]
    options = [w for w in words if w.startswith("-")]
    install.everything(tests=True)
    with _surroundings() as env:
        command = [str(install.PYTHON), "server/manage.py", "test", "--noinput", "--timing", *options]
        if labels:
            return subprocess.call([*command, *labels], cwd=ROOT, env=env)
        return lanes.run_all([*command, "--exclude-tag=long"], env, parts)


def journeys(argv: list[str]) -> int:
    """The long ways through the application, and the tests that are tagged long, one after the other."""
    if any(not word.startswith("-") for word in argv):
        return test(argv)
    ways = test(["tests.journeys", *argv])
    return test([*(f"tests.{part}" for part in PARTS), "--tag=long", *argv]) or ways


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

    def tried(step: tuple[str, list[str], Path]) -> str:
        """Empty where it is good, else its name."""
        name, command, folder = step
        done = subprocess.run(command, cwd=folder, env=env, text=True, capture_output=True, check=False)
        say(f"{name}: good" if done.returncode == 0 else f"{name}: not good\n{(done.stdout + done.stderr)[-4000:]}")
        return name if done.returncode else ""

    with ThreadPoolExecutor(2) as two:
        failed = [name for name in two.map(tried, steps) if name]
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


def lock(argv: list[str]) -> int:
    """Write every package that ours bring along into requirements.lock and requirements-dev.lock, with the hashes of their files."""
    install.everything(tests=True)
    with tempfile.TemporaryDirectory() as folder:
        tools = Path(folder) / "tools"
        run([str(install.PYTHON), "-m", "venv", str(tools)], "The environment for it could not be made")
        run([str(tools / "bin" / "pip"), "install", "-q", "pip-tools"], "pip-tools could not be installed")
        for name in ("requirements", "requirements-dev"):
            out = Path(folder) / name
            say(f"Writing {name}.lock: this takes some minutes …")
            words = ["-q", "--generate-hashes", "--allow-unsafe", "--no-header", "--no-annotate", "--strip-extras", "-o", str(out)]
            run([str(tools / "bin" / "pip-compile"), *words, str(ROOT / f"{name}.txt")], f"{name}.lock could not be made", cwd=ROOT)
            # Where packages come from is the machine's own affair.
            lines = [line for line in out.read_text().splitlines() if line and not line.startswith("--")]
            (ROOT / f"{name}.lock").write_text("\n".join(lines) + "\n")
    return 0
