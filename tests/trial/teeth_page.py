"""The trial's page of teeth and gum."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from .teeth import FOUND, KINDS, JawOutcome, ToothOutcome

_CALLED = ((0.0, 0.6), (0.6, 0.8), (0.8, 0.9), (0.9, 0.97), (0.97, 1.01))


def teeth_page(sets: Mapping[str, Sequence[JawOutcome]]) -> str:
    """Each set a row, the hard mouths once more by what makes them hard; confidence beside what came true; each failure named."""
    lines = [
        "## Teeth and gum",
        "",
        f"Found: so much of what is either the tooth or what was told is both, by area: {FOUND:.0%}. Margin: distance between it",
        "and the true one both ways, along what can be seen of it, of teeth that were found. Reach: 97 % found, number right in",
        "95 %, margin 0.5 mm. Edge lines of 1.5 and 4.5 mm of gum: does one run over a tooth?",
        "",
        "| mouths | jaws | found | number right | two as one | named where none is | margin, mean / worst jaw / 95 % | edge line off teeth "
        "| a jaw took |",
        "|---|---|---|---|---|---|---|---|---|",
        *(_row(name, jaws) for name, jaws in sets.items()),
    ]
    for k, kind in enumerate(KINDS):
        own = [j for j in sets.get("hard", ()) if j.case % len(KINDS) == k]
        if own:
            lines.append(_row(f"hard: {kind}", own))
    lines += ["", "Is the confidence true? Of teeth that were called so sure, so many were found with the right number:", ""]
    lines += [f"| called | {' | '.join(sets)} |", "|" + "---|" * (len(sets) + 1)]
    for low, high in _CALLED:
        cells = [_called(jaws, low, high) for jaws in sets.values()]
        lines.append(f"| {100 * low:.0f} to {min(100 * high, 100):.0f} % | {' | '.join(cells)} |")
    lines.append("")
    for name, jaws in sets.items():
        for jaw in jaws:
            bad = [_failure(t) for t in jaw.teeth if not t.found or t.told != t.fdi] + [f"{n} where none is" for n, _ in jaw.extra]
            if bad:
                lines.append(f"- {name} {jaw.case}, {jaw.jaw}: {', '.join(bad)}")
    return "\n".join(lines).rstrip() + "\n"


def _failure(t: ToothOutcome) -> str:
    if t.told == 0:
        return f"{t.fdi} not found"
    return f"{t.fdi} told as {t.told}" + ("" if t.found else f" ({t.share:.0%} the same)")


def _row(name: str, jaws: Sequence[JawOutcome]) -> str:
    teeth = [t for j in jaws for t in j.teeth]
    found = [t for t in teeth if t.found]
    right = sum(t.told == t.fdi for t in found)
    worst = max((float(np.nanmean([t.margin_mm for t in j.teeth if t.found])) for j in jaws if any(t.found for t in j.teeth)), default=0.0)
    off = [np.nanmean([getattr(t, n) for t in found]) for n in ("margin_mm", "far_mm")]
    cells = (
        name,
        str(len(jaws)),
        f"{len(found)} of {len(teeth)} ({100 * len(found) / len(teeth):.1f} %)",
        f"{right} ({100 * right / len(teeth):.1f} %)",
        str(sum(t.merged for t in teeth)),
        str(sum(len(j.extra) for j in jaws)),
        f"{off[0]:.2f} / {worst:.2f} / {off[1]:.2f} mm",
        f"{sum(j.edge_mm > 0 for j in jaws)} of {len(jaws)}",
        f"{np.median([j.seconds for j in jaws]):.1f} s",
    )
    return f"| {' | '.join(cells)} |"


def _called(jaws: Sequence[JawOutcome], low: float, high: float) -> str:
    said = [(t.sure, t.found and t.told == t.fdi) for j in jaws for t in j.teeth if t.told]
    said += [(sure, False) for j in jaws for _, sure in j.extra]
    own = [right for sure, right in said if low <= sure < high]
    return f"{sum(own)} of {len(own)}" if own else "–"
