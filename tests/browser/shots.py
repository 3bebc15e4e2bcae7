"""./bench shots: pictures of the main views from the demo, at 1280x800, into docs/screenshots."""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from playwright.sync_api import Page, sync_playwright


@contextmanager
def application(*, demo: bool) -> Iterator[tuple[Page, str]]:
    """The application on a fresh database with the demo (or empty), and a signed-in page."""
    sys.path[:0] = [str(Path(__file__).resolve().parents[2] / p) for p in ("server", "core", ".")]
    import django

    django.setup()
    os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"
    from django.core.management import call_command

    from tests.browser.harness import CHROMIUM, Application
    from tests.printer import Outside
    from tests.server.common import people

    call_command("migrate", verbosity=0)
    call_command("flush", verbosity=0, interactive=False)
    people()
    if demo:
        call_command("bench_demo")
    printer = Outside("Heron", 20.0)
    app = Application({"BENCH_PRINTERS": f"heron={printer.url}"})
    app.start_web()
    app.start_worker()
    with sync_playwright() as play:
        chromium = play.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
        page = chromium.new_page(viewport={"width": 1280, "height": 800})
        page.set_default_timeout(90_000)
        try:
            page.goto(app.address)
            page.get_by_label("Name").fill("mira")
            page.get_by_label("Password").fill("plaster-and-light")
            page.get_by_role("button", name="Sign in").click()
            page.get_by_role("heading", name="Rack", exact=True).wait_for()
            yield page, app.address
        finally:
            chromium.close()
            app.stop()
            printer.close()


def _settled(page: Page) -> None:
    """Everything in full on the stage, and the eye at rest."""
    page.wait_for_function(
        "() => { const s = document.querySelector('[data-testid=stage]')?.dataset; return s && s.drawn > 0 && s.full === s.drawn; }"
    )
    page.wait_for_timeout(1800)


def take(folder: Path) -> None:
    with application(demo=True) as (page, address):

        def shot(name: str) -> None:
            page.mouse.move(640, 5)
            page.screenshot(path=folder / f"{name}.png")

        page.wait_for_function(
            "() => document.querySelectorAll('a[aria-label^=Case] img').length >= 10 && !document.body.innerText.includes('Working:')"
            " && !document.body.innerText.includes('Waits for its turn')",
            timeout=500_000,
        )
        page.wait_for_timeout(600)
        page.get_by_role("link", name=re.compile("^Case .*hand-off")).first.click()
        page.get_by_role("heading", name="Hand-off").wait_for()
        for keys, name in (("Alt+1", "intake"), ("Alt+3", "level"), ("Alt+4", "trim")):
            page.keyboard.press(keys)
            _settled(page)
            shot(name)
        page.keyboard.press("Alt+0")
        page.get_by_role("button", name="Make the files").click()
        page.get_by_role("link", name=re.compile("^All as")).wait_for()
        _settled(page)
        shot("hand-off")
        page.get_by_role("link", name="Proof sheet").click()
        page.get_by_label("Went out, measured on the files as they were read back").get_by_text("triangles").first.wait_for()
        page.wait_for_timeout(600)
        shot("proof")
        page.go_back()
        page.get_by_role("heading", name="Hand-off").wait_for()
        _settled(page)
        page.keyboard.press("d")
        page.wait_for_timeout(500)
        shot("details")
        page.keyboard.press("d")
        _by_hand(page, shot)
        _bite(page, shot)
        _hollow(page, shot)
        _study(page, shot)
        page.keyboard.press("?")
        page.wait_for_timeout(400)
        shot("keys")
        page.goto(f"{address}/house")
        page.get_by_role("heading", name="House settings").wait_for()
        page.wait_for_timeout(600)
        shot("house")
        page.goto(address)
        page.get_by_label("Printers").wait_for()
        page.wait_for_timeout(1500)
        shot("rack")


