"""Bases, cavities and labels as a page."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from .bases import SHAPES, STYLES, BaseOutcome


def bases_page(sets: Mapping[str, Sequence[BaseOutcome]]) -> str:
    rows = []
    for name, found in sets.items():
        for shape in SHAPES:
            rows.append(_row(name, shape, [o for o in found if o.shape == shape]))
    failed = [f"- {name}, {o.jaw}, {o.shape}, {o.style}: {o.why or _what(o)}" for name, found in sets.items() for o in found if not o.good]
    return _TEXT.format(rows="\n".join(rows), styles=len(STYLES), failed="\n".join(failed[:40]) or "- none")


def _row(name: str, shape: str, found: list[BaseOutcome]) -> str:
    made = [o for o in found if not o.why]
    thin = [o.thin_mm for o in made if o.thin_mm is not None]
    base, hollow, label = (np.median([s for s in (o.seconds[k] for o in made) if s > 0] or [0]) for k in range(3))
    off, behind = ([mm for mm in (getattr(o, name) for o in made) if mm is not None] for name in ("off_mm", "behind_mm"))
    on_wall, under = (sum(o.label == where for o in made) for where in ("on the wall", "underneath"))
    cells = (
        name, shape, f"{sum(o.good for o in found)} of {len(found)}", str(sum(o.closed and o.parts == 1 for o in made)),
        f"{1e3 * max((o.flat_mm for o in made), default=0):.1f} µm", f"{1e3 * min(thin, default=0):+.0f} µm",
        f"{max((o.mended for o in made), default=0):.1%}", f"{on_wall}, {under}",
        f"{min(off, default=0):.2f} mm, {1e3 * min(behind, default=0):+.0f} µm", f"{base:.1f} s, {hollow:.1f} s, {label:.1f} s",
    )  # fmt: skip
    return "| " + " | ".join(cells) + " |"


def _what(o: BaseOutcome) -> str:
    said = [
        (not o.closed, "not closed"), (o.parts != 1, f"{o.parts} parts"), (o.deeper > 0, f"{o.deeper:.2%} in itself"),
        (o.wrong >= 0.001, f"{o.wrong:.2%} of probes wrong"),
        (o.flat_mm > 0.005, f"{o.flat_mm:.3f} mm off flat"), (o.crowns < 1, f"crowns {o.crowns:.2%}"), (not o.clean, "ragged walls"),
        (not o.asked_shape, "another shape"), (o.thin_mm is not None and o.thin_mm <= -0.05, "too thin"),
        (o.behind_mm is not None and o.behind_mm <= -0.05, "too thin behind the label"),
        (o.off_mm is not None and o.off_mm <= 0.2, "label at the scan"),
    ]  # fmt: skip
    return ", ".join(text for wrong, text in said if wrong)


_TEXT = """## Bases
Both jaws of every mouth through Trim as they come, then every shape with one of {styles} styles by turns, engraved with its
number, backs flush on half of them, edges sharp,
bevelled, rounded and walls drafted by turns, 3 mm under the lowest point, walls of 2 mm. *Good*: watertight, one part, of 6,000 probes 2 µm
off the made faces (those wide enough for one) none in itself by the winding number (libigl) and fewer than one in a thousand beyond the
next face of a thin edge, flat to 5 µm, crowns those of the cleaned scan
bit for bit, walls nowhere more than 50 µm thinner than asked (libigl), the shape that was asked, walls under a smooth outline. *Mended*:
how much of the crowns is not the scan's as it came, at most: where it went through itself or had holes, Clean closed them and says so.
*Label*: how many stand on the wall and underneath; how near the letters come to the scan, and the wall
behind them less 2 mm (libigl). Times with as many at a time as there are cores.

| set | shape | good | closed, whole | off flat, at most | thinnest less 2 mm | mended, at most | label | to scan, wall behind | times |
|---|---|---|---|---|---|---|---|---|---|
{rows}

What was not good:
{failed}
"""
