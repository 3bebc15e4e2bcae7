"""The pages of the trial: each set a column, its reach beside it, each failure named."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import numpy as np

from .bite import BiteOutcome
from .intake import OTHER_KINDS, Outcome
from .level import LevelOutcome
from .relation import WAYS, RelationOutcome

_CALLED = ((0.0, 0.7), (0.7, 0.8), (0.8, 0.9), (0.9, 1.01))
_JAWS = ("upper", "lower")


def _share(good: Sequence[bool]) -> str:
    return f"{sum(good)} of {len(good)} ({100 * sum(good) / len(good):.1f} %)" if good else "–"


def _head(title: str, sets: Mapping[str, object], *more: str) -> list[str]:
    names = [title, *sets, *more]
    return [f"| {' | '.join(names)} |", "|" + "---|" * len(names)]


def _is_jaw(o: Outcome) -> bool:
    return o.scan.split()[1] in _JAWS


def intake_page(sets: Mapping[str, Sequence[Outcome]]) -> str:
    rows: list[tuple[str, Callable[[Outcome], bool], Callable[[Outcome], bool], str]] = [
        ("what it is, all scans", lambda o: True, lambda o: o.kind, "99 %"),
        ("upper or lower, jaw scans alone", _is_jaw, lambda o: o.jaw, "99 %"),
        ("upper or lower, impressions, models and desk scans",
         lambda o: o.scan.split()[1] in ("impression", "closed", "desk"), lambda o: o.jaw, ""),
        ("up and front within 10°, jaw scans", _is_jaw, lambda o: o.facing_deg <= 10, "99 %"),
        ("inside-out, jaw scans", _is_jaw, lambda o: o.inside_out, "99 %"),
        ("unit, all scans", lambda o: True, lambda o: o.unit, "99 %"),
        ("all of it at once, all scans", lambda o: True, lambda o: o.right, "98 %"),
        *((f"told as {kind}", lambda o, k=kind: o.scan.split()[1] == k, lambda o: o.kind, "") for kind in OTHER_KINDS),
    ]  # fmt: skip
    lines = _head("Intake", sets, "reach")
    for name, asked, good, reach in rows:
        lines.append(f"| {name} | {' | '.join(_share([good(o) for o in own if asked(o)]) for own in sets.values())} | {reach} |")
    lines.append(f"| upper or lower, both jaws of a mouth together | {' | '.join(_share(_pairs(own)) for own in sets.values())} | 99 % |")
    wrong = {name: [o for o in own if o.wrong_and_sure] for name, own in sets.items()}
    lines.append(f"| wrong and sure (confidence 0.9 or more) | {' | '.join(str(len(w)) for w in wrong.values())} | 0 |")
    lines += ["", "Is the confidence true? Of jaw scans that were called so sure, so many were right:", "", *_head("called", sets)]
    for low, high in _CALLED:
        called = [[o.jaw for o in own if _is_jaw(o) and low <= o.confidence < high] for own in sets.values()]
        lines.append(f"| {100 * low:.0f} to {min(100 * high, 100):.0f} % sure | {' | '.join(_share(c) for c in called)} |")
    jaws = [o for own in sets.values() for o in own if _is_jaw(o)]
    facing = f"Facing off by {np.mean([o.facing_deg for o in jaws]):.1f}° on average, {max(o.facing_deg for o in jaws):.1f}° at most"
    lines += [
        "",
        f"{facing}; Intake took {np.median([o.seconds for o in jaws]):.2f} s in the middle, as many at a time as there are cores.",
        "",
    ]
    lines += [f"- Not right ({name}): {o}" for name, own in sets.items() for o in own if not o.right]
    return "\n".join(lines).rstrip() + "\n"


def _pairs(found: Sequence[Outcome]) -> list[bool]:
    """Of each mouth: is the scan that looks more like an upper the upper?"""
    of = {o.scan: o.odds for o in found if _is_jaw(o)}
    numbers = dict.fromkeys(name.split()[0] for name in of)
    return [of[f"{n} upper"] > of[f"{n} lower"] for n in numbers if f"{n} upper" in of and f"{n} lower" in of]


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


def relation_page(sets: Mapping[str, Sequence[RelationOutcome]]) -> str:
    lines = [
        "## Relation",
        "",
        "Jaws that came 0 to 12 mm and 0 to 15° off their place (one in four in it), with bite scans elsewhere. Right: the lower's",
        "teeth to 150 µm by itself; without bite scans, kept where they came in their place and left open, with a question, where",
        "not. Wrong: more than 150 µm off (without bite scans 0.5 mm) and no question.",
        "",
        *_head("bite scans", {f"{name}: {what}": 0 for name in sets for what in ("right", "wrong")}),
    ]
    for way in WAYS:
        cells = []
        for own in sets.values():
            mine = [o for o in own if o.way == way]
            cells += [_share([o.right for o in mine]), str(sum(o.wrong for o in mine))]
        lines.append(f"| {way} | {' | '.join(cells)} |")
    lines += ["", *[f"- Not right ({name}): {o}" for name, own in sets.items() for o in own if not o.right]]
    return "\n".join(lines).rstrip() + "\n"


def level_page(sets: Mapping[str, Sequence[LevelOutcome]]) -> str:
    """Plane and midline beside the generators' truth."""
    lines = [
        "## Level",
        "",
        "Turned any way. The plane is that of the lower jaw's tips, of the upper's where it is alone.",
        "",
        "| what came | set | within 3°, 5° and 1 mm | plane off, mean / worst | midline off, mean / worst | its place off, mean / worst |",
        "|---|---|---|---|---|---|",
    ]
    for name, found in sets.items():
        for kind in dict.fromkeys(o.kind for o in found):
            own = [o for o in found if o.kind == kind]
            columns = [np.array([getattr(o, n) for o in own]) for n in ("plane_deg", "midline_deg", "midline_mm")]
            spans = [f"{c.mean():.2f} / {c.max():.2f} {unit}" for c, unit in zip(columns, ("°", "°", "mm"), strict=True)]
            lines.append(f"| {kind} | {name} | {sum(o.good for o in own)} of {len(own)} | {' | '.join(spans)} |")
    lines += ["", *[f"- Not within ({name}): {o}" for name, own in sets.items() for o in own if not o.good]]
    return "\n".join(lines).rstrip() + "\n"
