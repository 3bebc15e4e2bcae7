"""./bench trial [--cases N] [--out FILE]: the big statistics on generated cases, as a page."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Iterable, Iterator
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import TypeVar

import numpy as np

from .bite import BiteOutcome, judged_bites
from .intake import OTHER_KINDS, Outcome, judged
from .level import LevelOutcome, judged_levels

T = TypeVar("T")


def main() -> int:
    parser = argparse.ArgumentParser(prog="./bench trial")
    parser.add_argument("--cases", type=int, default=100)
    parser.add_argument("--grid", type=float, default=0.8, help="mm between vertices of the generated scans")
    parser.add_argument("--only", choices=("intake", "bite", "level"), help="one part of the page; printed, not written")
    parser.add_argument("--out", type=Path, default=Path("docs/trial.md"))
    args = parser.parse_args()
    found: list[Outcome] = []
    bites: list[BiteOutcome] = []
    levels: list[LevelOutcome] = []
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        numbers = range(args.cases)
        if args.only in (None, "intake"):
            for part in _told(pool.map(judged, numbers, [args.grid] * args.cases), "intake", args.cases):
                found += part
        if args.only in (None, "bite"):
            for more in _told(pool.map(judged_bites, numbers), "bite", args.cases):
                bites += more
        if args.only in (None, "level"):
            for three in _told(pool.map(judged_levels, numbers), "level", args.cases):
                levels += three
    parts = ([page(found, args.cases)] if found else []) + ([bite_page(bites)] if bites else [])
    text = "\n".join(parts + ([level_page(levels)] if levels else []))
    if not args.only:
        args.out.write_text(text)
    print(text)
    return 0


def _told(parts: Iterable[T], what: str, cases: int) -> Iterator[T]:
    for number, part in enumerate(parts, 1):
        print(f"\r{what}: {number} of {cases} cases", end="", file=sys.stderr)
        yield part
    print(file=sys.stderr)


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


def bite_page(found: list[BiteOutcome]) -> str:
    """Target error at the lower's tips and edges, in µm; the stated error beside the true one."""
    lines = [
        "## Bite",
        "",
        "Jaws and bite scans of one mouth, each turned any way, each with 20 µm of white noise of its own and vertices of its",
        "own; with slow error: 20 µm RMS over 20 mm besides. Nothing was marked by hand.",
        "",
        "| bite scans | fitted without a click | mean error | worst | over its reach | true ≤ 2 × stated | RMS true : stated |",
        "|---|---|---|---|---|---|---|",
    ]
    for kind in dict.fromkeys(o.kind for o in found):
        own = [o for o in found if o.kind == kind]
        given = [o for o in own if o.given]
        reach = 0.06 if "slow" in kind else 0.03
        true, said = (float(np.sqrt(np.mean([getattr(o, n) ** 2 for o in given]))) for n in ("rms_mm", "stated_mm"))
        lines.append(
            f"| {kind} | {len(given)} of {len(own)} | {1000 * np.mean([o.mean_mm for o in given]):.1f} µm | "
            f"{1000 * max(o.worst_mm for o in given):.0f} µm | {sum(o.mean_mm > reach for o in given)} over {1000 * reach:.0f} µm, "
            f"{sum(o.rms_mm > 0.15 for o in given)} over 150 µm | {100 * np.mean([o.rms_mm <= 2 * o.stated_mm for o in given]):.0f} % | "
            f"{true / said:.2f} |"
        )
    lines += [
        "",
        f"The side was told right for {sum(o.sides for o in found)} of {len(found)}; a fit took "
        f"{np.median([o.seconds for o in found if o.kind.startswith('two')]):.1f} s for two bite scans in the middle, two fits at a time.",
        "",
        *[f"- Not given: {o.case}, {o.kind}: {o.why}" for o in found if not o.given],
    ]
    return "\n".join(lines).rstrip() + "\n"


def level_page(found: list[LevelOutcome]) -> str:
    """Plane and midline beside the generator's truth."""
    lines = [
        "## Level",
        "",
        "The same cases as for Intake, turned any way. The plane is that of the lower jaw's tips, of the upper's where it is alone.",
        "",
        "| what came | within 3°, 5° and 1 mm | plane off, mean / worst | midline off, mean / worst | its place off, mean / worst |",
        "|---|---|---|---|---|",
    ]
    for kind in dict.fromkeys(o.kind for o in found):
        own = [o for o in found if o.kind == kind]
        columns = [np.array([getattr(o, n) for o in own]) for n in ("plane_deg", "midline_deg", "midline_mm")]
        spans = [f"{c.mean():.2f} / {c.max():.2f} {unit}" for c, unit in zip(columns, ("°", "°", "mm"), strict=True)]
        lines.append(f"| {kind} | {sum(o.good for o in own)} of {len(own)} | {' | '.join(spans)} |")
    lines += ["", *[f"- Not within: {o}" for o in found if not o.good]]
    return "\n".join(lines).rstrip() + "\n"


if __name__ == "__main__":
    sys.exit(main())
