"""Print the API's description, for the generated client."""

from __future__ import annotations

import json
from typing import Any

from django.core.management.base import BaseCommand


class Command(BaseCommand):
    help = "Print the OpenAPI document."
    requires_system_checks: list[str] = []

    def handle(self, *args: Any, **options: Any) -> None:
        from config.api import api

        self.stdout.write(json.dumps(api.get_openapi_schema(), indent=1, sort_keys=True, default=str))
