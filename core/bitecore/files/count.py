"""The limits on what a scan holds, said in one way by every reader."""

from __future__ import annotations

from ..errors import UnreadableFile

# A closed surface has half as many vertices as triangles, one whose triangles share nothing three times as many.
_POINTS_A_TRIANGLE = 3


def check_count(name: str, count: int, limit: int) -> None:
    if count > limit:
        raise UnreadableFile(
            f"“{name}” has {count:,} triangles; up to {limit:,} are accepted. Export it with fewer triangles, or raise the limit.",
            code="too-many-triangles",
        )


def check_points(name: str, count: int, limit: int) -> None:
    if count > _POINTS_A_TRIANGLE * limit:
        most = _POINTS_A_TRIANGLE * limit
        raise UnreadableFile(f"“{name}” has {count:,} points; up to {most:,} are accepted. Export it with fewer.", code="too-many-points")
