"""The limit on triangles, said in one way by every reader."""

from __future__ import annotations

from ..errors import UnreadableFile


def check_count(name: str, count: int, limit: int) -> None:
    if count > limit:
        raise UnreadableFile(
            f"“{name}” has {count:,} triangles; up to {limit:,} are accepted. Export it with fewer triangles, or raise the limit.",
            code="too-many-triangles",
        )
