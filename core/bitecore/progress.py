"""Progress and cancellation: one argument called `run` through all long computation."""

from __future__ import annotations

from collections.abc import Callable

from .errors import Cancelled


class Run:
    """Carries progress (always 0 to 1) and the question whether to go on.

    tick(fraction, what) reports and raises Cancelled when the person took the work back.
    part(lo, hi) gives a Run for a share of the whole.
    """

    def __init__(
        self,
        report: Callable[[float, str], None] | None = None,
        stopped: Callable[[], bool] | None = None,
    ) -> None:
        self._report = report
        self._stopped = stopped

    def tick(self, fraction: float, what: str = "") -> None:
        if self._stopped is not None and self._stopped():
            raise Cancelled
        if self._report is not None:
            self._report(min(max(float(fraction), 0.0), 1.0), what)

    def part(self, lo: float, hi: float) -> Run:
        return Run(lambda f, what: self._forward(lo + (hi - lo) * f, what), self._stopped)

    def _forward(self, fraction: float, what: str) -> None:
        if self._report is not None:
            self._report(fraction, what)


QUIET = Run()
