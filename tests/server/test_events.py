"""What every open browser hears, and many hands on one case at once."""

from __future__ import annotations

import asyncio
import json
import threading
from collections import Counter

from asgiref.sync import sync_to_async
from django.db import connection, connections
from django.test import AsyncClient, TransactionTestCase

from cases.models import Case
from runs.services import announce
from tests.server.common import clear_state, client, drop, people, post, scan
from tests.shapes import light_jaws as jaws


def prepared() -> tuple[str, str]:
    """(case number, session of mira)."""
    clear_state()
    people()
    mira = client("mira")
    number = drop(mira, ("s.stl", scan(jaws(21)[1]))).json()["number"]
    return number, mira.cookies["sessionid"].value


class StreamTest(TransactionTestCase):
    async def heard(self, session: str, act, count: int) -> list[dict]:  # noqa: ANN001
        """The first events of a stream, `act` done once it has opened."""
        web = AsyncClient()
        web.cookies["sessionid"] = session
        answer = await web.get("/api/events")
        self.assertEqual((answer.status_code, answer["Content-Type"]), (200, "text/event-stream"))
        out: list[dict] = []

        async def listen() -> None:
            acted = False
            async for part in answer:
                for line in part.decode().splitlines():
                    if line.startswith("data: "):
                        out.append(json.loads(line[6:]))
                # The second 'again' says that the listening connection stands.
                if len(out) >= 2 and not acted:
                    acted = True
                    await sync_to_async(act, thread_sensitive=True)()
                if len(out) >= count:
                    return

        await asyncio.wait_for(listen(), 20)
        return out

    async def test_revisions_and_progress_reach_an_open_page(self) -> None:
        number, session = await sync_to_async(prepared, thread_sensitive=True)()

        def act() -> None:
            announce({"case": number, "kind": "progress", "working": {"trim/p1": {"fraction": 0.5}}})
            tove = client("tove")
            post(tove, f"/api/cases/{number}/settings", {"base": 1, "step": "base", "values": {"thickness_mm": 3.0}})

        events = await self.heard(session, act, 4)
        kinds = [e["kind"] for e in events]
        self.assertEqual(kinds[:2], ["again", "again"])
        self.assertEqual(events[2]["working"]["trim/p1"]["fraction"], 0.5)
        self.assertEqual((events[3]["kind"], events[3]["revision"]), ("revision", 2))

    async def test_nobody_signed_in_hears_nothing(self) -> None:
        answer = await AsyncClient().get("/api/events")
        self.assertEqual(answer.status_code, 401)


class ManyHandsTest(TransactionTestCase):
    def test_no_revision_is_lost_or_doubled(self) -> None:
        number, _ = prepared()
        answers: Counter = Counter()

        def hand(name: str, step: str, key: str) -> None:
            try:
                who = client(name)
                for i in range(8):
                    base = who.get(f"/api/cases/{number}").json()["revision"]
                    values = {key: 1.0 + i / 10}
                    body = {"base": base, "step": step, "values": values}
                    answers[post(who, f"/api/cases/{number}/settings", body).status_code] += 1
            finally:
                connections.close_all()

        hands = [
            threading.Thread(target=hand, args=args)
            for args in (("mira", "base", "thickness_mm"), ("tove", "trim", "ease_mm"), ("mira", "plate", "gap_mm"))
        ]
        for thread in hands:
            thread.start()
        for thread in hands:
            thread.join()
        self.assertEqual(answers, Counter({200: 24}))
        numbers = list(Case.objects.get(number=number).revisions.order_by("number").values_list("number", flat=True))
        self.assertEqual(numbers, list(range(1, len(numbers) + 1)))
        document = Case.objects.get(number=number).document  # type: ignore[union-attr]
        for step, key in (("base", "thickness_mm"), ("trim", "ease_mm"), ("plate", "gap_mm")):
            self.assertEqual(document["settings"][step]["*"][key], 1.7)
        self.assertEqual(Case.objects.get(number=number).revision, len(numbers))
        connection.close()

    def test_cases_opened_at_once_have_numbers_of_their_own(self) -> None:
        clear_state()
        people()
        numbers: list[str] = []
        data = scan(jaws(21)[1])

        def opener() -> None:
            try:
                numbers.append(drop(client("mira"), ("s.stl", data)).json()["number"])
            finally:
                connections.close_all()

        hands = [threading.Thread(target=opener) for _ in range(4)]
        for thread in hands:
            thread.start()
        for thread in hands:
            thread.join()
        self.assertEqual(len(set(numbers)), 4, numbers)
