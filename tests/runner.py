"""Django's runner, which also says what took longest: what everybody waits for should be known."""

from __future__ import annotations

import time
import unittest
from typing import Any

from django.test.runner import DiscoverRunner

_TOLD = 12


class _Timed(unittest.TextTestResult):
    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.took_s: list[tuple[float, str]] = []
        self._began = 0.0

    def startTest(self, test: unittest.TestCase) -> None:  # noqa: N802
        self._began = time.monotonic()
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:  # noqa: N802
        super().stopTest(test)
        self.took_s.append((time.monotonic() - self._began, test.id()))


class Runner(DiscoverRunner):
    def get_resultclass(self) -> Any:
        return super().get_resultclass() or _Timed

    def suite_result(self, suite: Any, result: Any, **kwargs: Any) -> int:
        for seconds, name in sorted(getattr(result, "took_s", []), reverse=True)[:_TOLD]:
            print(f"{seconds:7.1f} s  {name}")
        return int(super().suite_result(suite, result, **kwargs))
