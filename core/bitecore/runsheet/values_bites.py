"""What Bite gives of several bites, as JSON."""

from __future__ import annotations

from typing_extensions import TypedDict

from .values import Matrix, Point


class NamedBite(TypedDict):
    """One bite of the pair; overlap, gap and the lower's incisal point against the first bite (to the left, back, up; mm). Without a
    relation they are None, and why says so.

    id : empty for the first
    """

    id: str
    name: str
    how: str
    why: str
    lower_to_upper: Matrix | None
    overlap_mm: float | None
    gap_mm: float | None
    incisal_mm: Point | None