def _by_hand(page: Page, shot: Callable[[str], None]) -> None:
    """A fence round what goes, of the near side alone, with all that was done by hand on the card."""
    page.keyboard.press("Alt+4")
    page.get_by_role("tab", name=re.compile("Lower")).click()
    _settled(page)
    page.keyboard.press("1")
    page.keyboard.press("Shift+O")
    page.get_by_role("button", name="near side").click()
    _settled(page)
    box = page.get_by_test_id("stage").bounding_box()
    assert box
    for x, y in ((0.42, 0.66), (0.58, 0.66), (0.58, 0.78), (0.42, 0.78), (0.42, 0.66)):
        page.mouse.click(box["x"] + x * box["width"], box["y"] + y * box["height"])
        page.wait_for_timeout(80)
    page.get_by_role("list", name="Done by hand").wait_for()
    page.wait_for_timeout(3000)
    shot("by-hand")
    page.keyboard.press("Control+z")
    page.keyboard.press("Escape")


def _opened(page: Page, patient: str, keys: str) -> None:
    """A case from the rack, at the step of these keys."""
    page.keyboard.press("Alt+r")
    page.get_by_role("link", name=re.compile("^Case ")).filter(has_text=patient).click()
    page.get_by_label("Run sheet").wait_for()
    page.keyboard.press(keys)
    _settled(page)


def _study(page: Page, shot: Callable[[str], None]) -> None:
    """The pair that is squared like a study model, with the frame its height is pulled by."""
    _opened(page, "Demonstration set 2", "Alt+5")
    page.keyboard.press("Shift+H")
    _settled(page)
    shot("base")
    page.keyboard.press("Shift+H")


def _hollow(page: Page, shot: Callable[[str], None]) -> None:
    """The case that is made hollow, labelled and pinned, and goes to the printer."""
    _opened(page, "Rosalind Quayle", "Alt+6")
    page.keyboard.press("y")
    _settled(page)
    shot("hollow")
    page.keyboard.press("y")
    for keys, name in (("Alt+7", "label"), ("Alt+8", "articulate")):
        page.keyboard.press(keys)
        _settled(page)
        shot(name)
    page.keyboard.press("Alt+9")
    waits = page.get_by_label("Doubts").get_by_role("button", name="Accept as it is")
    page.wait_for_timeout(1000)
    while waits.count():
        waits.first.click()
        page.wait_for_timeout(800)
    page.get_by_role("button", name=re.compile("print on Heron", re.IGNORECASE)).click()
    page.get_by_test_id("print").filter(has_text="printing, layer").wait_for()
    _settled(page)
    shot("plate")
    _plates(page, shot)


def _plates(page: Page, shot: Callable[[str], None]) -> None:
    """The bodies of two cases on one plate, cut open by the layer ruler."""
    page.keyboard.press("Alt+p")
    page.get_by_role("button", name="Begin a plate").click()
    page.get_by_label("Card").get_by_role("combobox", name="Printer").select_option("heron")
    for _ in range(2):
        page.get_by_label("Shelf").get_by_role("button", name=re.compile("^All")).first.click()
        page.wait_for_timeout(1500)
    page.get_by_label("Layer ruler").get_by_text(re.compile(r"Layer 1 of \d+")).wait_for()
    page.wait_for_timeout(3000)
    page.get_by_role("slider", name="Layer").focus()
    for _ in range(14):
        page.keyboard.press("Shift+ArrowRight")
    page.wait_for_timeout(2500)
    shot("plates")
    page.keyboard.press("Alt+r")


def _bite(page: Page, shot: Callable[[str], None]) -> None:
    """The case whose bite came as two scans."""
    page.keyboard.press("Alt+r")
    page.get_by_role("link", name=re.compile("^Case ")).filter(has_text="Bram Oxenhale").click()
    page.get_by_label("Run sheet").wait_for()
    page.keyboard.press("Alt+2")
    _settled(page)
    shot("bite")
    page.keyboard.press("b")
    _settled(page)
    shot("book")
    page.keyboard.press("b")
    page.get_by_role("button", name="Marks").first.click()
    _settled(page)
    for left, down in ((0.3, 0.47), (0.74, 0.45), (0.29, 0.57), (0.74, 0.57)):
        box = page.get_by_test_id("stage").bounding_box()
        assert box
        page.mouse.move(box["x"] + left * box["width"], box["y"] + down * box["height"])
        page.mouse.click(box["x"] + left * box["width"], box["y"] + down * box["height"])
        page.wait_for_timeout(900)
    page.wait_for_timeout(4000)
    shot("marks")
    page.get_by_role("button", name="Done with marks").click()


if __name__ == "__main__":
    take(Path(sys.argv[1]))
