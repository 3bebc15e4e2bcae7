"""./bench lead NAME and ./bench technician NAME: accounts made at the machine itself."""

from __future__ import annotations

import getpass
import os
import subprocess
import sys

from . import install
from .database import Cluster
from .say import ROOT, Misread, say
from .up import database, environment, guarded


def account(group: str, argv: list[str]) -> int:
    """Make an account. The password is asked for, or read from standard input where that is no terminal."""
    if len(argv) != 1 or argv[0].startswith("-"):
        raise Misread(f"say who: ./bench {group} NAME.")
    folder = install.state()
    guarded(folder)
    install.everything()
    url, cluster = database(folder)
    try:
        env = environment(folder, url)
        subprocess.run([str(install.PYTHON), "server/manage.py", "migrate", "-v", "0"], cwd=ROOT, env=env, check=True)
        return _made(group, argv[0], env)
    finally:
        _stop(cluster)


def _made(group: str, name: str, env: dict[str, str]) -> int:
    word = _password(name)
    command = [str(install.PYTHON), "server/manage.py", "bench_person", name, group]
    done = subprocess.run(command, cwd=ROOT, env=env, input=word, text=True, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, check=False)
    if done.returncode:
        raise Misread(done.stdout.strip() or f"the account could not be made; see the logs in {os.fspath(install.state())}.")
    say(f"{name} can sign in ({group}).")
    return 0


def _password(name: str) -> str:
    if not sys.stdin.isatty():
        return sys.stdin.readline().rstrip("\n")
    word = getpass.getpass(f"Password for {name}: ")
    if word != getpass.getpass("Once more: "):
        raise Misread("the two passwords are not the same. Nothing was changed.")
    return word


def _stop(cluster: Cluster | None) -> None:
    if cluster and cluster.mine:
        cluster.stop()
