"""The running application: web server, worker and database, started again when they end, as ./bench up does."""

from __future__ import annotations

import contextlib
import os
import socket
import sys
import tempfile
import time
import urllib.request
from pathlib import Path

from launch.database import Cluster
from launch.up import Watched, tell


class House:
    def __init__(self, cluster: Path) -> None:
        self.cluster = Cluster(cluster)
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        self.address = f"http://127.0.0.1:{self.port}"
        log = Path(tempfile.mkdtemp(prefix="bench-storm-log-", dir="/tmp"))
        serve = ["-m", "uvicorn", "config.asgi:application", "--host", "127.0.0.1", "--port", str(self.port), "--lifespan", "off"]
        self.watched = [
            Watched("web server", [sys.executable, *serve, "--log-level", "warning"], dict(os.environ), log / "web.log"),
            Watched("worker", [sys.executable, "server/manage.py", "bench_worker"], dict(os.environ), log / "worker.log"),
        ]
        self.logs = log

    def start(self) -> None:
        for process in self.watched:
            process.start()
        end = time.monotonic() + 90
        while not self.answers():
            if time.monotonic() > end:
                raise RuntimeError(f"the application does not answer; its logs are in {self.logs}")
            time.sleep(0.2)

    def answers(self) -> bool:
        try:
            with urllib.request.urlopen(f"{self.address}/api/health", timeout=5) as answer:
                return answer.status == 200
        except OSError:
            return False

    def watch(self) -> None:
        for process in self.watched:
            process.check()
            process.ended.clear()  # a storm is no reason to start slower and slower
        if not self.cluster.running():
            self.cluster.start()
            tell(self.watched, self.cluster.url(os.environ["DATABASE_URL"].rsplit("/", 1)[1]))

    def settle(self) -> float:
        """Nothing is sabotaged any more: wait until everything is worked out by itself. Seconds it took."""
        from django.db import connection

        from cases.models import Case

        started = time.monotonic()
        while time.monotonic() - started < 900:
            self.watch()
            with contextlib.suppress(Exception):
                connection.close()
                left = Case.objects.filter(needs_work=True, held=False).count() + Case.objects.filter(retry__isnull=False).count()
                if self.answers() and left == 0:
                    break
            time.sleep(0.5)
        self.settled = time.monotonic() - started
        return self.settled

    def stop(self) -> None:
        for process in self.watched:
            process.stop()
