"""What goes wrong in a lab: a worker dies, the database restarts, a browser is closed."""

from __future__ import annotations

import os
import re
import unittest
from pathlib import Path

from cases.models import Case
from tests.browser.harness import BrowserCase, fresh_connection, scan
from tests.shapes import light_jaws as jaws


class TroubleTest(BrowserCase):
    remembers = False

    def start(self, seed: int) -> str:
        """A drop, left as soon as something is being worked out."""
        upper, lower = jaws(seed)
        self.drop(("a.stl", scan(upper)), ("b.stl", scan(lower)))
        self.page.wait_for_url(re.compile("/case/"))
        self.page.get_by_role("progressbar").first.wait_for()
        return self.page.url.rsplit("/", 1)[1]

    def test_a_killed_worker_loses_nothing(self) -> None:
        number = self.start(34)
        self.app.kill_worker()
        self.assertTrue(Case.objects.get(number=number).needs_work)
        self.app.start_worker()
        self.wait_state("Plate", "done", seconds=240)
        self.assertEqual(self.page.get_by_label("Pieces").get_by_text(re.compile("% sure")).count(), 2)

    def test_a_closed_browser_finds_the_run_gone_on(self) -> None:
        number = self.start(47)
        self.page.close()
        self.page = self.signed_in("mira")
        self.page.goto(f"{self.app.address}/case/{number}")
        self.wait_state("Plate", "done", seconds=240)

    def test_a_restart_of_the_database_loses_nothing(self) -> None:
        folder = os.environ.get("BENCH_TEST_CLUSTER")
        if not folder:
            raise unittest.SkipTest("the database is not ours to restart: DATABASE_URL was given")
        from launch.database import Cluster

        self.start(58)
        cluster = Cluster(Path(folder))
        cluster.stop()
        cluster.start()
        fresh_connection()
        self.wait_state("Plate", "done", seconds=240)
        self.page.keyboard.press("Alt+5")
        self.set_number("Under the lowest point", "3")
        self.wait_reading("Under the lowest point", "3.00 mm")
