"""The same surface in this or another case, whatever its file is called and wherever it lies."""

from __future__ import annotations

import contextlib
import math
from typing import Any

from django.db import connection

from runs.kinds import GoneMeanwhile

from .documents import document_of
from .models import Case, ScanPrint
from .names import Names

# Two exports of one scan differ by the rounding of their numbers; two scans of one jaw by a thousandth and more.
_ALIKE = 1e-4
# Behind the address of what was made of a scan.
BODY = ".body"


def remember(case: Case, piece: str, found: dict[str, Any]) -> None:
    ScanPrint.objects.update_or_create(
        case=case, piece=piece,
        defaults={"area": found["area_mm2"], "spread": found["spread_mm"], "middle": found["middle_mm"]},
    )  # fmt: skip


def twins_of(case: Case, retired: set[str], *, veiled: bool) -> dict[str, tuple[str, str]]:
    """{piece: (one sentence about the first other scan, or body, of the same surface; the number of its case, where that is another)},
    where there is one."""
    own = {row.pk: row for row in ScanPrint.objects.filter(case=case)}
    out: dict[str, tuple[str, str]] = {}
    for mine, theirs in _near(case, own):
        if (
            mine.piece.endswith(BODY)
            or mine.piece in out
            or (theirs.case_id == case.pk and (theirs.piece in retired or theirs.pk > mine.pk))
        ):
            continue
        same = all(abs(a - b) <= _ALIKE * max(a, 1.0) for a, b in zip(mine.spread, theirs.spread, strict=True))
        if same:
            with contextlib.suppress(GoneMeanwhile):
                out[mine.piece] = _sentence(case, mine, theirs, veiled), "" if theirs.case_id == case.pk else theirs.case.number
    return out


def _near(case: Case, own: dict[int, ScanPrint]) -> list[tuple[ScanPrint, ScanPrint]]:
    """Pairs of a print of this case and another of nearly the same area, oldest first, found in one go."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT a.id, b.id FROM cases_scanprint a JOIN cases_scanprint b"
            " ON b.area BETWEEN a.area * %s AND a.area * %s AND b.id <> a.id WHERE a.case_id = %s ORDER BY b.id LIMIT 5000",
            [1 - _ALIKE, 1 + _ALIKE, case.pk],
        )
        pairs = cursor.fetchall()
    others = {row.pk: row for row in ScanPrint.objects.filter(pk__in={b for _, b in pairs}).select_related("case")}
    return [(own[a], others[b]) for a, b in pairs if a in own and b in others]


def _sentence(case: Case, mine: ScanPrint, other: ScanPrint, veiled: bool) -> str:
    if other.piece.endswith(BODY):
        if other.case_id == case.pk:
            return "This is a body that went out of this case."
        return f"This is a body that went out of case {other.case.number}: dropped there, it comes home by itself."
    called = Names(document_of(other.case), veiled=veiled).of(other.piece)
    where = f"“{called}”" + ("" if other.case_id == case.pk else f" in case {other.case.number}")
    moved = math.dist(mine.middle, other.middle)
    place = "in the same place" if moved < 0.005 else f"moved by {moved:.1f} mm"
    return f"The same surface as {where}, {place}."
