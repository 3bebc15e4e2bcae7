"""./bench trial [--cases N] [--only PART] [--out FILE]: the big statistics on generated cases, as a page."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import TypeVar

from . import bases, bite, dies, held, intake, level, parts, plates, relation, teeth
from .bases_page import bases_page
from .pages import bite_page, intake_page, level_page, relation_page
from .parts_page import parts_page
from .teeth_page import teeth_page

T = TypeVar("T")
OWN, WIDE, SECOND = "own", "wide, held out", "second generator"
_ABOUT = """# Trial

`./bench trial --cases {cases}`, on generated scans, so easier than what comes from mouths. Three sets: *own*, mouths as the demo's;
*wide*, the same generator with arch forms, sizes, curves, bites, gum and borders as people differ, of which the half is shown that
nothing was fitted on; *second generator*, mouths by other rules (tests/trial/second), on which nothing is ever fitted. Scans are
turned any way, some inside-out, in mm, cm, m and inch, some with gaps, crowding, wear, third molars, without palate. Of mouths so
many: Intake {cases}, {half} and {cases}; Bite {cases}; Relation {few} and {few}; Level {cases}, {half} and {cases}; Teeth {cases},
{half}, {cases} and {cases}; Parts {half} and {few}; Bases {few}, {few} and {few},
and half as many with toothless stretches and of impressions; Articulate, Dies and Supports {few}, {few} and {few}.
"""


def main() -> int:
    parser = argparse.ArgumentParser(prog="./bench trial")
    parser.add_argument("--cases", type=int, default=100)
    names = ("intake", "bite", "relation", "level", "teeth", "parts", "bases", "held", "dies", "plates")
    parser.add_argument("--only", choices=names, help="one part of the page; printed, not written")
    parser.add_argument("--out", type=Path, default=Path("docs/trial.md"))
    args = parser.parse_args()
    count = args.cases
    numbers, odd, few = range(count), range(1, count, 2), range(max(count // 4, 1))
    pages = [_ABOUT.format(cases=count, half=len(odd), few=len(few))]
    with ProcessPoolExecutor(os.cpu_count()) as pool:

        def told(part: str, name: str, of: Callable[[int], Sequence[T]], which: Iterable[int]) -> list[T]:
            which, out = list(which), list[T]()
            for done, found in enumerate(pool.map(of, which), 1):
                print(f"\r{part}, {name}: {done} of {len(which)} mouths  ", end="", file=sys.stderr)
                out += found
            print(file=sys.stderr)
            return out

        if args.only in (None, "intake"):
            ways = ((OWN, intake.judged, numbers), (WIDE, intake.judged_wide, odd), (SECOND, intake.judged_second, numbers))
            pages.append(intake_page({name: told("intake", name, of, which) for name, of, which in ways}))
        if args.only in (None, "bite"):
            pages.append(bite_page(told("bite", OWN, bite.judged_bites, numbers)))
        if args.only in (None, "relation"):
            both = ((OWN, relation.judged_relations, few), (SECOND, relation.judged_second_relations, few))
            pages.append(relation_page({name: told("relation", name, of, which) for name, of, which in both}))
        if args.only in (None, "level"):
            all_ = (
                (OWN, level.judged_levels, numbers),
                (WIDE, level.judged_wide_levels, odd),
                (SECOND, level.judged_second_levels, numbers),
            )
            pages.append(level_page({name: told("level", name, of, which) for name, of, which in all_}))
        if args.only in (None, "teeth"):
            teeth_ = (
                (OWN, teeth.judged_teeth, numbers),
                (WIDE, teeth.judged_wide_teeth, odd),
                ("hard", teeth.judged_hard_teeth, numbers),
                ("hard, with colours", teeth.judged_coloured_teeth, numbers[: max(len(numbers) // 2, 1)]),
                (SECOND, teeth.judged_second_teeth, numbers),
                ("with brackets", teeth.judged_bracketed, numbers[: max(len(numbers) // 2, 1)]),
            )
            pages.append(teeth_page({name: told("teeth", name, of, which) for name, of, which in teeth_}))
        if args.only in (None, "parts"):
            of_parts = ((WIDE, parts.judged_wide_parts, odd), (SECOND, parts.judged_second_parts, few))
            pages.append(parts_page({name: told("parts", name, of, which) for name, of, which in of_parts}))
        if args.only in (None, "bases"):
            half = range(max(len(few) // 2, 1))
            of_bases = (
                (OWN, bases.judged_bases, few),
                (WIDE, bases.judged_wide_bases, few),
                ("toothless stretches", bases.judged_toothless_bases, half),
                ("impressions", bases.judged_impression_bases, half),
                (SECOND, bases.judged_second_bases, few),
            )
            pages.append(bases_page({name: told("bases", name, of, which) for name, of, which in of_bases}))
        if args.only in (None, "held"):
            ways_held = (
                (OWN, held.judged_held, few),
                (WIDE, held.judged_wide_held, few),
                (SECOND, held.judged_second_held, few),
            )
            pages.append(held.held_page({name: told("held", name, of, which) for name, of, which in ways_held}))
        if args.only in (None, "dies"):
            of_dies = ((OWN, dies.judged_dies, few), (WIDE, dies.judged_wide_dies, few), (SECOND, dies.judged_second_dies, few))
            pages.append(dies.dies_page({name: told("dies", name, of, which) for name, of, which in of_dies}))
        if args.only in (None, "plates"):
            of_plates = (
                (OWN, plates.judged_plates, few),
                (WIDE, plates.judged_wide_plates, few),
                (SECOND, plates.judged_second_plates, few),
            )
            pages.append(plates.plates_page({name: told("plates", name, of, which) for name, of, which in of_plates}))
    text = "\n".join(pages)
    if not args.only:
        args.out.write_text(text)
    print(text)
    return 0


if __name__ == "__main__":
    sys.exit(main())
