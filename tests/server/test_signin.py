"""Who comes in: waits that grow, the same answer for unknown names, the first account, streams that end with the session."""

from __future__ import annotations

import asyncio
import json
import os
import subprocess
import sys
import time
from datetime import timedelta
from unittest.mock import patch

from asgiref.sync import sync_to_async
from axes.models import AccessAttempt
from django.contrib.auth.models import User
from django.contrib.sessions.models import Session
from django.test import AsyncClient, Client, TestCase, TransactionTestCase, override_settings
from django.utils import timezone

from accounts.waiting import wait_after
from tests.server.common import clear_state, client, people, post


def attempt(name: str, password: str, who: Client | None = None, address: str = "127.0.0.1"):  # noqa: ANN201
    who = who or Client(enforce_csrf_checks=True)
    token = who.get("/api/me").json()["csrf"]
    headers = {"X-CSRFToken": token}
    return who.post("/api/sign-in", {"name": name, "password": password}, "application/json", headers=headers, REMOTE_ADDR=address)


class WaitingTest(TestCase):
    @classmethod
    def setUpTestData(cls) -> None:
        people()

    def later(self, seconds: float) -> None:
        """As if so much time had passed."""
        for row in AccessAttempt.objects.all():
            AccessAttempt.objects.filter(pk=row.pk).update(attempt_time=row.attempt_time - timedelta(seconds=seconds))

    def test_an_account_waits_longer_each_time(self) -> None:
        for _ in range(5):
            self.assertIn(attempt("mira", "x").status_code, (403, 429))
        self.assertEqual(attempt("mira", "plaster-and-light").json()["code"], "wait")
        self.later(29)
        self.assertEqual(attempt("mira", "plaster-and-light").status_code, 429)
        self.later(2)
        self.assertEqual(attempt("mira", "x").status_code, 429)  # tried, wrong, and the next wait has begun
        self.later(31)
        self.assertEqual(attempt("mira", "plaster-and-light").status_code, 429)
        self.later(30)
        self.assertEqual(attempt("mira", "plaster-and-light").status_code, 200)
        self.assertEqual(attempt("mira", "x").status_code, 403)  # after a success it begins anew

    def test_a_colleague_who_types_it_wrong_keeps_nobody_else_out(self) -> None:
        for _ in range(40):
            attempt("mira", "x")
            self.later(3700)
        for _ in range(8):
            attempt("mira", "x")
        self.assertEqual(attempt("mira", "plaster-and-light").json()["code"], "wait")
        self.assertEqual(attempt("tove", "plaster-and-light").status_code, 200)

    def test_tries_while_one_waits_do_not_count(self) -> None:
        for _ in range(30):
            attempt("mira", "x")
        self.later(31)
        self.assertEqual(attempt("mira", "plaster-and-light").status_code, 200)

    def test_neither_another_browser_nor_another_address_gets_round_it(self) -> None:
        for i in range(5):
            attempt("mira", "x", Client(enforce_csrf_checks=True, headers={"User-Agent": f"browser {i}"}), f"10.0.0.{i}")
        self.assertEqual(attempt("mira", "plaster-and-light", address="10.0.0.99").status_code, 429)

    def test_an_address_that_tries_many_names_waits(self) -> None:
        for i in range(20):
            attempt(f"name{i}", "x", address="10.0.0.7")
        self.assertEqual(attempt("tove", "plaster-and-light", address="10.0.0.7").status_code, 429)
        self.assertEqual(attempt("tove", "plaster-and-light", address="10.0.0.8").status_code, 200)

    def test_unknown_names_get_the_same_answers(self) -> None:
        answers = []
        for name in ("mira", "nobody-at-all"):
            seen = [attempt(name, "x") for _ in range(7)]
            answers.append([(a.status_code, a.json()["code"], a.json()["message"].split(" s,")[0][:22]) for a in seen])
        self.assertEqual(answers[0], answers[1])

    def test_waits(self) -> None:
        self.assertEqual([wait_after(n).total_seconds() for n in (0, 4, 5, 6, 8, 12, 500)], [0, 0, 30, 60, 240, 3600, 3600])

    def test_another_sites_page_cannot_sign_anybody_in(self) -> None:
        who = Client(enforce_csrf_checks=True)
        answer = who.post("/api/sign-in", {"name": "mira", "password": "plaster-and-light"}, "application/json")
        self.assertEqual((answer.status_code, answer.json()["code"]), (403, "csrf"))

    def test_endless_words(self) -> None:
        started = time.monotonic()
        self.assertEqual(attempt("m" * 1_000_000, "x").status_code, 403)
        self.assertEqual(attempt("mira", "x" * 3_000_000).status_code, 403)
        self.assertLess(time.monotonic() - started, 5)


