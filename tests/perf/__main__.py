"""./bench perf [--tris N] [--only WORD] [--runs N] [--json FILE] [--stage]: one table of what everything takes.

Kernels and steps on a generated pair, beside a general-purpose library doing the same; whole runs by ./bench run as
processes; with --stage what the browser's main thread is busy with. What is measured is the shipped code path.
"""

from __future__ import annotations

import argparse
import json
import os
import platform
import resource
import sys
import time
from pathlib import Path

from . import engine, kernels, runs, steps
from .table import Row, show

HERE = Path(__file__).resolve().parent


def pair(tris: int) -> tuple[bytes, bytes]:
    """Binary STL of an upper and a lower of about that many triangles, made once."""
    from bitecore.files import stl
    from demo.arch import ArchPlan, jaw_pair

    folder = Path(os.environ.get("NUMBA_CACHE_DIR", "/tmp")).parent / "perf"
    folder.mkdir(parents=True, exist_ok=True)
    paths = [folder / f"{jaw}-{tris}.stl" for jaw in ("upper", "lower")]
    if not all(p.exists() for p in paths):
        print(f"making a pair of {tris:,} triangles …", file=sys.stderr)
        split = 0
        while tris / 4**split > 400_000:
            split += 1
        # Triangles go with the square of the grid: 0.33 mm gives about 150,000.
        meshes = jaw_pair(ArchPlan(seed=77, grid_mm=0.333 * (150_000 * 4**split / tris) ** 0.5))
        for path, mesh in zip(paths, meshes, strict=True):
            path.write_bytes(runs.quartered(stl.write_binary(mesh), split))
    return paths[0].read_bytes(), paths[1].read_bytes()


def main() -> int:
    parser = argparse.ArgumentParser(prog="./bench perf")
    parser.add_argument("--tris", type=int, default=150_000, help="triangles a jaw, about (default 150000)")
    parser.add_argument("--only", default="", help="only rows whose name holds this word")
    parser.add_argument("--runs", type=int, default=5, help="runs of each row; the median counts (default 5)")
    parser.add_argument("--json", default="", help="write the rows here too")
    parser.add_argument("--crowd", action="store_true", help="the rows with many cases at once too (starts the application)")
    parser.add_argument("--stage", action="store_true", help="the rows of the stage too (starts the application and Chromium)")
    args = parser.parse_args()
    upper, lower = pair(args.tris)
    rows: list[Row] = []
    started = time.time()
    groups = [kernels.rows, steps.rows, engine.rows, runs.rows]
    if args.crowd:
        from . import crowd

        groups.append(crowd.rows)
    if args.stage:
        from . import stage

        groups.append(stage.rows)
    for group in groups:
        for row in group(upper, lower, args):
            rows.append(row)
            show([row], header=len(rows) == 1)
    if args.json:
        document = {
            "format": 1,
            "machine": f"{platform.machine()}, {os.cpu_count()} cores, Python {platform.python_version()}",
            "tris": args.tris,
            "runs": args.runs,
            "seconds": round(time.time() - started, 1),
            "peak_mb": round(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024),
            "rows": [row.as_json() for row in rows],
        }
        Path(args.json).write_text(json.dumps(document, indent=1) + "\n")
    return 0


if __name__ == "__main__":
    sys.exit(main())
