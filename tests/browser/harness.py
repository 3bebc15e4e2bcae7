"""The real application for browser tests: web server, worker, PostgreSQL and Chromium, on the tests' own database."""

from __future__ import annotations

import contextlib
import io
import os
import re
import signal
import socket
import subprocess
import sys
import tempfile
import time
import urllib.request
import zipfile
from pathlib import Path
from typing import Any
from urllib.parse import quote

from django.core.management import call_command
from django.db import connection, connections
from django.test import TransactionTestCase
from playwright.sync_api import Browser, Locator, Page, Playwright, expect, sync_playwright

from bitecore.files import stl
from bitecore.mesh import Mesh
from tests.known import FOLDER, NAMED
from tests.server.common import people
from tests.shapes import light_jaws

ROOT = Path(__file__).resolve().parents[2]
CHROMIUM = [
    "--no-sandbox", "--use-gl=angle", "--use-angle=gl-egl", "--ignore-gpu-blocklist", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--no-first-run", "--disable-quic",
]  # fmt: skip


def database_url() -> str:
    known = connection.settings_dict
    return f"postgresql://{known['USER']}:{quote(known['PASSWORD'])}@{known['HOST']}:{known['PORT']}/{known['NAME']}"


def fresh_connection() -> None:
    """Let go of connections that a restart of the database has cut."""
    connection.close()
    connection.close_pool()


class Application:
    """The two processes of `./bench up`, started against the database of the tests. more : of the environment; remembers : see
    tests/known.py."""

    def __init__(self, more: dict[str, str] | None = None, *, remembers: bool = False) -> None:
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        self.address = f"http://127.0.0.1:{self.port}"
        self.env = {**os.environ, "DATABASE_URL": database_url(), NAMED: str(FOLDER), **(more or {})}
        self.remembers = remembers
        self.web: subprocess.Popen | None = None
        self.worker: subprocess.Popen | None = None
        self.log = tempfile.TemporaryFile()  # noqa: SIM115  (closed with the process)

    def _start(self, *command: str) -> subprocess.Popen:
        return subprocess.Popen(
            [sys.executable, *command], cwd=ROOT, env=self.env, stdin=subprocess.DEVNULL, stdout=self.log, stderr=self.log,
            start_new_session=True,
        )  # fmt: skip

    def start_web(self) -> None:
        self.web = self._start(
            "-m", "uvicorn", "config.asgi:application", "--host", "127.0.0.1", "--port", str(self.port), "--lifespan", "off",
            "--log-level", "warning", "--timeout-graceful-shutdown", "2",
        )  # fmt: skip
        end = time.monotonic() + 180
        while time.monotonic() < end:
            with contextlib.suppress(OSError):
                if urllib.request.urlopen(f"{self.address}/api/health", timeout=2).status == 200:
                    return
            time.sleep(0.1)
        raise AssertionError(f"the web server does not answer\n{self.said()}")

    def start_worker(self) -> None:
        self.worker = self._start(*(["-m", "tests.browser.worker"] if self.remembers else ["server/manage.py", "bench_worker"]))

    def kill_worker(self) -> None:
        """As a power cut would: the whole group, at once."""
        assert self.worker
        os.killpg(self.worker.pid, signal.SIGKILL)
        self.worker.wait()

    def stop(self) -> None:
        for process in (self.worker, self.web):
            if process and process.poll() is None:
                process.terminate()
                with contextlib.suppress(subprocess.TimeoutExpired):
                    process.wait(8)
                with contextlib.suppress(ProcessLookupError):
                    os.killpg(process.pid, signal.SIGKILL)

    def said(self) -> str:
        self.log.seek(0)
        return self.log.read().decode(errors="replace")[-4000:]


