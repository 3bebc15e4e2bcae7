"""./bench storm [--seconds N] [--seed N]: people at work and a saboteur for so long, then every promise is checked.

People drop scans, change settings, take back, accept, hand off and delete, two of them in the same cases. The saboteur kills
web server, worker, their children and the database with SIGKILL, and (as root, on a small tmpfs) fills the disk.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

MOUNT_MB = 3000


def _mounted(folder: Path) -> bool:
    """A small disk of our own, where that may be made."""
    folder.mkdir(parents=True, exist_ok=True)
    done = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", f"size={MOUNT_MB}m,mode=711", "tmpfs", str(folder)], capture_output=True, check=False
    )
    return done.returncode == 0


def main() -> int:
    parser = argparse.ArgumentParser(prog="./bench storm")
    parser.add_argument("--seconds", type=int, default=600)
    parser.add_argument("--seed", type=int, default=1)
    args = parser.parse_args()
    disk = Path(tempfile.mkdtemp(prefix="bench-storm-", dir="/tmp"))
    small = _mounted(disk)
    os.environ |= {"BENCH_STATE": str(disk), "DJANGO_ALLOW_ASYNC_UNSAFE": "true"}
    try:
        return _storm(args, disk if small else None)
    finally:
        if small:
            subprocess.run(["umount", "-l", str(disk)], check=False)


def _storm(args: argparse.Namespace, disk: Path | None) -> int:
    import django

    django.setup()
    from django.core.management import call_command

    from tests.server.common import people
    from tests.storm.check import promises
    from tests.storm.house import House
    from tests.storm.people import Person
    from tests.storm.saboteur import Saboteur

    call_command("migrate", verbosity=0)
    call_command("flush", verbosity=0, interactive=False)
    people()
    house = House(Path(os.environ["BENCH_TEST_CLUSTER"]))
    ended = threading.Event()
    rng = random.Random(args.seed)
    try:
        house.start()
        ledger: list[dict] = []
        hands = [Person(name, house, ledger, ended, rng.randrange(10**9)) for name in ("mira", "tove", "mira")]
        saboteur = Saboteur(house, disk, ended, rng.randrange(10**9))
        for thread in (*hands, saboteur):
            thread.start()
        end = time.monotonic() + args.seconds
        while time.monotonic() < end:
            house.watch()
            time.sleep(0.3)
        ended.set()
        for thread in (*hands, saboteur):
            thread.join(120)
        house.settle()
        found = promises(ledger, house)
        found |= {"faults": saboteur.done, "answers": _counted(hands), "small disk": bool(disk)}
        print(json.dumps(found, indent=1))
        return 1 if found["broken"] else 0
    finally:
        ended.set()
        house.stop()


def _counted(hands: list) -> dict[str, int]:
    out: dict[str, int] = {}
    for hand in hands:
        for key, count in hand.answers.items():
            out[key] = out.get(key, 0) + count
    return dict(sorted(out.items()))


if __name__ == "__main__":
    sys.exit(main())
