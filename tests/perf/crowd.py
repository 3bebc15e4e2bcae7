"""Many cases at once: what a colleague feels of twenty in the queue, and how soon a case of 120 scans answers."""

from __future__ import annotations

import argparse
import contextlib
import json
import statistics
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

from tests.caller import Caller

from .stage import in_the_application
from .table import Row, median_ms


def rows(upper: bytes, lower: bytes, args: argparse.Namespace) -> Iterator[Row]:
    yield from in_the_application("tests.perf.crowd", upper, lower, args)


def measure(folder: Path, runs: int) -> list[dict]:
    import django

    django.setup()
    from django.core.management import call_command

    from tests.browser.harness import Application
    from tests.server.common import people

    call_command("migrate", verbosity=0)
    call_command("flush", verbosity=0, interactive=False)
    people()
    _held(200, folder)
    app = Application()
    try:
        app.start_web()
        out = _rack(app.address, runs)
        app.start_worker()
        return out + _crowd(app.address, folder, runs)
    finally:
        app.stop()


def _held(count: int, folder: Path) -> None:
    """So many cases on the rack, which nobody works on."""
    from django.contrib.auth.models import User
    from django.core.files.base import ContentFile

    from cases.blobs import dropped
    from cases.services import hold, open_case

    tove = User.objects.get(username="tove")
    with dropped([ContentFile((folder / f"{jaw}.stl").read_bytes(), name=f"{jaw}.stl") for jaw in ("u", "l")]) as found:
        for _ in range(count):
            hold(tove, open_case(tove, found.scans, patient="Bo Ek").number, True)


def _rack(address: str, runs: int) -> list[dict]:
    mira = Colleague(address, "mira")
    ms = median_ms(lambda: mira.call("GET", "/api/cases"), 4 * runs)
    number = mira.call("GET", "/api/cases")[0]["number"]
    revision = [mira.call("GET", f"/api/cases/{number}")["revision"]]

    def change() -> None:
        values = {"thickness_mm": 2 + revision[0] / 100}
        body = {"base": revision[0], "step": "base", "values": values}
        revision[0] = mira.call("POST", f"/api/cases/{number}/settings", body)["revision"]

    def brush() -> None:
        points = [[revision[0] + i / 100, i / 50, 1.0] for i in range(60)]
        entry = {"at": ["swab"], "id": "", "value": {"points_mm": points, "radius_mm": 1.5, "adds": True}}
        body = {"base": revision[0], "step": "follow", "piece": "p1", "values": {}, "entries": [entry]}
        revision[0] = mira.call("POST", f"/api/cases/{number}/settings", body)["revision"]

    for _ in range(300):
        brush()
    return [
        {"name": "crowd: a stroke among 300 to its answer", "ms": median_ms(brush, 4 * runs), "reach_ms": 50},
        {"name": "crowd: rack of 200 cases", "ms": ms, "reach_ms": 50},
        {"name": "crowd: a settings change to its answer", "ms": median_ms(change, 4 * runs)},
    ]


def _crowd(address: str, folder: Path, runs: int) -> list[dict]:
    from .stage import _changed

    mira, tove = Colleague(address, "mira"), Colleague(address, "tove")
    number = mira.drop_paths([folder / "u.stl", folder / "l.stl"])
    mira.opened(number)
    mira.wait(number)
    alone = [mira.changed(number, 3 + i / 100) for i in range(runs)]
    for i in range(20):
        tove.drop_paths([_changed(folder / f"{jaw}.stl", i + 1) for jaw in ("u", "l")])
    crowded = [mira.changed(number, 4 + i / 100) for i in range(runs)]
    waiting = tove.call("GET", "/api/health")["waiting"]
    ratio = statistics.median(crowded) / statistics.median(alone)
    note = f"{ratio:.2f} times as long ({min(crowded):.1f} to {max(crowded):.1f} s); {waiting} cases still waited at the end"
    mira.away = True
    out = [
        {"name": "crowd: a changed base, alone", "ms": statistics.median(alone) * 1000},
        {
            "name": "crowd: a changed base, 20 cases queued", "ms": statistics.median(crowded) * 1000,
            "reach_ms": statistics.median(alone) * 1500, "note": note,
        },
    ]  # fmt: skip
    return out + _many(tove, folder)


def _many(who: Colleague, folder: Path) -> list[dict]:
    """A ZIP of 120 scans of 10,000 triangles, and the case asked for while it is worked out."""
    import io
    import zipfile

    from bitecore.files import stl
    from tests.shapes import jaws, turn

    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for i in range(120):
            archive.writestr(f"{i}.stl", stl.write_binary(jaws(21)[i % 2].moved(turn(i))))
    path = folder / "many.zip"
    path.write_bytes(out.getvalue())
    start = time.perf_counter()
    number = who.drop_paths([path])
    taken = time.perf_counter() - start
    answers = []
    for _ in range(40):
        start = time.perf_counter()
        who.call("GET", f"/api/cases/{number}")
        answers.append(time.perf_counter() - start)
        time.sleep(0.25)
    note = f"slowest of 40 {max(answers) * 1000:.0f} ms; the drop itself {taken:.1f} s"
    return [{"name": "crowd: a case of 120 scans answers", "ms": statistics.median(answers) * 1000, "reach_ms": 1000, "note": note}]


class Colleague(Caller):
    """away : has closed the case."""

    def __init__(self, address: str, name: str) -> None:
        super().__init__(address)
        self.away = False
        self.sign_in(name)

    def drop_paths(self, files: list[Path]) -> str:
        return self.drop({f.name: f.read_bytes() for f in files})

    def opened(self, number: str) -> None:
        """The case is open in this browser, which says so now and then."""

        def here() -> None:
            while not self.away:
                with contextlib.suppress(OSError):
                    self.call("POST", f"/api/cases/{number}/here", {})
                time.sleep(8)

        threading.Thread(target=here, daemon=True).start()

    def wait(self, number: str) -> None:
        while True:
            states = {n["step"]: n["state"] for n in self.call("GET", f"/api/cases/{number}")["nodes"]}
            if states.get("plate") in ("done", "look"):
                return
            time.sleep(0.03)

    def changed(self, number: str, value: float) -> float:
        """Seconds from a changed thickness to the plate that follows from it."""
        base = self.call("GET", f"/api/cases/{number}")["revision"]
        start = time.perf_counter()
        self.call("POST", f"/api/cases/{number}/settings", {"base": base, "step": "base", "values": {"thickness_mm": value}})
        self.wait(number)
        return time.perf_counter() - start


if __name__ == "__main__":
    with contextlib.redirect_stdout(sys.stderr):
        found = measure(Path(sys.argv[1]), int(sys.argv[2]))
    print(json.dumps(found))
