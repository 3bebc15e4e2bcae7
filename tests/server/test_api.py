"""The API under requests made from its own description, with and without a session: nothing breaks, every refusal is said.

BENCH_API_EXAMPLES says how many requests each address gets (./bench fuzz takes 200)."""

from __future__ import annotations

import json
import os
from typing import Any

import schemathesis
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client, tag
from django.test.client import encode_multipart
from hypothesis import HealthCheck, Phase, given, seed, settings, strategies

from config.api import api
from tests.server.common import pair
from tests.server.test_cases import ServerCase

EXAMPLES = int(os.environ.get("BENCH_API_EXAMPLES", "4"))


class ApiTest(ServerCase):
    def test_with_a_session(self) -> None:
        number = self.opened()
        self.every(self.mira, number)
        # Whatever was done to it: the rack stands, and another case opens.
        self.assertEqual(self.mira.get("/api/cases").status_code, 200)

    @tag("long")
    def test_as_a_lead(self) -> None:
        self.every(self.tove, self.opened())

    def test_without_a_session(self) -> None:
        number = self.opened()
        before = self.read(number)
        self.every(Client(), number)
        self.assertEqual(self.read(number), before)

    def every(self, who: Client, number: str) -> None:
        schema = schemathesis.openapi.from_dict(json.loads(json.dumps(api.get_openapi_schema(), default=str)))
        for found in schema.get_all_operations():
            operation = found.ok()
            if operation.path == "/api/sign-out":
                continue  # the session is needed for the rest
            with self.subTest(operation.label):
                self.asked(who, operation, number)

    def asked(self, who: Client, operation: Any, number: str) -> None:
        @seed(7)
        @settings(
            max_examples=EXAMPLES, deadline=None, database=None, suppress_health_check=list(HealthCheck),
            phases=(Phase.explicit, Phase.generate),
        )  # fmt: skip
        @given(case=operation.as_strategy(), real=strategies.booleans(), base=strategies.integers(-2, 40))
        def one(case: Any, real: bool, base: int) -> None:
            if real and "number" in (case.path_parameters or {}):
                case.path_parameters["number"] = number
            if isinstance(case.body, dict) and "base" in case.body:
                case.body["base"] = base
            answer = self.send(who, case)
            self.assertLess(answer.status_code, 500, f"{operation.label}: {case.body!r:.300}")
            if answer.status_code >= 400:
                said = answer.json()
                self.assertTrue(said["code"] and said["message"], operation.label)

        one()

    def send(self, who: Client, case: Any) -> Any:
        token = who.cookies["csrftoken"].value if "csrftoken" in who.cookies else ""
        query = {k: v for k, v in (case.query or {}).items() if isinstance(v, (str, int, bool, list))}
        path = case.formatted_path
        headers = {"X-CSRFToken": token}
        if case.media_type == "multipart/form-data":
            body = encode_multipart("x", {"files": SimpleUploadedFile("a.stl", pair()[0][1][:2000])})
            return who.generic(case.method, path, body, "multipart/form-data; boundary=x", headers=headers)
        body = b"" if case.body is None or type(case.body).__name__ == "NotSet" else json.dumps(case.body, default=str).encode()
        return who.generic(case.method, path, body, "application/json", query_params=query, headers=headers)
