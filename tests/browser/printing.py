"""The application with one stand-in printer, as the Heron."""

from __future__ import annotations

from tests.browser.harness import BrowserCase
from tests.printer import Outside


class PrinterCase(BrowserCase):
    """speed : so many seconds of printing pass in one"""

    speed = 60.0
    printer: Outside

    @classmethod
    def setUpClass(cls) -> None:
        cls.printer = Outside("Heron", cls.speed)
        cls.environment = {"BENCH_PRINTERS": f"heron={cls.printer.url}"}
        super().setUpClass()

    @classmethod
    def tearDownClass(cls) -> None:
        super().tearDownClass()
        cls.printer.close()

    def choose(self, step: str, field: str, value: str) -> None:
        self.step(step).click()
        self.page.get_by_role("combobox", name=field, exact=True).select_option(value)