class BrowserCase(TransactionTestCase):
    """One application and one Chromium a class; every test drives pages of its own. remembers : what another test has worked out is known,
    but where the test is of the work itself."""

    app: Application
    play: Playwright
    chromium: Browser
    environment: dict[str, str] = {}
    remembers = True

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        # Playwright runs an event loop in this thread; the tests themselves stay synchronous.
        os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"
        people()
        cls.app = Application(cls.environment, remembers=cls.remembers)
        cls.app.start_web()
        cls.app.start_worker()
        cls.play = sync_playwright().start()
        cls.chromium = cls.play.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)

    @classmethod
    def tearDownClass(cls) -> None:
        cls.chromium.close()
        cls.play.stop()
        cls.app.stop()
        os.environ.pop("DJANGO_ALLOW_ASYNC_UNSAFE", None)
        fresh_connection()
        call_command("flush", verbosity=0, interactive=False)
        connections.close_all()
        super().tearDownClass()

    def _fixture_teardown(self) -> None:
        """Cases stay until the class ends: the application is running on them."""

    def setUp(self) -> None:
        self.page = self.signed_in("mira")
        self.addCleanup(self.tell)

    def tell(self) -> None:
        outcome = self._outcome  # type: ignore[attr-defined]
        if outcome and not outcome.success:
            shot = Path(tempfile.gettempdir()) / f"bench-failed-{self.id().rsplit('.', 1)[1]}.png"
            with contextlib.suppress(Exception):
                self.page.screenshot(path=shot)
            print(f"\npicture: {shot}\n{self.app.said()}", file=sys.stderr)

    def signed_in(self, name: str) -> Page:
        # The eye jumps to its place: without a graphics card every picture on the way would be drawn by the processor.
        screen: Any = {"viewport": {"width": 1280, "height": 800}, "reduced_motion": "reduce"}
        context = self.chromium.new_context(**screen, accept_downloads=True)
        self.addCleanup(context.close)
        context.add_init_script("localStorage.setItem('bench-stage-pixels', '0.5')")
        page = context.new_page()
        page.set_default_timeout(150_000)
        self.faults: list[str] = []
        page.on("pageerror", lambda error: self.faults.append(str(error)))
        self.addCleanup(lambda: self.assertEqual(self.faults, []))
        page.goto(self.app.address)
        page.get_by_label("Name").fill(name)
        page.get_by_label("Password").fill("plaster-and-light")
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("heading", name="Rack", exact=True).wait_for()
        return page

    # Short ways through the interface.

    def drop(self, *files: tuple[str, bytes], page: Page | None = None) -> None:
        field = (page or self.page).get_by_test_id("scans")
        field.set_input_files([{"name": n, "mimeType": "model/stl", "buffer": d} for n, d in files])

    def open_pair(self, seed: int = 3) -> str:
        upper, lower = light_jaws(seed)
        self.drop(("a.stl", stl.write_binary(upper)), ("b.stl", stl.write_binary(lower)))
        self.page.wait_for_url(re.compile("/case/"))
        self.wait_state("Plate", "done")
        return self.page.url.rsplit("/", 1)[1]

    def step(self, title: str, page: Page | None = None) -> Locator:
        return (page or self.page).get_by_label("Run sheet").get_by_role("button", name=re.compile(f"^{title}:"))

    def wait_state(self, title: str, state: str, *, seconds: float = 180, page: Page | None = None) -> None:
        # Worked out: with something to look at (an open bite, say) it is so too.
        name = re.compile(f"^{title}: (done|needs a look)" if state == "done" else f"^{title}: {state}")
        (page or self.page).get_by_label("Run sheet").get_by_role("button", name=name).wait_for(timeout=seconds * 1000)

    def reading(self, name: str, page: Page | None = None) -> str:
        card = (page or self.page).get_by_label("Readings")
        return card.locator("div", has=(page or self.page).locator("dt", has_text=name)).locator("dd").first.inner_text()

    def wait_reading(self, name: str, text: str, page: Page | None = None) -> None:
        card = (page or self.page).get_by_label("Readings")
        row = card.locator("div", has=(page or self.page).locator("dt", has_text=name))
        row.get_by_text(text, exact=True).wait_for(timeout=180_000)

    def set_number(self, label: str, value: str) -> None:
        field = self.page.get_by_label("Card").get_by_label(label, exact=True)
        field.fill(value)
        field.press("Enter")

    def answer_doubts(self, card: Locator) -> None:
        """Say yes to each doubt of a list by itself, once all is worked out: the press that makes the files or prints is there then."""
        press = card.get_by_role("button", name=re.compile("make the files|print on|Accept up to|has a doubt", re.IGNORECASE)).last
        press.wait_for()
        self.page.wait_for_function("() => !document.body.innerText.includes('Not worked out yet')", timeout=180_000)
        waits = card.get_by_label("Doubts").locator("[data-doubt]").filter(has=self.page.get_by_role("button", name="Accept as it is"))
        ready = card.get_by_role("button", name=re.compile("make the files|^print on|accept all, print on", re.IGNORECASE))
        expect(waits.first.or_(ready.and_(self.page.locator(":enabled"))).first).to_be_visible(timeout=180_000)
        while count := waits.count():
            waits.first.get_by_role("button", name="Accept as it is").click()
            expect(waits).to_have_count(count - 1, timeout=30_000)

    def handed_out(self) -> dict[str, bytes]:
        """STL of each body by its name: what is on the plate is accepted and the files are fetched."""
        self.step("Hand-off").click()
        self.answer_doubts(self.page.get_by_label("Card"))
        self.page.get_by_role("button", name="make the files").click()
        with self.page.expect_download(timeout=180_000) as got:
            self.page.get_by_role("link", name=re.compile("^All as")).click()
        with zipfile.ZipFile(io.BytesIO(got.value.path().read_bytes())) as files:
            return {name[:-4].partition("_")[2]: files.read(name) for name in files.namelist() if name.endswith(".stl")}

    def shown(self, count: int) -> None:
        self.page.wait_for_function(f"() => document.querySelector('[data-testid=stage]')?.dataset.shown === '{count}'")


def scan(mesh: Mesh) -> bytes:
    return stl.write_binary(mesh)


def parse_mm(text: str) -> float:
    return float(re.sub(r"[^\d.\-]", "", text))
