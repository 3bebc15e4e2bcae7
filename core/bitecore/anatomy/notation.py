"""Teeth by number: FDI two-digit (ISO 3950), Universal and Palmer, and ranges along the arch.

ISO 3950: first digit the quadrant (1 upper right, 2 upper left, 3 lower left, 4 lower right of the patient; 5 to 8 for
deciduous teeth likewise), second the place from the midline. Universal (American Dental Association): 1 to 32 from the
upper right third molar along the upper arch, then from the lower left third molar back along the lower; A to T for
deciduous teeth. Palmer (Zsigmondy): the place from the midline within the corner of a cross.
"""

from __future__ import annotations

from dataclasses import dataclass

from ..errors import BadSetting

_PERMANENT = (range(18, 10, -1), range(21, 29), range(38, 30, -1), range(41, 49))
_DECIDUOUS = (range(55, 50, -1), range(61, 66), range(75, 70, -1), range(81, 86))
# In the order of the Universal numbers.
PERMANENT: tuple[int, ...] = tuple(n for part in _PERMANENT for n in part)
DECIDUOUS: tuple[int, ...] = tuple(n for part in _DECIDUOUS for n in part)
_CORNER = {1: "{}┘", 2: "└{}", 3: "┌{}", 4: "{}┐"}


@dataclass(frozen=True)
class Tooth:
    """A tooth in all three notations.

    jaw       : upper or lower
    deciduous : a milk tooth
    """

    fdi: int
    universal: str
    palmer: str
    jaw: str
    deciduous: bool


def tooth(fdi: int) -> Tooth:
    """Raises BadSetting for a number that names no tooth."""
    if fdi not in PERMANENT and fdi not in DECIDUOUS:
        raise BadSetting(f"{fdi} is no tooth of ISO 3950: it runs from 11 to 48, milk teeth from 51 to 85.")
    deciduous = fdi in DECIDUOUS
    quadrant, place = divmod(fdi, 10)
    corner = (quadrant - 1) % 4 + 1
    universal = chr(ord("A") + DECIDUOUS.index(fdi)) if deciduous else str(PERMANENT.index(fdi) + 1)
    mark = chr(ord("A") + place - 1) if deciduous else str(place)
    return Tooth(fdi, universal, _CORNER[corner].format(mark), "upper" if corner < 3 else "lower", deciduous)


def along_arch(first: int, last: int) -> list[int]:
    """All teeth from one to the other along the arch of one jaw, as they are swept on a chart."""
    a, b = tooth(first), tooth(last)
    if a.jaw != b.jaw or a.deciduous != b.deciduous:
        raise BadSetting(f"{first} and {last} are not in one arch.")
    row = [n for n in (DECIDUOUS if a.deciduous else PERMANENT) if tooth(n).jaw == a.jaw]
    lo, hi = sorted((row.index(first), row.index(last)))
    return row[lo : hi + 1]


def parsed(text: str) -> str:
    """Numbers and ranges (“14-16, 26”) as single numbers in the order of the chart. Raises BadSetting."""
    found: set[int] = set()
    for word in text.replace(",", " ").replace(";", " ").replace("–", "-").split():
        ends = word.split("-")
        if len(ends) > 2 or not all(e.isdigit() for e in ends):
            raise BadSetting(f"“{word}” is no tooth: write numbers like 14 or a range like 14-16.")
        found |= set(along_arch(int(ends[0]), int(ends[1]))) if len(ends) == 2 else {tooth(int(ends[0])).fdi}
    order = PERMANENT + DECIDUOUS
    return " ".join(str(n) for n in sorted(found, key=order.index))
