"""The same surface in this or another case, whatever its file is called and wherever it lies."""

from __future__ import annotations

import math
from typing import Any

from .models import Case, ScanPrint

# Two exports of one scan differ by the rounding of their numbers; two scans of one jaw by a thousandth and more.
_ALIKE = 1e-4


def remember(case: Case, piece: str, file: str, found: dict[str, Any]) -> None:
    ScanPrint.objects.update_or_create(
        case=case, piece=piece,
        defaults={"file": file, "area": found["area_mm2"], "spread": found["spread_mm"], "middle": found["middle_mm"]},
    )  # fmt: skip


def same_elsewhere(case: Case, piece: str, retired: set[str]) -> str:
    """One sentence about the first other scan with the same surface, or nothing."""
    own = ScanPrint.objects.filter(case=case, piece=piece).first()
    if own is None:
        return ""
    near = ScanPrint.objects.filter(area__range=(own.area * (1 - _ALIKE), own.area * (1 + _ALIKE))).exclude(pk=own.pk)
    for other in near.select_related("case").order_by("pk"):
        same_case = other.case_id == case.pk
        if same_case and (other.piece in retired or other.pk > own.pk):
            continue
        if all(abs(a - b) <= _ALIKE * max(a, 1.0) for a, b in zip(own.spread, other.spread, strict=True)):
            moved = math.dist(own.middle, other.middle)
            where = f"“{other.file}”" + ("" if same_case else f" in case {other.case.number}")
            place = "in the same place" if moved < 0.005 else f"moved by {moved:.1f} mm"
            return f"The same surface as {where}, {place}."
    return ""
