"""Rows of figures."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Row:
    """ms : median of the runs; beside : a general-purpose library's median and its name; reach : what is to be
    reached (docs/measured.md), in ms."""

    name: str
    ms: float
    beside_ms: float | None = None
    beside: str = ""
    reach_ms: float | None = None
    note: str = ""

    def as_json(self) -> dict[str, Any]:
        ratio = self.beside_ms / self.ms if self.beside_ms and self.ms else None
        return {**self.__dict__, "ratio": None if ratio is None else round(ratio, 2)}


def median_ms(do: Callable[[], Any], runs: int) -> float:
    """Median of `runs` after one that does not count."""
    do()
    took = []
    for _ in range(runs):
        start = time.perf_counter()
        do()
        took.append((time.perf_counter() - start) * 1000)
    return statistics.median(took)


def show(rows: list[Row], *, header: bool) -> None:
    if header:
        print(f"{'what':46} {'ms':>9} {'reach':>8} {'beside':>9} {'ratio':>6}  library or note")
    for r in rows:
        reach = f"{r.reach_ms:,.0f}" if r.reach_ms else ""
        beside = f"{r.beside_ms:,.0f}" if r.beside_ms is not None else ""
        ratio = f"{r.beside_ms / r.ms:.1f}" if r.beside_ms and r.ms else ""
        late = "  ← over" if r.reach_ms and r.ms > r.reach_ms else ""
        print(f"{r.name:46} {r.ms:9,.1f} {reach:>8} {beside:>9} {ratio:>6}  {r.beside or r.note}{late}", flush=True)
