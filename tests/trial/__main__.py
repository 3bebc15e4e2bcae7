"""./bench trial [--cases N] [--out FILE]: the big statistics on generated cases, as a page."""

from __future__ import annotations

import argparse
import os
import sys
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np

from .intake import OTHER_KINDS, Outcome, judged


def main() -> int:
    parser = argparse.ArgumentParser(prog="./bench trial")
    parser.add_argument("--cases", type=int, default=100)
    parser.add_argument("--grid", type=float, default=0.8, help="mm between vertices of the generated scans")
    parser.add_argument("--out", type=Path, default=Path("docs/trial.md"))
    args = parser.parse_args()
    found: list[Outcome] = []
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        for number, part in enumerate(pool.map(judged, range(args.cases), [args.grid] * args.cases), 1):
            found += part
            print(f"\r{number} of {args.cases} cases", end="", file=sys.stderr)
    print(file=sys.stderr)
    text = page(found, args.cases)
    args.out.write_text(text)
    print(text)
    return 0


def page(found: list[Outcome], cases: int) -> str:
    jaws = [o for o in found if o.scan.split()[1] in ("upper", "lower")]
    lines = [
        "# Trial",
        "",
        f"`./bench trial --cases {cases}`: {len(found)} generated scans, turned any way, some inside-out, in mm, cm, m and inch;",
        "with gaps, crowding, wear, third molars, without palate. Generated, so easier than what comes from mouths.",
        "",
        "| Intake | right | reach |",
        "|---|---|---|",
    ]

    def row(name: str, good: list[bool], reach: str = "99 %") -> None:
        lines.append(f"| {name} | {sum(good)} of {len(good)} ({100 * sum(good) / max(len(good), 1):.1f} %) | {reach} |")

    row("what it is, all scans", [o.kind for o in found])
    row("upper or lower, jaw scans", [o.jaw for o in jaws])
    row(
        "upper or lower, impressions, models and desk scans",
        [o.jaw for o in found if o.scan.split()[1] in ("impression", "closed", "desk")],
        "",
    )
    row("facing within 10°, jaw scans", [o.facing_deg <= 10 for o in jaws])
    row("inside-out, jaw scans", [o.inside_out for o in jaws])
    row("unit, all scans", [o.unit for o in found])
    row("all of it at once, all scans", [o.right for o in found])
    for kind in OTHER_KINDS:
        row(f"told as {kind}", [o.kind for o in found if o.scan.split()[1] == kind], "")
    wrong = [o for o in found if o.wrong_and_sure]
    lines += [
        f"| wrong and sure (confidence 0.9 or more) | {len(wrong)} | 0 |",
        "",
        f"Facing off by {np.mean([o.facing_deg for o in jaws]):.1f}° on average, {max(o.facing_deg for o in jaws):.1f}° at most; "
        f"Intake took {np.median([o.seconds for o in found]):.2f} s in the middle.",
        "",
        *[f"- Not right: {o}" for o in found if not o.right],
    ]
    return "\n".join(lines).rstrip() + "\n"


if __name__ == "__main__":
    sys.exit(main())
