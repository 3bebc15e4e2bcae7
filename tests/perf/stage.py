"""The application with Chromium: drop to stage, change to result, undo, and the longest task of the main thread."""

from __future__ import annotations

import argparse
import contextlib
import json
import os
import re
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from .table import Row

WATCH = """
window.__long = [];
new PerformanceObserver(list => { for (const e of list.getEntries()) window.__long.push(e.duration); })
  .observe({ type: 'longtask', buffered: true });
"""


def rows(upper: bytes, lower: bytes, args: argparse.Namespace) -> Iterator[Row]:
    yield from in_the_application("tests.perf.stage", upper, lower, args)


def in_the_application(module: str, upper: bytes, lower: bytes, args: argparse.Namespace) -> Iterator[Row]:
    """The rows of a module that runs in its own process, with Django set up against a database of its own."""
    from launch import testing

    with testing._surroundings() as env, tempfile.TemporaryDirectory() as name:
        for jaw, data in (("u", upper), ("l", lower)):
            (Path(name) / f"{jaw}.stl").write_bytes(data)
        command = [sys.executable, "-m", module, name, str(args.runs)]
        done = subprocess.run(command, env={**os.environ, **env}, capture_output=True, text=True, check=False)
        if done.returncode:
            raise RuntimeError(done.stderr[-3000:])
        for row in json.loads(done.stdout.splitlines()[-1]):
            if args.only in row["name"]:
                yield Row(**row)


def measure(folder: Path, runs: int) -> list[dict]:
    from tests.browser.shots import application

    out: list[dict] = []
    with application(demo=False) as (page, _):
        page.add_init_script(WATCH)
        page.reload()
        drops, firsts, ends = [], [], []
        for number in range(1 + max(runs // 2, 1)):
            # The first finds the children cold, as after a start; it is a row of its own.
            page.goto(page.url.split("/case")[0] + "/")
            page.get_by_role("heading", name="Rack", exact=True).wait_for()
            page.evaluate("window.__long = []")
            files = [_changed(folder / f"{jaw}.stl", number) for jaw in ("u", "l")]
            page.wait_for_timeout(1500)
            start = time.perf_counter()
            page.get_by_test_id("scans").set_input_files(files)
            page.wait_for_function("() => (document.querySelector('[data-testid=stage]')?.dataset.drawn ?? 0) >= 2", polling=20)
            firsts.append(time.perf_counter() - start)
            page.wait_for_function("() => (document.querySelector('[data-testid=stage]')?.dataset.full ?? 0) >= 2", polling=20)
            drops.append(time.perf_counter() - start)
            page.get_by_role("button", name=re.compile("^Plate: (done|needs)")).wait_for(timeout=90_000)
            ends.append(time.perf_counter() - start)
        note = "Chromium draws by software on the same cores"
        for name, took, reach in (
            ("app: drop two STL to a light copy of both", firsts, 1000),
            ("app: drop two STL to both in full", drops, 2500),
            ("app: drop to the plate", ends, 8000),
        ):
            out.append({"name": name, "ms": statistics.median(took[1:]) * 1000, "reach_ms": reach, "note": note})
        out.append({"name": "app: first drop after the start, to the plate", "ms": ends[0] * 1000})
        out += _changes(page, runs)
        for key in ("Alt+4", "Alt+5", "1", "5", "7", "r", "g"):
            page.keyboard.press(key)
            page.wait_for_timeout(700)
        page.wait_for_timeout(1500)
        longest = page.evaluate("Math.max(0, ...window.__long)")
        out.append({"name": "app: longest task of the main thread", "ms": longest, "reach_ms": 100, "note": "software rendering"})
    return out


def _changes(page, runs: int) -> list[dict]:  # noqa: ANN001
    """A late change of the base, and its undo."""
    page.keyboard.press("Alt+5")
    changes, undos = [], []
    for number in range(runs):
        field = page.get_by_role("textbox", name="Under the lowest point")
        wanted = f"{3 + number / 10:.2f} mm"
        field.fill(str(3 + number / 10))
        start = time.perf_counter()
        field.press("Enter")
        page.get_by_label("Readings").get_by_text(wanted, exact=True).wait_for()
        changes.append(time.perf_counter() - start)
        page.get_by_role("button", name=re.compile("^Plate: done")).wait_for()
        field.blur()
        start = time.perf_counter()
        page.keyboard.press("Control+z")
        page.get_by_label("Readings").get_by_text("2.00 mm", exact=True).wait_for()
        undos.append(time.perf_counter() - start)
    return [
        {"name": "app: a changed base alone", "ms": statistics.median(changes) * 1000, "reach_ms": 5000},
        {"name": "app: undo", "ms": statistics.median(undos) * 1000, "reach_ms": 300},
    ]


def _changed(path: Path, number: int) -> Path:
    """The same scan a hair further: nothing of an earlier run can be used again."""
    import numpy as np

    from bitecore.files import stl

    data = bytearray(path.read_bytes())
    record = np.frombuffer(data, stl.RECORD, offset=84).copy()
    record["corner"] += np.float32(0.001 * (number + 1))
    out = path.with_name(f"{path.stem}{number}.stl")
    out.write_bytes(bytes(data[:84]) + record.tobytes())
    return out


if __name__ == "__main__":
    with contextlib.redirect_stdout(sys.stderr):
        found = measure(Path(sys.argv[1]), int(sys.argv[2]))
    print(json.dumps(found))
