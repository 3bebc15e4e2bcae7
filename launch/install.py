"""What must be there before anything starts: Debian packages, the Python environment, the front end."""

from __future__ import annotations

import fcntl
import glob
import hashlib
import os
import shutil
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path

from .say import ROOT, Fail, as_root, run, say

VENV = ROOT / ".venv"
PYTHON = VENV / "bin" / "python"
WEB = ROOT / "web"
# Package and a path that shows it is there.
FOR_RUNNING = {"postgresql": "/usr/lib/postgresql/*/bin/initdb"}
FOR_TESTS = {"chromium": "/usr/bin/chromium", "libegl1": "/usr/lib/*/libEGL.so.1", "libgl1-mesa-dri": "/usr/lib/*/dri/swrast_dri.so"}


def state() -> Path:
    """Where everything lives that is not in the checkout."""
    if os.environ.get("BENCH_STATE"):
        return Path(os.environ.get("BENCH_CALLED_FROM", ".")).joinpath(os.environ["BENCH_STATE"]).absolute()
    if os.geteuid() == 0:
        return Path("/var/lib/bitebench")
    return Path(os.environ.get("XDG_STATE_HOME") or Path.home() / ".local/state") / "bitebench"


@contextmanager
def lock(name: str) -> Iterator[None]:
    folder = ROOT / ".state"
    folder.mkdir(exist_ok=True)
    with (folder / f"{name}.lock").open("w") as handle:
        fcntl.flock(handle, fcntl.LOCK_EX)
        yield


def debian(packages: dict[str, str]) -> None:
    missing = [name for name, shown in packages.items() if not glob.glob(shown)]
    if not missing:
        return
    if not shutil.which("apt-get"):
        raise Fail(f"missing {', '.join(missing)}, and this is not a Debian machine with apt-get to install them.")
    if os.geteuid() != 0 and not shutil.which("sudo"):
        raise Fail(f"missing {', '.join(missing)}: run as root, or install sudo.")
    say(f"Installing {', '.join(missing)} …")
    if "postgresql" in missing:
        # Debian would start a cluster of its own, which nobody here needs.
        text = "create_main_cluster = false\n"
        folder = "/etc/postgresql-common/createcluster.d"
        run(as_root(["sh", "-c", f"mkdir -p {folder} && printf '{text}' > {folder}/bitebench.conf"]), "PostgreSQL could not be prepared")
    environment = {**os.environ, "DEBIAN_FRONTEND": "noninteractive"}
    install = as_root(["apt-get", "install", "-y", "--no-install-recommends", *missing])
    try:
        run(install, "x", env=environment)
    except Fail:
        run(as_root(["apt-get", "update"]), "The package lists could not be fetched", env=environment)
        run(install, f"{', '.join(missing)} could not be installed", env=environment)


def _stamp(*files: Path) -> str:
    seed = hashlib.sha256()
    for file in files:
        seed.update(str(file.relative_to(ROOT)).encode() + file.read_bytes())
    return seed.hexdigest()


def python(*, tests: bool) -> None:
    # Every package that comes with another is pinned too, each with its hashes; ./bench lock writes them anew.
    wanted = ROOT / ("requirements-dev.lock" if tests else "requirements.lock")
    stamp, mark = _stamp(ROOT / "requirements.lock", wanted), VENV / (".tests" if tests else ".running")
    if PYTHON.exists() and mark.exists() and mark.read_text() == stamp:
        return
    say("Installing the Python environment …")
    if not PYTHON.exists():
        import sys

        try:
            run([sys.executable, "-m", "venv", VENV], "x")
        except Fail:
            shutil.rmtree(VENV, ignore_errors=True)
            debian({"python3-venv": "/nonexistent"})
            run([sys.executable, "-m", "venv", VENV], "The Python environment could not be made")
    run(
        [PYTHON, "-m", "pip", "install", "-q", "--disable-pip-version-check", "--require-hashes", "-r", wanted],
        "The Python packages could not be installed",
        cwd=ROOT,
    )
    mark.write_text(stamp)


def web() -> None:
    """Build the front end where its sources have changed since the last build."""
    sources = sorted(p for p in [*WEB.glob("*.*"), *(WEB / "src").rglob("*"), *(WEB / "public").rglob("*")] if p.is_file())
    stamp, mark = _stamp(*sources), WEB / "dist" / ".stamp"
    if mark.exists() and mark.read_text() == stamp:
        return
    if not shutil.which("npx"):
        raise Fail("Node.js 20.19 or newer is missing. Install nodejs and npm.")
    packages()
    say("Building the front end …")
    run(["npx", "--no-install", "vite", "build", "--logLevel", "warn"], "The front end could not be built", cwd=WEB)
    mark.write_text(stamp)


def packages() -> None:
    """The front end's packages, exactly as the lockfile says."""
    stamp, mark = _stamp(WEB / "package.json", WEB / "pnpm-lock.yaml"), WEB / "node_modules" / ".stamp"
    if mark.exists() and mark.read_text() == stamp:
        return
    say("Installing the front end's packages …")
    environment = {**os.environ, "CI": "true", "npm_config_yes": "true"}
    run(
        ["npx", "-y", "pnpm@10", "install", "--frozen-lockfile", "--silent"],
        "The front end's packages could not be installed",
        cwd=WEB,
        env=environment,
    )
    mark.write_text(stamp)


def kernels(folder: Path) -> None:
    """Compile the kernels once, so that the first case is as fast as the next."""
    sources = [path for path in sorted((ROOT / "core").rglob("*.py")) if "njit" in path.read_text()]
    stamp, mark = _stamp(*sources), folder / ".stamp"
    if mark.exists() and mark.read_text() == stamp:
        return
    folder.mkdir(parents=True, exist_ok=True)
    for old in folder.rglob("*.nb?"):
        # A kept kernel does not notice that another file's kernel it is made of has changed.
        old.unlink(missing_ok=True)
    environment = {**os.environ, "NUMBA_CACHE_DIR": str(folder), "PYTHONPATH": str(ROOT / "core"), "PYTHONDONTWRITEBYTECODE": ""}

    def half(which: str) -> None:
        say(f"Preparing the geometry kernels, {which} …")
        run([PYTHON, "-m", "bitecore.runsheet.warm", which], "The geometry kernels could not be prepared", cwd=ROOT, env=environment)

    with ThreadPoolExecutor(2) as two:
        list(two.map(half, ("sheet", "beside")))
    mark.write_text(stamp)


def everything(*, tests: bool = False) -> None:
    with lock("install"), ThreadPoolExecutor(1) as beside:
        front_end = beside.submit(web)
        debian(FOR_RUNNING | (FOR_TESTS if tests else {}))
        python(tests=tests)
        kernels(state() / "kernels")
        front_end.result()