class FirstAccountTest(TestCase):
    def first(self, who: Client, name: str, password: str):  # noqa: ANN201
        who.get("/api/me")
        return post(who, "/api/first-account", {"name": name, "password": password})

    def test_a_fresh_installation_asks_once(self) -> None:
        who = Client(enforce_csrf_checks=True)
        self.assertTrue(who.get("/api/me").json()["first"])
        self.assertEqual(self.first(who, "anna", "short").status_code, 422)
        self.assertEqual(self.first(who, "a\nb", "plaster-and-light").status_code, 422)
        made = self.first(who, "anna", "plaster-and-light").json()
        self.assertEqual((made["person"]["name"], made["person"]["lead"], made["first"]), ("anna", True, False))
        again = Client(enforce_csrf_checks=True)
        self.assertFalse(again.get("/api/me").json()["first"])
        self.assertEqual(self.first(again, "eve", "plaster-and-light").status_code, 409)
        self.assertEqual(User.objects.count(), 1)


class CookieTest(TestCase):
    def test_a_late_answer_to_an_ended_session_leaves_the_new_one_alone(self) -> None:
        people()
        mira = client("mira")
        Session.objects.all().delete()
        for path in ("/api/me", "/api/cases/trays"):
            self.assertNotIn("sessionid", mira.get(path).cookies, path)
        self.assertNotIn("sessionid", post(mira, "/api/cases/blank").cookies)
        again = client("mira")
        self.assertEqual(post(again, "/api/sign-out").cookies["sessionid"].value, "")

    def test_behind_tls_the_cookie_is_for_tls_alone(self) -> None:
        """BENCH_TLS=1 sets these (config/settings.py)."""
        people()
        with override_settings(SESSION_COOKIE_SECURE=True):
            answer = attempt("mira", "plaster-and-light")
        self.assertTrue(answer.cookies["sessionid"]["secure"])
        self.assertTrue(answer.cookies["sessionid"]["httponly"])

    def test_the_environment_says_so(self) -> None:
        names = "SESSION_COOKIE_SECURE", "CSRF_COOKIE_SECURE", "SECURE_HSTS_SECONDS", "CSRF_TRUSTED_ORIGINS"
        script = f"from config import settings as s; import json; print(json.dumps([getattr(s, n) for n in {names}]))"
        for tls, hosts in (("1", "lab.example"), ("", "")):
            env = {**os.environ, "BENCH_TLS": tls, "BENCH_HOSTS": hosts}
            found = json.loads(subprocess.run([sys.executable, "-c", script], env=env, capture_output=True, check=True).stdout)
            self.assertEqual(found[:2], [tls == "1"] * 2)
            self.assertEqual(found[2] > 0, tls == "1")
            self.assertEqual("https://lab.example" in found[3], tls == "1")


class StreamEndTest(TransactionTestCase):
    async def heard(self, act) -> bool:  # noqa: ANN001
        """Does the stream end once `act` was done?"""

        def prepare() -> Client:
            clear_state()
            people()
            return client("mira")

        mira = await sync_to_async(prepare, thread_sensitive=True)()
        web = AsyncClient()
        web.cookies["sessionid"] = mira.cookies["sessionid"].value
        answer = await web.get("/api/events")

        async def listen() -> None:
            acted, seen = False, 0
            async for part in answer:
                seen += part.count(b"data: ")
                if seen >= 2 and not acted:
                    acted = True
                    await sync_to_async(act, thread_sensitive=True)(mira)

        try:
            await asyncio.wait_for(listen(), 6)
        except TimeoutError:
            return False
        return True

    async def test_signing_out_ends_it(self) -> None:
        self.assertTrue(await self.heard(lambda mira: post(mira, "/api/sign-out")))

    async def test_so_does_an_account_that_is_closed(self) -> None:
        with patch("runs.events._PING_S", 0.3):
            self.assertTrue(await self.heard(lambda mira: User.objects.update(is_active=False)))

    async def test_another_ones_does_not(self) -> None:
        self.assertFalse(await self.heard(lambda mira: post(client("tove"), "/api/sign-out")))


class ClockTest(TestCase):
    def test_what_is_remembered_goes_after_a_day(self) -> None:
        people()
        attempt("mira", "x")
        AccessAttempt.objects.update(attempt_time=timezone.now() - timedelta(hours=25))
        attempt("tove", "x")
        self.assertEqual(list(AccessAttempt.objects.values_list("username", flat=True)), ["tove"])
