"""How much is accepted. Light to import: settings read it before anything else is loaded."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass


@dataclass(frozen=True)
class Limits:
    """How much is accepted. triangles : per scan; drop_bytes : all files of one drop, unpacked."""

    triangles: int = 1_500_000
    drop_bytes: int = 300_000_000
    files: int = 200

    @classmethod
    def of(cls, environment: Mapping[str, str]) -> Limits:
        """BENCH_TRIANGLES and BENCH_DROP_BYTES change them."""
        return cls(
            triangles=int(environment.get("BENCH_TRIANGLES", cls.triangles)),
            drop_bytes=int(environment.get("BENCH_DROP_BYTES", cls.drop_bytes)),
        )
