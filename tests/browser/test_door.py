"""Coming in: a session that ends while a case is open, the first account of a fresh house, a disk that fills up, the veil."""

from __future__ import annotations

import os
import re

from django.contrib.auth.models import User
from django.contrib.sessions.models import Session
from playwright.sync_api import APIResponse, Route

from cases.models import Case
from tests.browser.harness import BrowserCase, scan
from tests.server.common import until
from tests.shapes import light_jaws as jaws


class SessionEndTest(BrowserCase):
    def again(self, name: str = "mira") -> None:
        dialog = self.page.get_by_role("dialog", name="Sign in again")
        dialog.get_by_label("Name").fill(name)
        dialog.get_by_label("Password").fill("plaster-and-light")
        dialog.get_by_role("button", name="Sign in").click()
        dialog.wait_for(state="detached")

    def test_a_session_that_ends_leads_back_to_the_same_place_with_nothing_lost(self) -> None:
        number = self.open_pair()
        self.page.keyboard.press("Alt+5")
        # Half-typed words stay, and what is sent when it has ended (the field is left as the question comes) is done after all.
        self.page.keyboard.press("d")
        notes = self.page.get_by_role("textbox", name="Notes")
        notes.fill("half a thou")
        Session.objects.all().delete()
        self.page.get_by_text("Your session has ended").wait_for()
        self.again()
        self.assertTrue(self.page.url.endswith(f"/case/{number}"))
        kept = Case.objects.get(number=number)
        until(lambda: notes.input_value()[:11] == "half a thou" and Case.objects.get(pk=kept.pk).document["notes"] == "half a thou")
        # Events come again: a change by a colleague is heard.
        tove = self.signed_in("tove")
        tove.goto(f"{self.app.address}/case/{number}")
        self.step("Base", tove).click()
        field = tove.get_by_label("Card").get_by_label("Under the lowest point", exact=True)
        field.fill("3.5")
        field.press("Enter")
        self.page.get_by_text("Tove Ashgrove changed this case").wait_for(timeout=180_000)

    def test_a_drop_on_its_way_goes_on_after_signing_in(self) -> None:
        Session.objects.all().delete()
        upper, lower = jaws(61)
        self.drop(("a.stl", scan(upper)), ("b.stl", scan(lower)))
        self.page.get_by_text("Your session has ended").wait_for()
        self.again()
        self.page.wait_for_url(re.compile("/case/"))

    def test_an_answer_from_before_that_comes_late_does_not_ask_again(self) -> None:
        late: list[tuple[Route, APIResponse]] = []

        def hold(route: Route) -> None:
            # The second goes its way; a rule that ends by itself can end while the second is held, which then stays so.
            route.continue_() if late else late.append((route, route.fetch()))

        self.page.route("**/api/cases/drop", hold)
        Session.objects.all().delete()
        upper, lower = jaws(61)
        self.drop(("a.stl", scan(upper)), ("b.stl", scan(lower)))
        self.again()
        self.assertEqual(late[0][1].status, 401)
        late[0][0].fulfill(response=late[0][1])
        self.page.wait_for_url(re.compile("/case/"))

    def test_signing_out_is_no_end_that_came_by_itself(self) -> None:
        self.page.get_by_label("Mira Tallow: menu").click()
        self.page.get_by_role("button", name="Sign out").click()
        self.page.get_by_role("button", name="Sign in").wait_for()
        self.page.wait_for_timeout(3000)
        self.assertEqual(self.page.get_by_text("Your session has ended").count(), 0)

    def test_the_veil_hides_on_every_panel(self) -> None:
        self.drop(("Pellathorn_upper.stl", scan(jaws(3)[0])), ("Pellathorn_lower.stl", scan(jaws(3)[1])))
        self.page.wait_for_url(re.compile("/case/"))
        self.wait_state("Plate", "done")
        self.page.keyboard.press("d")
        self.page.get_by_label("Patient").fill("Corwin Pellathorn")
        self.page.get_by_label("Notes").fill("Pellathorn grinds")
        self.page.get_by_label("Practice").click()
        self.page.get_by_text("Corwin Pellathorn", exact=False).first.wait_for()
        self.page.keyboard.press("Escape")
        self.page.locator("body").click(position={"x": 5, "y": 5})
        self.page.keyboard.press("v")
        self.page.get_by_text("Patients' names are veiled").wait_for()
        for key in ("d", "h", "Alt+1", "Alt+2", "Alt+9"):
            self.page.keyboard.press(key)
            self.page.wait_for_timeout(400)
            self.assertNotIn("Pellathorn", self.page.content(), key)
        self.page.keyboard.press("Shift+Escape")
        self.page.get_by_role("heading", name="Rack", exact=True).wait_for()
        self.page.wait_for_timeout(500)
        self.assertNotIn("Pellathorn", self.page.content())
        self.assertNotIn("Pellathorn", self.page.title())


class FreshHouseTest(BrowserCase):
    """An installation without demo data and with a disk that is nearly full."""

    @classmethod
    def setUpClass(cls) -> None:
        os.environ["BENCH_DISK_LOW_MB"] = "10000000"
        try:
            super().setUpClass()
        finally:
            os.environ["BENCH_DISK_LOW_MB"] = "0"
        User.objects.all().delete()

    def setUp(self) -> None:
        context = self.chromium.new_context(viewport={"width": 1280, "height": 800})
        self.addCleanup(context.close)
        self.page = context.new_page()
        self.addCleanup(self.tell)

    def test_the_first_account_is_made_in_the_browser_once(self) -> None:
        page = self.page
        page.goto(self.app.address)
        page.get_by_text("Nobody has an account here yet").wait_for()
        page.get_by_label("Name").fill("anna")
        page.get_by_label("Password", exact=True).fill("short")
        page.get_by_label("Password once more").fill("other")
        page.get_by_role("button", name="Make the first account").click()
        page.get_by_text("The two passwords are not the same.").wait_for()
        page.get_by_label("Password once more").fill("short")
        page.get_by_role("button", name="Make the first account").click()
        page.get_by_text("too short").wait_for()
        page.get_by_label("Password", exact=True).fill("plaster-and-light")
        page.get_by_label("Password once more").fill("plaster-and-light")
        page.get_by_role("button", name="Make the first account").click()
        page.get_by_role("heading", name="The rack is empty").wait_for()
        page.get_by_text(re.compile(r"Disk: [\d.]+ GB left")).wait_for()
        self.assertTrue(User.objects.get(username="anna").groups.filter(name="lead").exists())
